"""What the box model of a plan expects of a loudspeaker at low frequencies, with each surface and without it."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import WALLS, image_field
from dolce.core.geometry import Point
from dolce.core.room.box_model import BoxModel, box_model
from dolce.core.room.plan import RoomPlan
from dolce.core.room.surfaces import MATERIALS, OCTAVES_HZ

_WITHIN_M = 28.0  # 80 ms; with 50 ms half of the dips below 40 Hz are missed (tried on three rooms)
_MOST_ABSORBED = 0.95


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BoxField:
    """Expected levels at places, dB against the direct sound at 1 m in the open.

    Attributes
    ----------
    frequency_hz : ndarray, shape (points,)
    level_db : ndarray, shape (places, points)
    without_db, alone_db : ndarray, shape (6, places, points)
        Without each of `WALLS`, and with each alone.
    """

    frequency_hz: NDArray[np.float64]
    level_db: NDArray[np.float64]
    without_db: NDArray[np.float64]
    alone_db: NDArray[np.float64]


def box_field(plan: RoomPlan, sources: Sequence[Point], places: Sequence[Point], *, at_hz: NDArray) -> BoxField:
    """Of one loudspeaker, or of several that play the same, at some places and frequencies.

    Surfaces take what the plan says of them; where only a time is known, all of them the same.

    References
    ----------
    Mirror images: see `dolce.core.acoustics.images`. Absorption: as in `dolce.core.room.surfaces`.
    """
    box, at_hz = box_model(plan), np.asarray(at_hz, dtype=float)
    exponents = -np.log1p(-np.minimum(_absorption(plan, box, at_hz), _MOST_ABSORBED))
    pressure = np.sum(
        [
            image_field(
                source,
                box.within(list(places)),
                size_m=box.size_m,
                exponents=exponents,
                frequency_hz=at_hz,
                within_m=_WITHIN_M,
                speed_m_s=box.speed_m_s,
            )
            for source in box.within(list(sources))
        ],
        axis=0,
    )
    level_db = 20 * np.log10(np.maximum(np.abs(pressure), 1e-9))
    walls = len(WALLS)
    return BoxField(
        frequency_hz=at_hz, level_db=level_db[0], without_db=level_db[1 : 1 + walls], alone_db=level_db[1 + walls :]
    )


def _absorption(plan: RoomPlan, box: BoxModel, at_hz: NDArray) -> NDArray[np.float64]:
    """Of each of WALLS, shape (6, points)."""
    known = plan.reverberation
    if known.source == "surfaces":
        octaves = np.log(OCTAVES_HZ)
        return np.array([np.interp(np.log(at_hz), octaves, MATERIALS[known.surfaces[wall]]) for wall in WALLS])
    x, y, z = box.size_m
    # Eyring's formula solved for the mean absorption.
    mean = 1 - np.exp(-24 * np.log(10) / box.speed_m_s * box.volume_m3 / (2 * (x * y + y * z + z * x) * known.typed_s))
    return np.full((len(WALLS), at_hz.size), mean)
