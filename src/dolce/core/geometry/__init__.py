"""Places in the room, and what follows from them alone."""

from dolce.core.geometry.placement import (
    Placement,
    Point,
    RoomSize,
    azimuth_deg,
    distance_m,
    pair_angle_deg,
    placement_of,
)
from dolce.core.geometry.spots import cluster

__all__ = ["Placement", "Point", "RoomSize", "azimuth_deg", "cluster", "distance_m", "pair_angle_deg", "placement_of"]
