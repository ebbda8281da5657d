"""How each speaker looks from each seat: distance, direction, arrival and level."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.geometry import azimuth_deg
from dolce.core.room.plan import RoomPlan, Speaker


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Sights:
    """All speakers from all seats, in the plan's order; every array of shape (speakers, seats).

    Attributes
    ----------
    distance_m, azimuth_deg, elevation_deg : ndarray
        Angles positive to the right of the front wall, and upward.
    arrival_s : ndarray
        Time of flight after that of the nearest speaker at the seat.
    level_db : ndarray
        In the open, against the nearest speaker at the seat; 0 or below.
    """

    distance_m: NDArray[np.float64]
    azimuth_deg: NDArray[np.float64]
    elevation_deg: NDArray[np.float64]
    arrival_s: NDArray[np.float64]
    level_db: NDArray[np.float64]


def sights_of(plan: RoomPlan) -> Sights:
    """Distances and angles of a plan."""
    speakers = np.array([s.place.as_array() for s in plan.speakers])
    seats = np.array([s.place.as_array() for s in plan.seats])
    x, y, z = np.moveaxis(speakers[:, None, :] - seats[None, :, :], 2, 0)
    distance = np.maximum(np.sqrt(x**2 + y**2 + z**2), 1e-3)
    nearest = distance.min(axis=0)
    return Sights(
        distance_m=distance,
        azimuth_deg=np.degrees(np.arctan2(x, -y)),
        elevation_deg=np.degrees(np.arctan2(z, np.hypot(x, y))),
        arrival_s=(distance - nearest) / plan.speed_m_s,
        level_db=20 * np.log10(nearest / distance),
    )


def axis_of(speaker: Speaker, plan: RoomPlan) -> tuple[float, float]:
    """Direction of a speaker's axis in the plan, as a unit vector (x, y)."""
    seat = plan.main_seat.place
    if speaker.aim == "main seat":
        x, y = seat.x_m - speaker.place.x_m, seat.y_m - speaker.place.y_m
        size = np.hypot(x, y)
        return (float(x / size), float(y / size)) if size > 1e-6 else (0.0, 1.0)
    x, y = _straight(speaker, plan)
    if speaker.aim == "straight":
        return x, y
    # Toed in: turned toward the middle line of the room, whichever way that is from here.
    inward = 1.0 if speaker.place.x_m <= plan.size.width_m / 2 else -1.0
    turn = np.radians(speaker.toe_in_deg) * (-inward if y > 0 else inward)
    return (float(x * np.cos(turn) - y * np.sin(turn)), float(x * np.sin(turn) + y * np.cos(turn)))


def off_axis_deg(speaker: Speaker, plan: RoomPlan) -> float:
    """Angle in the plan between a speaker's axis and the main seat, 0 to 180."""
    x, y = axis_of(speaker, plan)
    seat = plan.main_seat.place
    to_x, to_y = seat.x_m - speaker.place.x_m, seat.y_m - speaker.place.y_m
    return float(np.degrees(abs(np.arctan2(x * to_y - y * to_x, x * to_x + y * to_y))))


def _straight(speaker: Speaker, plan: RoomPlan) -> tuple[float, float]:
    """Along the room's axes: from its wall where it is built in, else from the front, a side or the back by angle."""
    p, size, seat = speaker.place, plan.size, plan.main_seat.place
    if speaker.in_wall:
        gaps = {
            (0.0, 1.0): p.y_m,
            (0.0, -1.0): size.length_m - p.y_m,
            (1.0, 0.0): p.x_m,
            (-1.0, 0.0): size.width_m - p.x_m,
        }
        return min(gaps, key=lambda direction: gaps[direction])
    azimuth = azimuth_deg(p, seen_from=seat)
    if abs(azimuth) <= 65:
        return 0.0, 1.0
    if abs(azimuth) >= 125:
        return 0.0, -1.0
    return (-1.0, 0.0) if azimuth > 0 else (1.0, 0.0)
