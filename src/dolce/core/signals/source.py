"""What a steady source plays: silence, tone, pink noise or a repeated sweep, block after block without a seam."""

from dataclasses import dataclass
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.cache import cache
from dolce.core.checked import limited, ranges
from dolce.core.dsp import dbfs_rms, fade_in, peak_dbfs
from dolce.core.signals.noise import pink_noise
from dolce.core.signals.sweep import Sweep
from dolce.errors import InvalidValue

Kind = Literal["silence", "tone", "pink", "band", "sweep"]
KINDS: dict[Kind, str] = {
    "silence": "Nothing",
    "pink": "Pink noise",
    "band": "Pink noise in a band",
    "tone": "Tone",
    "sweep": "Sweep, again and again",
}
PERIOD_S = 5.5
_SWEEP_S, _FADE_S = 4.5, 0.02


@dataclass(frozen=True, slots=True, kw_only=True)
class Source:
    """A steady sound at a level.

    Attributes
    ----------
    level_dbfs : float
        RMS as AES17 counts (a full-scale sine is 0 dBFS); for the sweep while it lasts. -90 to -3.
    frequency_hz : float
        Of the tone.
    band_hz : (float, float)
        Of "band": the lower and the upper end.
    """

    kind: Kind = "silence"
    level_dbfs: float = limited(-90, -3, where="level", unit="dBFS", default=-40.0)
    frequency_hz: float = limited(10, 22_000, where="frequency", unit="Hz", default=1000.0)
    band_hz: tuple[float, float] = (500.0, 2000.0)

    def __post_init__(self) -> None:
        if self.kind not in KINDS:
            raise InvalidValue(f"{self.kind!r} is not a source.", where="source", remedy=f"Choose {', '.join(KINDS)}.")
        ranges(self)
        low, high = self.band_hz
        checked.within(low, low=10, high=20_000, where="band from", unit="Hz")
        checked.within(high, low=10, high=22_000, where="band to", unit="Hz")
        if high < low * 1.1:
            raise InvalidValue(
                f"{low:g} to {high:g} Hz is upside down or too narrow.",
                where="band to",
                remedy=f"End at {low * 1.1:.0f} Hz or above.",
            )

    def peak_dbfs(self, sample_rate_hz: int) -> float:
        """Highest sample, full scale 1 being 0 dBFS."""
        if self.kind == "silence":
            return -np.inf
        if self.kind == "tone":
            return self.level_dbfs
        _, peak = _period(self.kind, self.band_hz, sample_rate_hz)
        return self.level_dbfs + peak

    def block(self, start: int, count: int, *, sample_rate_hz: int) -> NDArray[np.float64]:
        """`count` samples from sample number `start` on, full scale 1."""
        if self.kind == "silence":
            return np.zeros(count)
        gain = 10 ** (self.level_dbfs / 20)
        if self.kind == "tone":
            # Phase modulo one second's worth keeps its precision for hours.
            return gain * np.sin(2 * np.pi * ((start + np.arange(count)) * self.frequency_hz / sample_rate_hz % 1.0))
        period, _ = _period(self.kind, self.band_hz, sample_rate_hz)
        return gain * period.take(np.arange(start, start + count), mode="wrap")


@cache(6)
def _period(kind: str, band_hz: tuple[float, float], sample_rate_hz: int) -> tuple[NDArray[np.float64], float]:
    """One period at 0 dBFS RMS (its peaks are above full scale), and its peak in dBFS."""
    samples = round(PERIOD_S * sample_rate_hz)
    if kind == "sweep":
        sweep = Sweep(
            start_hz=20,
            stop_hz=min(20_000, 0.45 * sample_rate_hz),
            duration_s=_SWEEP_S,
            sample_rate_hz=sample_rate_hz,
            level_dbfs=0.0,
        ).samples()
        period = np.concatenate([sweep, np.zeros(samples - sweep.size)])
    else:
        band = band_hz if kind == "band" else (20.0, 20_000.0)
        period = (
            pink_noise(
                samples=samples,
                sample_rate_hz=sample_rate_hz,
                level_dbfs=-40.0,
                band_hz=band,
                rng=np.random.default_rng(20),
            )
            * 100
        )
    period.flags.writeable = False
    return period, peak_dbfs(period)


class Steady(Protocol):
    """Anything that plays without an end."""

    @property
    def level_dbfs(self) -> float: ...

    def block(self, start: int, count: int, *, sample_rate_hz: int) -> NDArray[np.float64]: ...

    def peak_dbfs(self, sample_rate_hz: int) -> float: ...


class SourcePlayer:
    """Gives the blocks of a source that may be changed while it plays: what was fades out while the new fades in."""

    def __init__(self, source: Steady, *, output: int | None, sample_rate_hz: int) -> None:
        self._rate, self._at = sample_rate_hz, 0
        self._now, self._next = (source, output), (source, output)
        self._fading_in = True

    @property
    def playing(self) -> tuple[Steady, int | None]:
        """What is asked for: the source and its output (None for none)."""
        return self._next

    def change(self, source: Steady, *, output: int | None) -> None:
        """From the next block on."""
        self._next = (source, output)

    def next_block(self, count: int) -> tuple[int | None, NDArray[np.float64]]:
        """Output and samples of the next block. A change of output ends one block faded out, then begins anew."""
        source, output = self._now
        samples = source.block(self._at, count, sample_rate_hz=self._rate)
        fade = min(count, round(_FADE_S * self._rate))
        rise = fade_in(fade)
        if self._fading_in:
            samples[:fade] *= rise
        self._fading_in = False
        if self._next != self._now:
            if self._next[1] == output:
                samples[count - fade :] *= rise[::-1]
                coming = self._next[0].block(self._at, count, sample_rate_hz=self._rate)[count - fade :]
                samples[count - fade :] += rise * coming
            else:
                samples[count - fade :] *= rise[::-1]
                self._fading_in = True
            self._now = self._next
        self._at += count
        return output, samples


def stated_levels(source: Source, *, sample_rate_hz: int) -> tuple[float, float]:
    """RMS and peak that a source really has over one period, dBFS; measured on its samples."""
    samples = source.block(0, round(PERIOD_S * sample_rate_hz), sample_rate_hz=sample_rate_hz)
    return dbfs_rms(samples), peak_dbfs(samples)
