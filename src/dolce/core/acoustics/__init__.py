"""Sound in air and in rooms."""

from dolce.core.acoustics.air import speed_of_sound
from dolce.core.acoustics.shoebox import RoomSound, room_response

__all__ = ["RoomSound", "room_response", "speed_of_sound"]
