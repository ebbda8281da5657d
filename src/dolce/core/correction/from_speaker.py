"""A target that a loudspeaker itself suggests: its reach, its character, and the slope that the room makes of it."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.target import MEAN_BAND_HZ, Curve
from dolce.core.dsp import in_band

_SLOPE_HZ = (200.0, 10_000.0)
_STEEPEST_DB = -2.0  # per octave
_MOST_CHARACTER_DB = 2.0  # of the direct sound that a target follows: the rest is a fault, not a character
_EXTENSION_FROM_HZ, _MIDDLE_HZ = 200.0, (60.0, 400.0)
_DOWN_DB = 6.0
_STEPS_PER_OCTAVE = 12


def speaker_curve(at_hz: NDArray, average_db: NDArray, direct_db: NDArray | None = None) -> Curve:
    """Target from the average over the spots and, where it is known, the direct sound or a close take.

    Parameters
    ----------
    at_hz, average_db, direct_db : ndarray, shape (points,)

    Notes
    -----
    Slope: least squares over log frequency, 200 Hz to 10 kHz, of the average; none that rises. Character: what the
    direct sound, over an octave, is off its own straight line above 400 Hz, at most 2 dB. Reach: the highest frequency
    below 200 Hz from which on the average, over two thirds of an octave, stays 6 dB under its middle (60 to 400 Hz);
    from there the target lies nowhere above the average, so that no more bottom is asked for than there is; it sinks to
    that over the octave above.
    """
    points = 20.0 * 2 ** (np.arange(10 * _STEPS_PER_OCTAVE) / _STEPS_PER_OCTAVE)
    octave = np.log2(at_hz)
    middle = in_band(at_hz, _SLOPE_HZ)
    slope = float(np.clip(np.polyfit(octave[middle], average_db[middle], 1)[0], _STEEPEST_DB, 0.0))
    level = slope * np.log2(np.maximum(points, _SLOPE_HZ[0]) / 1000.0)
    wide = _over(octave, average_db, 2 / 3)
    bass = in_band(at_hz, _MIDDLE_HZ)
    own = wide - float(wide[bass].mean())
    low = np.flatnonzero((at_hz < _EXTENSION_FROM_HZ) & (own > -_DOWN_DB))
    reach = float(at_hz[low[0]]) if low.size else _EXTENSION_FROM_HZ
    followed = ""
    if direct_db is not None:
        above = in_band(at_hz, (400.0, 16_000.0))
        line = np.polyval(np.polyfit(octave[above], direct_db[above], 1), octave)
        character = np.clip(_over(octave, direct_db - line, 1.0), -_MOST_CHARACTER_DB, _MOST_CHARACTER_DB)
        fade = np.clip(np.log2(points / 400.0), 0, 1) * np.clip(np.log2(20_000.0 / points), 0, 1)
        level += fade * np.interp(np.log2(points), octave, character)
        followed = " It follows the character of its direct sound by up to 2 dB."
    level = _with_extension(points, level, at_hz, wide, reach)
    slopes = f"{slope:+.1f}".replace("-", "\N{MINUS SIGN}")
    words = (
        f"Reaches down to {reach:.0f} Hz and falls below as the loudspeaker does; slopes by {slopes} dB per "
        f"octave, which is what the room makes of it.{followed}"
    )
    return Curve(
        frequency_hz=tuple(np.round(points, 2).tolist()),
        level_db=tuple(np.round(level, 2).tolist()),
        kind="speaker",
        source=words,
    )


def _with_extension(points: NDArray, level: NDArray, at_hz: NDArray, wide: NDArray, extension_hz: float) -> NDArray:
    """A target, 0 dB in the middle, that lies nowhere above the loudspeaker below its reach, and sinks there over an
    octave; it never rises again further down.
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


def _over(octave: NDArray, level_db: NDArray, width: float) -> NDArray:
    """Mean over a width in octaves."""
    step = float(np.median(np.diff(octave)))
    half = max(1, round(width / 2 / step))
    padded = np.pad(level_db, half, mode="edge")
    return np.convolve(padded, np.ones(2 * half + 1) / (2 * half + 1), "valid")
