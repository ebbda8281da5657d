"""The simulated room of a plan: its surfaces as far as the plan tells, our assumptions where it doesn't."""

import numpy as np

from dolce.core.geometry import RoomSize
from dolce.core.room import MATERIALS, OCTAVES_HZ, Box, Reverberation
from dolce.core.simulation.desk_top import DeskTop
from dolce.core.simulation.surfaces import BANDS_HZ, WALLS, RoomSurfaces, plain_surfaces

# Tables of absorption begin at 125 Hz. Below, materials take less, and walls, doors and what stands about give way a
# little whatever they are covered with: shares of the value at 125 Hz, and the least (our assumptions).
_BELOW = (0.55, 0.8)
_LEAST = np.array([0.06, 0.06, 0.05, 0.05, 0.05, 0.05, 0.06, 0.07, 0.09, 0.12])


def surfaces_of_plan(size: RoomSize, reverberation: Reverberation) -> RoomSurfaces:
    """Surfaces by their materials, or a plain furnished room of the typed reverberation time.

    Raises
    ------
    InvalidValue
        If the room would be so dead or so live that the simulation no longer holds.
    """
    if reverberation.source == "typed":
        return plain_surfaces(size, reverberation_s=reverberation.typed_s)
    table = []
    for wall in WALLS:
        known = np.array(MATERIALS[reverberation.surfaces[wall]])
        row = np.interp(np.log(BANDS_HZ), np.log(OCTAVES_HZ), known)
        row[:2] = known[0] * np.array(_BELOW)
        table.append(tuple(np.clip(np.maximum(row, _LEAST), 0, 0.97)))
    return RoomSurfaces(size_m=(size.width_m, size.length_m, size.height_m), absorption=tuple(table))


def desk_top(box: Box) -> DeskTop:
    """The board of a desk that stands on the plan."""
    return DeskTop(
        x_m=(box.place.x_m - box.width_m / 2, box.place.x_m + box.width_m / 2),
        y_m=(box.place.y_m - box.depth_m / 2, box.place.y_m + box.depth_m / 2),
        top_m=box.place.z_m + box.height_m,
    )
