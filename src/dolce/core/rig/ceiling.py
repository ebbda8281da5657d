"""A ceiling that no test sound exceeds: at the output by its samples, at the microphone by what it hears."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.levels import CLIPS_AT, SoundLevelMeter, peak_dbfs
from dolce.errors import Conflict

_ROUNDING_DB = 0.01
_HOWLS_AFTER_S = 0.4


@dataclass(frozen=True, slots=True, kw_only=True)
class Ceiling:
    """What nothing exceeds.

    Attributes
    ----------
    peak_dbfs : float
        Highest sample of any test sound, -60 to 0.
    spl_db : float or None
        Sound pressure at the microphone, Z and fast; 50 to 120. None for no such ceiling.
    full_scale_spl_db : float or None
        What makes dB SPL of the microphone's dBFS; without it `spl_db` can't be watched.
    """

    peak_dbfs: float = -6.0
    spl_db: float | None = None
    full_scale_spl_db: float | None = None

    def __post_init__(self) -> None:
        checked.within(self.peak_dbfs, low=-60, high=0, where="ceiling", unit="dBFS")
        if self.spl_db is not None:
            checked.within(self.spl_db, low=50, high=120, where="ceiling at the microphone", unit="dB SPL")

    @property
    def watches_pressure(self) -> bool:
        return self.spl_db is not None and self.full_scale_spl_db is not None

    def allows(self, samples: NDArray[np.float64]) -> None:
        """Nothing, or Conflict where a sample is above the ceiling: sound that is too loud is never begun."""
        peak = peak_dbfs(samples) if samples.size else -300.0
        if peak > self.peak_dbfs + _ROUNDING_DB:
            raise Conflict(f"this sound peaks at {peak:.1f} dBFS, above the ceiling of {self.peak_dbfs:g} dBFS.",
                           where="ceiling", remedy="Play it softer, or raise the ceiling on the Rig page.")


class CeilingWatch:
    """Hears what the microphone hears while something plays, block by block."""

    def __init__(self, ceiling: Ceiling, *, sample_rate_hz: int) -> None:
        self._ceiling, self._rate = ceiling, sample_rate_hz
        self._meter = SoundLevelMeter("Z", sample_rate_hz=sample_rate_hz,
                                      offset_db=ceiling.full_scale_spl_db or 0.0)
        self._clipping_s = 0.0

    def hear(self, samples: NDArray[np.float64], *, live: bool = False) -> None:
        """Nothing, or Conflict where the ceiling is passed.

        Live sound also ends where the microphone stays at the end of its range: that is feedback, or a gain that
        makes every figure worthless.
        """
        if self._ceiling.watches_pressure:
            level = self._meter.hear(samples).highest_fast_db
            if level > self._ceiling.spl_db:
                raise Conflict(f"{level:.0f} dB SPL at the microphone, above the ceiling of "
                               f"{self._ceiling.spl_db:g} dB. Sound was ended.", where="ceiling",
                               remedy="Play softer, or raise the ceiling on the Rig page.")
        if live and samples.size:
            clips = float(np.abs(samples).max()) >= CLIPS_AT
            self._clipping_s = self._clipping_s + samples.size / self._rate if clips else 0.0
            if self._clipping_s > _HOWLS_AFTER_S:
                raise Conflict("the microphone stays at the end of its range: feedback, or far too much gain. "
                               "Sound was ended.", where="microphone",
                               remedy="Switch off input monitoring in the interface, turn the gain down, and go on.")
