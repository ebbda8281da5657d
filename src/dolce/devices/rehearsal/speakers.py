"""The loudspeakers of the rehearsal: a few kinds, and how two of a kind differ. All of them are made up."""

import zlib
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from dolce.core.filters import BandFilter
from dolce.core.geometry import Point
from dolce.core.room import SUB_CODES
from dolce.core.simulation import Driver, LowEnd, SpeakerModel

SENSITIVITY_DB = -12.0  # a full-scale sine gives 108 dB SPL at 1 m, as of a powered monitor


@dataclass(frozen=True, slots=True, kw_only=True)
class PlacedSpeaker:
    """A speaker in the room.

    Attributes
    ----------
    axis : (float, float, float)
        Unit vector along which it looks.
    low_limit_hz : float or None
        Where the plan says that it gives up; None for what is usual for its kind.
    """

    channel: str
    place: Point
    axis: tuple[float, float, float] = (0.0, 1.0, 0.0)
    low_limit_hz: float | None = None

    @property
    def model(self) -> SpeakerModel:
        return model_of(self.channel, low_limit_hz=self.low_limit_hz)


def _ripple(*bells: tuple[float, float, float]) -> tuple[BandFilter, ...]:
    return tuple(BandFilter(frequency_hz=f, gain_db=gain, q=q) for f, gain, q in bells)


# Two-way and vented; the dome sits over the cone and a little in front of its acoustic centre.
_MONITOR = SpeakerModel(
    drivers=(Driver(radius_m=0.066, above_m=-0.07, behind_m=0.016), Driver(radius_m=0.0125, above_m=0.07)),
    crossovers_hz=(2200.0,),
    box_radius_m=0.15,
    low_end=LowEnd(kind="vented", corner_hz=44.0),
    ripple=_ripple((620, 0.9, 2.2), (1500, -0.8, 3.5), (2500, 0.8, 1.4), (5200, -1.1, 2.6), (9800, 1.0, 2.0)),
)
# Three-way and closed.
_CENTRE = SpeakerModel(
    drivers=(
        Driver(radius_m=0.085, above_m=-0.10, behind_m=0.022),
        Driver(radius_m=0.04, behind_m=0.009),
        Driver(radius_m=0.0125, above_m=0.08),
    ),
    crossovers_hz=(390.0, 2700.0),
    box_radius_m=0.17,
    low_end=LowEnd(kind="closed", corner_hz=52.0, q=0.72),
    gain_db=0.9,
    ripple=_ripple((480, -0.9, 1.8), (1900, 0.9, 2.8), (3900, -1.0, 3.0), (11_000, 0.8, 1.8)),
)
_SURROUND = SpeakerModel(
    drivers=(Driver(radius_m=0.055, above_m=-0.06, behind_m=0.013), Driver(radius_m=0.0125, above_m=0.06)),
    crossovers_hz=(2600.0,),
    box_radius_m=0.125,
    low_end=LowEnd(kind="closed", corner_hz=66.0, q=0.8),
    gain_db=-1.4,
    ripple=_ripple((800, 1.0, 2.0), (2100, -1.2, 3.0), (4600, 1.0, 2.4), (8700, -0.9, 2.2)),
)
_HEIGHT = SpeakerModel(
    drivers=(Driver(radius_m=0.045, above_m=-0.05, behind_m=0.010), Driver(radius_m=0.010, above_m=0.05)),
    crossovers_hz=(3000.0,),
    box_radius_m=0.105,
    low_end=LowEnd(kind="closed", corner_hz=84.0, q=0.85),
    gain_db=-2.2,
    ripple=_ripple((950, -1.0, 2.2), (2900, 1.1, 2.6), (6400, -1.0, 2.8), (12_000, 0.9, 1.6)),
)
_SUB = SpeakerModel(
    drivers=(Driver(radius_m=0.12),),
    box_radius_m=0.24,
    high_limit_hz=120.0,
    low_end=LowEnd(kind="vented", corner_hz=23.0),
    gain_db=-4.2,
)
# Closed, another filter at the top, and a processor of its own.
_OTHER_SUB = SpeakerModel(
    drivers=(Driver(radius_m=0.10),),
    box_radius_m=0.20,
    high_limit_hz=150.0,
    low_end=LowEnd(kind="closed", corner_hz=30.0, q=0.65),
    gain_db=-3.6,
    latency_s=0.0014,
)

_KINDS = {
    **dict.fromkeys(("Ls", "Rs", "Lss", "Rss", "Lrs", "Rrs", "Cs", "Lw", "Rw"), _SURROUND),
    **dict.fromkeys(("Ltf", "Rtf", "Ltm", "Rtm", "Ltr", "Rtr", "Ts", "Cb"), _HEIGHT),
    "C": _CENTRE,
    **dict(zip(SUB_CODES, (_SUB, _SUB, _OTHER_SUB, _OTHER_SUB), strict=True)),
}
# Two of a kind are not quite alike; how much a left and a right differ is known, for whoever wants to find it again.
_UNITS = {"L": (0.0, 0.0), "R": (1.3, 0.00008), "Sub1": (0.2, 0.0), "Sub2": (-0.6, 0.0), "Sub3": (0.2, 0.0)}
_UNIT_DB, _UNIT_RIPPLE = 0.7, 0.25


@lru_cache(maxsize=128)
def model_of(channel: str, *, low_limit_hz: float | None = None) -> SpeakerModel:
    """The speaker that plays a channel: its kind, with the tolerance of one unit."""
    kind = _KINDS.get(channel, _MONITOR)
    rng = np.random.default_rng(zlib.crc32(channel.encode()))
    own_db, late_s = _UNITS.get(channel, (float(np.round(rng.uniform(-_UNIT_DB, _UNIT_DB), 2)), 0.0))
    ripple = tuple(
        replace(band, gain_db=round(band.gain_db + float(rng.uniform(-_UNIT_RIPPLE, _UNIT_RIPPLE)), 3))
        for band in kind.ripple
    )
    low_end = (
        kind.low_end if low_limit_hz is None or channel in SUB_CODES else replace(kind.low_end, corner_hz=low_limit_hz)
    )
    return replace(
        kind,
        ripple=ripple,
        low_end=low_end,
        gain_db=round(SENSITIVITY_DB + kind.gain_db + own_db, 2),
        latency_s=kind.latency_s + late_s,
    )
