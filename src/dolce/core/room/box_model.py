"""The box that stands for a room where only a box can be computed: modes, Schroeder frequency, sub places."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import eyring_s, sabine_s, schroeder_hz
from dolce.core.geometry import Point, outline_area_m2, outline_length_m
from dolce.core.room.plan import RoomPlan
from dolce.core.room.surfaces import MATERIALS, SURFACES


@dataclass(frozen=True, slots=True, kw_only=True)
class BoxModel:
    """A rigid box of the room's volume.

    Attributes
    ----------
    size_m : (float, float, float)
        Along x, y, z. For a room with an outline the floor is shrunk, keeping its proportions, to equal volume.
    scale : float
        From room coordinates to box coordinates, in x and y.
    is_equivalent : bool
        Whether it only stands for a room of another shape.
    speed_m_s : float
    """

    size_m: tuple[float, float, float]
    scale: float
    is_equivalent: bool
    speed_m_s: float

    @property
    def volume_m3(self) -> float:
        return float(np.prod(self.size_m))

    def within(self, points: list[Point]) -> NDArray[np.float64]:
        """Places in the box, shape (points, 3), in metres."""
        places = np.array([[p.x_m, p.y_m, p.z_m] for p in points]).reshape(-1, 3)
        return places * (self.scale, self.scale, 1.0)


def box_model(plan: RoomPlan) -> BoxModel:
    """The box of a plan."""
    size = plan.size
    area = outline_area_m2(plan.outline) if plan.outline else size.width_m * size.length_m
    scale = float(np.sqrt(area / (size.width_m * size.length_m)))
    return BoxModel(
        size_m=(size.width_m * scale, size.length_m * scale, size.height_m),
        scale=scale,
        is_equivalent=bool(plan.outline) and scale < 0.9999,
        speed_m_s=plan.speed_m_s,
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Decay:
    """Reverberation of a plan.

    Attributes
    ----------
    sabine_s, eyring_s : tuple of float, by octave from 125 Hz to 4 kHz; empty where the time was typed
    low_s : float
        At low frequencies: typed, or Eyring's mean of 125 and 250 Hz.
    schroeder_hz : float
    """

    sabine_s: tuple[float, ...]
    eyring_s: tuple[float, ...]
    low_s: float
    schroeder_hz: float


def decay_of(plan: RoomPlan) -> Decay:
    """Reverberation time and Schroeder frequency of a plan."""
    known = plan.reverberation
    volume = box_model(plan).volume_m3
    if known.source == "typed":
        return Decay(sabine_s=(), eyring_s=(), low_s=known.typed_s, schroeder_hz=schroeder_hz(known.typed_s, volume))
    areas = _areas_m2(plan)
    absorption = np.array([MATERIALS[known.surfaces[s]] for s in SURFACES])
    sabine = sabine_s(volume, areas, absorption, speed_m_s=plan.speed_m_s)
    eyring = eyring_s(volume, areas, absorption, speed_m_s=plan.speed_m_s)
    low = float(np.mean(eyring[:2]))
    return Decay(
        sabine_s=tuple(map(float, sabine)),
        eyring_s=tuple(map(float, eyring)),
        low_s=low,
        schroeder_hz=schroeder_hz(low, volume),
    )


def _areas_m2(plan: RoomPlan) -> NDArray[np.float64]:
    """Areas in the order of SURFACES; the walls of an outline share its length as those of the box would."""
    size = plan.size
    floor = outline_area_m2(plan.outline) if plan.outline else size.width_m * size.length_m
    around = 2 * (size.width_m + size.length_m)
    region = outline_length_m(plan.outline) / around if plan.outline else 1.0
    front, side = size.width_m * size.height_m * region, size.length_m * size.height_m * region
    return np.array([floor, floor, front, front, side, side])
