"""Places in the room, and what follows from them alone."""

from dolce.core.geometry.outline import Corners, checked_outline, inside_outline, outline_area_m2, outline_length_m
from dolce.core.geometry.placement import Point, RoomSize, azimuth_deg, distance_m, elevation_deg, pair_angle_deg

__all__ = [
    "Corners",
    "Point",
    "RoomSize",
    "azimuth_deg",
    "checked_outline",
    "distance_m",
    "elevation_deg",
    "inside_outline",
    "outline_area_m2",
    "outline_length_m",
    "pair_angle_deg",
]
