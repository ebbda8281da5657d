"""Subs matched to each other: each alone, in the same way, until all read the same."""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

from dolce.core.checked import limited, ranges
from dolce.core.levels import SUB_LEVEL_BAND_HZ
from dolce.core.signals import Source

Placing = Literal["close", "same place"]
PLACINGS: dict[Placing, str] = {
    "close": "Microphone close to each cone, always at the same distance",
    "same place": "All subs in turn on one place, microphone unmoved",
}
USUAL_DISTANCE_M = 0.15  # from the cone: common practice
USUAL_TONE_HZ = 50.0  # above most ports' tuning: common practice
AGREE_DB = 0.1
_ABOVE_TUNING = 1.3  # nearer to it the port sounds and the cone hardly moves


@dataclass(frozen=True, slots=True, kw_only=True)
class SubMatch:
    """How the subs are compared.

    Attributes
    ----------
    sound : "tone" or "noise"
    tone_hz, tuning_hz : float, float or None
        Of the tone, and of the ports; None where the subs are closed or it isn't known.
    distance_m : float
        Of the microphone to each cone.
    step_db : float
        The finest step that the gains can be set in.
    """

    placing: Placing = "close"
    sound: Literal["tone", "noise"] = "noise"
    tone_hz: float = limited(20, 120, where="tone", unit="Hz", default=USUAL_TONE_HZ)
    tuning_hz: float | None = limited(10, 100, where="tuning", unit="Hz", default=None)
    distance_m: float = limited(0.02, 1.0, where="distance", unit="m", default=USUAL_DISTANCE_M)
    step_db: float = limited(0.05, 3, where="step", unit="dB", default=0.1)
    level_dbfs: float = limited(-60, -10, where="level", unit="dBFS", default=-40.0)

    def __post_init__(self) -> None:
        ranges(self)

    @property
    def source(self) -> Source:
        """What each sub plays."""
        if self.sound == "tone":
            return Source(kind="tone", frequency_hz=self.tone_hz, level_dbfs=self.level_dbfs)
        return Source(kind="band", band_hz=SUB_LEVEL_BAND_HZ, level_dbfs=self.level_dbfs)

    @property
    def lowest_tone_hz(self) -> float | None:
        """Where a tone may begin, clear of the ports' tuning; None where that isn't known."""
        return None if self.tuning_hz is None else _ABOVE_TUNING * self.tuning_hz

    @property
    def below_tuning(self) -> bool:
        """Whether the tone lies so low that a port, not the cone, would be compared, and the cone may overshoot."""
        return self.sound == "tone" and self.lowest_tone_hz is not None and self.tone_hz < self.lowest_tone_hz

    @property
    def agree_db(self) -> float:
        """How near all readings must be: 0.1 dB, or the device's step where that is coarser."""
        return max(AGREE_DB, self.step_db)


@dataclass(frozen=True, slots=True, kw_only=True)
class SubReading:
    """One sub: its last reading in dB, and the gain still to change in whole steps."""

    channel: str
    read_db: float | None
    change_db: float | None


def sub_changes(readings: Mapping[str, float], subs: tuple[str, ...], match: SubMatch) -> list[SubReading]:
    """What is still to change of each sub: all go to the softest one, so that none is driven harder than it was."""
    softest = min((readings[s] for s in subs if s in readings), default=None)
    found = []
    for sub in subs:
        read = readings.get(sub)
        change = None
        if read is not None and softest is not None:
            change = (
                0.0
                if read - softest <= match.agree_db + 1e-9
                else round((softest - read) / match.step_db) * match.step_db
            )
        found.append(SubReading(channel=sub, read_db=read, change_db=change))
    return found


def subs_agree(readings: Mapping[str, float], subs: tuple[str, ...], match: SubMatch) -> bool:
    """Whether all are read and lie within 0.1 dB, or within the device's step."""
    if len(subs) < 2 or not set(subs) <= set(readings):
        return False
    values = [readings[s] for s in subs]
    return max(values) - min(values) <= match.agree_db + 1e-9
