"""A ceiling that no test sound exceeds: at the output by its samples, at the microphone by what it hears."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import limited, ranges
from dolce.core.dsp import peak_dbfs
from dolce.core.levels import CLIPS_AT, SoundLevelMeter
from dolce.core.rig.reference_level import suggested_level_db
from dolce.errors import Conflict

_ROUNDING_DB = 0.01
_HOWLS_AFTER_S = 0.4

ABOVE_WORKING_LEVEL_DB = 12.0  # what the modes of a small room add to a sweep at the working level
SWEEP_ABOVE_WORKING_LEVEL_DB = 6.0  # louder gains nothing but distortion and tired ears: our choice


def loudest_sweep_db(volume_m3: float) -> float:
    """What a sweep need not exceed at the microphone in a room of this volume, dB SPL."""
    return suggested_level_db(volume_m3) + SWEEP_ABOVE_WORKING_LEVEL_DB


SEAT_M = 2.0  # from a speaker, where closeness is counted from


def suggested_ceiling_db(volume_m3: float, *, distance_m: float | None = None) -> float:
    """The ceiling at the microphone that suits a room of this volume, dB SPL: well above its working level.

    `distance_m` is that of a microphone close to a speaker, louder there than at a seat: 6 dB for each halving.
    """
    closer = 0.0 if distance_m is None else max(0.0, 20 * float(np.log10(SEAT_M / distance_m)))
    return suggested_level_db(volume_m3) + ABOVE_WORKING_LEVEL_DB + closer


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

    peak_dbfs: float = limited(-60, 0, where="ceiling", unit="dBFS", default=-6.0)
    spl_db: float | None = limited(50, 120, where="ceiling at the microphone", unit="dB SPL", default=None)
    full_scale_spl_db: float | None = None

    def __post_init__(self) -> None:
        ranges(self)

    @property
    def watches_pressure(self) -> bool:
        return self.spl_db is not None and self.full_scale_spl_db is not None

    def allows(self, samples: NDArray[np.float64]) -> None:
        """Nothing, or Conflict where a sample is above the ceiling: sound that is too loud is never begun."""
        peak = peak_dbfs(samples) if samples.size else -300.0
        if peak > self.peak_dbfs + _ROUNDING_DB:
            raise Conflict(
                f"this sound peaks at {peak:.1f} dBFS, above the ceiling of {self.peak_dbfs:g} dBFS.",
                where="ceiling",
                remedy="Play it softer, or raise the ceiling on the Rig page.",
            )


class CeilingWatch:
    """Hears what the microphone hears while something plays, block by block."""

    def __init__(self, ceiling: Ceiling, *, sample_rate_hz: int) -> None:
        self._ceiling, self._rate = ceiling, sample_rate_hz
        self._meter = SoundLevelMeter("Z", sample_rate_hz=sample_rate_hz, offset_db=ceiling.full_scale_spl_db or 0.0)
        self._clipping_s = 0.0

    def hear(self, samples: NDArray[np.float64], *, live: bool = False) -> None:
        """Nothing, or Conflict where the ceiling is passed.

        Live sound also ends where the microphone stays at the end of its range: that is feedback, or a gain that
        makes every figure worthless.
        """
        ceiling = self._ceiling
        if ceiling.spl_db is not None and ceiling.watches_pressure:
            level = self._meter.hear(samples).highest_fast_db
            if level > ceiling.spl_db:
                raise Conflict(
                    f"{level:.0f} dB SPL at the microphone, above the ceiling of "
                    f"{ceiling.spl_db:g} dB. Sound was ended.",
                    where="ceiling",
                    remedy="Play softer, or raise the ceiling on the Rig page.",
                )
        if live and samples.size:
            clips = float(np.abs(samples).max()) >= CLIPS_AT
            self._clipping_s = self._clipping_s + samples.size / self._rate if clips else 0.0
            if self._clipping_s > _HOWLS_AFTER_S:
                raise Conflict(
                    "the microphone stays at the end of its range: feedback, or far too much gain. Sound was ended.",
                    where="microphone",
                    remedy="Switch off input monitoring in the interface, turn the gain down, and go on.",
                )
