"""Simulated loudspeakers in a simulated room, for the rehearsal rig."""

from dolce.core.simulation.desk_top import DeskTop
from dolce.core.simulation.low_end import LowEnd
from dolce.core.simulation.of_plan import desk_top, surfaces_of_plan
from dolce.core.simulation.sound_field import field_spectrum, response_samples
from dolce.core.simulation.speaker_model import Driver, SpeakerModel
from dolce.core.simulation.surfaces import BANDS_HZ, WALLS, RoomSurfaces, plain_surfaces

__all__ = [
    "BANDS_HZ",
    "WALLS",
    "DeskTop",
    "Driver",
    "LowEnd",
    "RoomSurfaces",
    "SpeakerModel",
    "desk_top",
    "field_spectrum",
    "plain_surfaces",
    "response_samples",
    "surfaces_of_plan",
]
