"""Sound in air and in rooms."""

from dolce.core.acoustics.air import speed_of_sound
from dolce.core.acoustics.boundary import Cancellation, boundary_gain_db, cancellation
from dolce.core.acoustics.images import WALLS, Images, image_field, images_of
from dolce.core.acoustics.modal_sum import modal_transfer
from dolce.core.acoustics.modes import Modes, mode_count_estimate, modes_of_box
from dolce.core.acoustics.reverberation import eyring_s, sabine_s, schroeder_hz

__all__ = [
    "WALLS",
    "Cancellation",
    "Images",
    "Modes",
    "boundary_gain_db",
    "cancellation",
    "eyring_s",
    "image_field",
    "images_of",
    "modal_transfer",
    "mode_count_estimate",
    "modes_of_box",
    "sabine_s",
    "schroeder_hz",
    "speed_of_sound",
]
