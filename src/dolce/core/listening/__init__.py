"""Programme heard through presets at a seat: rendering, loudness, blind trials, sound pressure."""

from dolce.core.listening.blind import TRIALS, BlindTest, guessing_probability
from dolce.core.listening.loudness import LoudnessMatch, integrated_loudness, loudness_matched
from dolce.core.listening.material import MATERIAL, programme_of
from dolce.core.listening.pressure import BandPressure, pressure_by_band
from dolce.core.listening.programme import LONGEST_S, SHORTEST_S, Programme
from dolce.core.listening.rendering import Rendering, paths_of, retuned
from dolce.core.listening.room_player import RoomPlayer

__all__ = [
    "LONGEST_S",
    "MATERIAL",
    "SHORTEST_S",
    "TRIALS",
    "BandPressure",
    "BlindTest",
    "LoudnessMatch",
    "Programme",
    "Rendering",
    "RoomPlayer",
    "guessing_probability",
    "integrated_loudness",
    "loudness_matched",
    "paths_of",
    "pressure_by_band",
    "programme_of",
    "retuned",
]
