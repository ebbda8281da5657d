"""The reference level: what each channel should read at the main seat, and what is still to change."""

from dataclasses import dataclass

import numpy as np

from dolce.core import checked
from dolce.core.dsp import power_db, together_db
from dolce.core.levels import SUB_LEVEL_BAND_HZ, weighting_db
from dolce.core.signals import Source

NOISE_DBFS = -20.0  # RMS of full-range pink noise: common practice
# Common practice: 79 dB in small rooms, 82 in medium, 85 in large. Where one ends and the next begins is our choice.
BY_VOLUME_M3 = ((50.0, 79.0), (150.0, 82.0), (float("inf"), 85.0))
CHOICES_DB = (79.0, 82.0, 85.0)
SECOND_BELOW_DB = 6.0  # a second working level, to spare the ears
AGREES_DB = 0.5
FULL_BAND_HZ = (20.0, 20_000.0)
EFFECTS_ABOVE_DB = 10.0  # in band, against a main channel: common practice; ITU-R BS.775-3


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelLevel:
    """One channel against its goal, dB SPL, C and slow.

    Attributes
    ----------
    goal_db : what it should read
    read_db : what it read; None before
    """

    channel: str
    goal_db: float
    read_db: float | None

    @property
    def change_db(self) -> float | None:
        """How much louder it must become."""
        return None if self.read_db is None else self.goal_db - self.read_db

    @property
    def agrees(self) -> bool:
        return self.change_db is not None and abs(self.change_db) <= AGREES_DB


def suggested_level_db(volume_m3: float) -> float:
    """The level that suits a room of this volume, dB SPL with C and slow (common practice)."""
    checked.within(volume_m3, low=1, high=1e6, where="volume", unit="m³")
    return next(level for most, level in BY_VOLUME_M3 if volume_m3 <= most)


def reference_source(*, is_sub: bool) -> Source:
    """What a channel plays: pink noise at -20 dBFS RMS; a sub the part of that noise which lies in its band."""
    if not is_sub:
        return Source(kind="pink", level_dbfs=NOISE_DBFS)
    low, high = SUB_LEVEL_BAND_HZ
    share = power_db(np.log(high / low) / np.log(FULL_BAND_HZ[1] / FULL_BAND_HZ[0]))
    return Source(kind="band", band_hz=SUB_LEVEL_BAND_HZ, level_dbfs=NOISE_DBFS + float(share))


def goal_db(*, is_sub: bool, level_db: float, subs: int = 1, plays_effects: bool = False) -> float:
    """What a channel should read with its `reference_source`, dB SPL, C and slow.

    A main channel reads the level itself. A sub is level with the main channels when the noise is as dense in its band
    as theirs: it then reads less by the band's share of the whole noise, both through C. Several subs that play the
    same together, in phase, each read 20 lg n less.

    Parameters
    ----------
    plays_effects : bool
        The sub plays the effects channel, and nothing before it adds the 10 dB that this channel is louder in band.
    """
    if not is_sub:
        return level_db
    extra = EFFECTS_ABOVE_DB if plays_effects else 0.0
    return level_db + band_share_db(*SUB_LEVEL_BAND_HZ) + extra - together_db(subs)


def band_share_db(low_hz: float, high_hz: float) -> float:
    """C-weighted level of the part of pink noise between two frequencies, against the whole of it.

    With the 10 dB of the effects channel, 20-120 Hz comes to about +4 dB on the meter: the rule of thumb.
    """
    return _c_power_db(low_hz, high_hz) - _c_power_db(*FULL_BAND_HZ)


def _c_power_db(low_hz: float, high_hz: float) -> float:
    """C-weighted power of pink noise of one unit per natural logarithm of frequency."""
    logarithm = np.linspace(np.log(low_hz), np.log(high_hz), 400)
    weight = 10 ** (weighting_db(np.exp(logarithm), "C") / 10)
    return float(power_db(np.trapezoid(weight, logarithm)))
