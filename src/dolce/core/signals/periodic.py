"""Test signals that repeat: a maximum length sequence and pink noise."""

from dataclasses import dataclass
from functools import cached_property
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.core.signals.noise import pink_noise
from dolce.errors import InvalidValue

_LEAST_PERIOD_S = 2.0  # longer than a small room rings: what rings on would come back at the beginning
_SEED = 7
_PHASES_TRIED = 32  # the draw with the lowest peaks is played
_FADE_S = 0.02
_FULL_SINE_RMS = np.sqrt(0.5)


@dataclass(frozen=True, kw_only=True)
class PeriodicSignal:
    """One period, played once to fill the room and then as often as the length asked for allows; those are averaged.

    Attributes
    ----------
    kind : "sequence" or "pink"
        A maximum length sequence (white, -1 and 1), or pink noise of random phases.
    start_hz, stop_hz : float
        What is read of it; pink noise has nothing else. A sequence is white up to half the sample rate.
    duration_s : float
        At most so long, two periods at least. 1 to 60 s.
    level_dbfs : float
        RMS as AES17 counts it: a full-scale sine is 0 dBFS.

    References
    ----------
    D. D. Rife and J. Vanderkooy, "Transfer-function measurement with maximum-length sequences", JAES 37, 419-444
    (1989).
    """

    kind: Literal["sequence", "pink"]
    start_hz: float = 10.0
    stop_hz: float = 22_000.0
    duration_s: float = limited(1, 60, where="signal length", unit="s", default=5.0)
    sample_rate_hz: int = limited(8_000, 192_000, where="sample rate", unit="Hz", whole=True, default=48_000)
    level_dbfs: float = limited(-90, 0, where="signal level", unit="dBFS", default=-18.0)

    def __post_init__(self) -> None:
        ranges(self)
        if self.kind not in ("sequence", "pink"):
            raise InvalidValue(
                f"{self.kind!r} is no signal that repeats.",
                where="test signal",
                remedy="Choose a sequence or pink noise.",
            )
        if not 0 < self.start_hz < self.stop_hz < self.sample_rate_hz / 2:
            raise InvalidValue(
                f"{self.start_hz:g} to {self.stop_hz:g} Hz does not fit.",
                where="signal range",
                remedy=f"Stay between 0 and {self.sample_rate_hz / 2:g} Hz.",
            )

    @property
    def order(self) -> int:
        """Of the sequence: the smallest whose period is long enough."""
        return int(np.ceil(np.log2(_LEAST_PERIOD_S * self.sample_rate_hz + 1)))

    @property
    def period(self) -> int:
        """Samples; that of pink noise is as long as its transform likes it."""
        return 2**self.order - (self.kind == "sequence")

    @property
    def averaged(self) -> int:
        """Periods that are averaged, behind the one that fills the room."""
        return max(1, int(self.duration_s * self.sample_rate_hz) // self.period - 1)

    @cached_property
    def one_period(self) -> NDArray[np.float64]:
        """Shape (period,), full scale 1; its peaks may be above that."""
        rms = 10 ** (self.level_dbfs / 20) * _FULL_SINE_RMS
        if self.kind == "sequence":
            bits, _ = scipy.signal.max_len_seq(self.order)
            return rms * (2.0 * bits - 1.0)
        rng = np.random.default_rng(_SEED)
        drawn = (
            pink_noise(
                samples=self.period,
                sample_rate_hz=self.sample_rate_hz,
                level_dbfs=-40.0,
                rng=rng,
                band_hz=(self.start_hz, self.stop_hz),
            )
            for _ in range(_PHASES_TRIED)
        )
        lowest = min(drawn, key=lambda phases: float(np.abs(phases).max()))
        return lowest * 10 ** ((self.level_dbfs + 40.0) / 20)

    @property
    def size(self) -> int:
        """How many samples are played."""
        return (self.averaged + 1) * self.period + round(_FADE_S * self.sample_rate_hz)

    def samples(self) -> NDArray[np.float64]:
        """All periods, faded in, and faded out behind the last, shape (size,)."""
        played = np.tile(self.one_period, self.averaged + 1)
        fade = round(_FADE_S * self.sample_rate_hz)
        played[:fade] *= np.linspace(0, 1, fade)
        # The last period is faded behind its end: all of it is read.
        return np.concatenate([played, self.one_period[:fade] * np.linspace(1, 0, fade)])

    def folded(self, recording: NDArray[np.float64]) -> NDArray[np.float64]:
        """The mean of the periods behind the first, shape (period,).

        Raises
        ------
        InvalidValue
            If the recording is shorter than all periods.
        """
        wanted = (self.averaged + 1) * self.period
        if recording.size < wanted:
            raise InvalidValue(
                f"it lasts {recording.size / self.sample_rate_hz:.1f} s instead of "
                f"{wanted / self.sample_rate_hz:.1f} s.",
                where="recording",
                remedy="Keep the whole of it.",
            )
        return recording[self.period : wanted].reshape(self.averaged, self.period).mean(axis=0)
