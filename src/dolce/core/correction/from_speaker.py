"""A target that a loudspeaker suggests: its extension, its character, and the slope that the room makes of it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.target import MEAN_BAND_HZ
from dolce.core.dsp import in_band, octave_mean

_SLOPE_HZ = (200.0, 10_000.0)
_STEEPEST_DB = -2.0  # per octave
_MOST_CHARACTER_DB = 2.0  # of the direct sound that a target follows: the rest is a fault, not a character
_EXTENSION_FROM_HZ, _MIDDLE_HZ = 200.0, (60.0, 400.0)
_DOWN_DB = 6.0
_STEPS_PER_OCTAVE = 12


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SpeakerCurve:
    """A target that a loudspeaker suggests.

    Attributes
    ----------
    frequency_hz, level_db : ndarray, shape (points,)
    extension_hz : float
        Its low-frequency extension; the target falls below it as the loudspeaker does.
    slope_db : float
        Per octave.
    follows_direct : bool
        Whether it follows the direct sound.
    """

    frequency_hz: NDArray[np.float64]
    level_db: NDArray[np.float64]
    extension_hz: float
    slope_db: float
    follows_direct: bool


def speaker_curve(at_hz: NDArray, average_db: NDArray, direct_db: NDArray | None = None) -> SpeakerCurve:
    """Target from the average over the spots and, where it is known, the direct sound or a close take.

    Parameters
    ----------
    at_hz, average_db, direct_db : ndarray, shape (points,)

    Notes
    -----
    Slope: least squares over log frequency, 200 Hz to 10 kHz, of the average; none that rises. Character: how far the
    direct sound, over an octave, is off its own straight line above 400 Hz, at most 2 dB. Extension: the highest
    frequency below 200 Hz below which the average, over two thirds of an octave, stays 6 dB under its middle (60 to 400
    Hz); from there the target lies nowhere above the average, so that no more bottom is asked for than there is; it
    sinks to that over the octave above.
    """
    points = 20.0 * 2 ** (np.arange(10 * _STEPS_PER_OCTAVE) / _STEPS_PER_OCTAVE)
    octave = np.log2(at_hz)
    middle = in_band(at_hz, _SLOPE_HZ)
    slope = float(np.clip(np.polyfit(octave[middle], average_db[middle], 1)[0], _STEEPEST_DB, 0.0))
    level = slope * np.log2(np.maximum(points, _SLOPE_HZ[0]) / 1000.0)
    wide = octave_mean(at_hz, average_db, at_hz=at_hz, per_octave=1.5)
    against_middle = wide - float(wide[in_band(at_hz, _MIDDLE_HZ)].mean())
    low = np.flatnonzero((at_hz < _EXTENSION_FROM_HZ) & (against_middle > -_DOWN_DB))
    extension_hz = float(at_hz[low[0]]) if low.size else _EXTENSION_FROM_HZ
    if direct_db is not None:
        above = in_band(at_hz, (400.0, 16_000.0))
        line = np.polyval(np.polyfit(octave[above], direct_db[above], 1), octave)
        character = octave_mean(at_hz, direct_db - line, at_hz=at_hz, per_octave=1.0)
        character = np.clip(character, -_MOST_CHARACTER_DB, _MOST_CHARACTER_DB)
        fade = np.clip(np.log2(points / 400.0), 0, 1) * np.clip(np.log2(20_000.0 / points), 0, 1)
        level += fade * np.interp(np.log2(points), octave, character)
    return SpeakerCurve(
        frequency_hz=points,
        level_db=_with_extension(points, level, at_hz, wide, extension_hz),
        extension_hz=extension_hz,
        slope_db=slope,
        follows_direct=direct_db is not None,
    )


def _with_extension(points: NDArray, level: NDArray, at_hz: NDArray, wide: NDArray, extension_hz: float) -> NDArray:
    """A target, 0 dB in the middle, that lies nowhere above the loudspeaker below its extension, and sinks there over
    an octave; it never rises again further down.
    """
    (low, high), octave = MEAN_BAND_HZ, np.log2(points)
    level = level - level[in_band(points, (low, high))].mean()
    has = np.interp(octave, np.log2(at_hz), wide - wide[in_band(at_hz, (low, high))].mean())
    below = points <= extension_hz
    level = np.where(below, np.minimum(level, has), level)
    top, end = np.log2(2 * extension_hz), np.log2(extension_hz)
    at_top, at_end = (
        np.interp(top, octave, level),
        float(np.interp(end, np.log2(at_hz), wide) - wide[in_band(at_hz, (low, high))].mean()),
    )
    ramp = at_end + (at_top - at_end) * np.clip((octave - end) / (top - end), 0, 1)
    level = np.where(~below & (octave < top), np.minimum(level, np.maximum(ramp, at_end)), level)
    return np.concatenate([np.minimum.accumulate(level[below][::-1])[::-1], level[~below]])
