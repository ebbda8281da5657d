"""By what a channel is corrected: bands, fixed bands, a convolution, or level and delay alone."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.checked import limited, ranges
from dolce.core.filters import linear_phase, minimum_phase, phase_compensated
from dolce.errors import InvalidValue

Method = Literal["bands", "fixed bands", "fixed and free bands", "convolution", "level only"]
METHODS: tuple[Method, ...] = ("bands", "fixed bands", "fixed and free bands", "convolution", "level only")
Phase = Literal["minimum", "linear", "mixed"]
PHASES: tuple[Phase, ...] = ("minimum", "linear", "mixed")
MOST_FIXED = 62
# IEC 61260-1 base-ten 1/3-octave bands as they are printed on equalisers, 20 Hz to 20 kHz.
THIRD_OCTAVES_HZ = (
    20.0,
    25.0,
    31.5,
    40.0,
    50.0,
    63.0,
    80.0,
    100.0,
    125.0,
    160.0,
    200.0,
    250.0,
    315.0,
    400.0,
    500.0,
    630.0,
    800.0,
    1000.0,
    1250.0,
    1600.0,
    2000.0,
    2500.0,
    3150.0,
    4000.0,
    5000.0,
    6300.0,
    8000.0,
    10_000.0,
    12_500.0,
    16_000.0,
    20_000.0,
)


@dataclass(frozen=True, slots=True, kw_only=True)
class FixedBands:
    """A graphic equaliser: where its bands stand, how wide they are, and what each can be set to."""

    centres_hz: tuple[float, ...] = THIRD_OCTAVES_HZ
    q: float = limited(0.3, 20, where="Q of the fixed bands", default=4.318)
    lowest_db: float = limited(-30, 0, where="lowest gain of the fixed bands", unit="dB", default=-12.0)
    highest_db: float = limited(0, 15, where="highest gain of the fixed bands", unit="dB", default=12.0)
    step_db: float = limited(0.05, 3, where="gain step of the fixed bands", unit="dB", default=0.5)

    def on_step(self, gain_db: float) -> float:
        """A gain on its steps.

        Raises
        ------
        InvalidValue
            Beyond its lowest or highest.
        """
        gain_db = round(gain_db / self.step_db) * self.step_db
        return round(
            checked.within(gain_db, low=self.lowest_db, high=self.highest_db, where="gain of the band", unit="dB"), 3
        )

    def __post_init__(self) -> None:
        ranges(self)
        if not 1 <= len(self.centres_hz) <= MOST_FIXED:
            raise InvalidValue(
                f"{len(self.centres_hz)} bands.",
                where="centres of the fixed bands",
                remedy=f"State 1 to {MOST_FIXED} frequencies.",
            )
        if len(self.centres_hz) > 1:
            checked.rising(self.centres_hz, where="centres of the fixed bands")
        for centre in self.centres_hz:
            checked.within(centre, low=10, high=22_000, where="centres of the fixed bands", unit="Hz")


@dataclass(frozen=True, slots=True, kw_only=True)
class FilterType:
    """How a channel is corrected.

    Attributes
    ----------
    method, phase : phase of a convolution
    duration_s : its length, the same at every rate
    before_s : the longest that may sound before the main arrival, for "mixed"
    fixed : FixedBands
    """

    method: Method = "bands"
    phase: Phase = "minimum"
    duration_s: float = limited(0.02, 2, where="length", unit="s", default=0.3)
    before_s: float = limited(0.001, 0.1, where="sound before", unit="s", default=0.02)
    fixed: FixedBands = FixedBands()

    def __post_init__(self) -> None:
        ranges(self)
        for value, known, where in ((self.method, METHODS, "method"), (self.phase, PHASES, "phase")):
            if value not in known:
                raise InvalidValue(f"{value!r} is not known.", where=where, remedy=f"Choose {', '.join(known)}.")


@dataclass(frozen=True, slots=True, kw_only=True)
class FoundConvolution:
    """A convolution by its level and phase, from which its impulse response follows at every rate.

    Attributes
    ----------
    at_hz, level_db : tuple
    phase, duration_s, before_s : as in `FilterType`
    compensated_hz, compensated_rad : tuple
        For "mixed": what all spots share of phase beyond the minimum, and is undone.
    """

    at_hz: tuple[float, ...]
    level_db: tuple[float, ...]
    phase: Phase = "minimum"
    duration_s: float = 0.3
    before_s: float = 0.02
    compensated_hz: tuple[float, ...] = ()
    compensated_rad: tuple[float, ...] = ()

    def impulse(self, *, sample_rate_hz: int, most_samples: int | None = None) -> NDArray[np.float64]:
        """Its impulse response at a rate, no longer than a device holds, shape (samples,)."""
        samples = self._samples(sample_rate_hz, most_samples)
        at, level = np.array(self.at_hz), np.array(self.level_db)
        if self.phase == "linear":
            return linear_phase(at, level, sample_rate_hz=sample_rate_hz, samples=samples)
        if self.phase == "mixed" and self.compensated_hz:
            return phase_compensated(
                at,
                level,
                np.array(self.compensated_hz),
                np.array(self.compensated_rad),
                sample_rate_hz=sample_rate_hz,
                samples=samples,
                before_s=self.delay_s(sample_rate_hz=sample_rate_hz, most_samples=most_samples),
            )
        return minimum_phase(at, level, sample_rate_hz=sample_rate_hz, samples=samples)

    def delay_s(self, *, sample_rate_hz: int, most_samples: int | None = None) -> float:
        """By how much the impulse response at a rate makes everything later, as it is after a device cuts it.

        Half of its length for linear phase; for mixed phase what may sound before, at most half of its length.
        """
        samples = self._samples(sample_rate_hz, most_samples)
        if self.phase == "linear":
            return (samples - 1) // 2 / sample_rate_hz
        if self.phase == "mixed" and self.compensated_hz:
            return min(round(self.before_s * sample_rate_hz), samples // 2) / sample_rate_hz
        return 0.0

    def _samples(self, sample_rate_hz: int, most_samples: int | None) -> int:
        samples = round(self.duration_s * sample_rate_hz)
        return samples if most_samples is None else min(samples, most_samples)
