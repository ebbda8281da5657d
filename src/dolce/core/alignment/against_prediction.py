"""How far a channel that was taken through an alignment lies from what was predicted of it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import in_band
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.room import SUB_CODES

_AUDIBLE_HZ = (20.0, 20_000.0)
_OF_SUBS_HZ = 200.0  # above, a sub alone has sunk towards the noise


@dataclass(frozen=True, slots=True, kw_only=True)
class ChannelKept:
    """One channel: how far it lies from what was predicted, over 1/12 octave and all spots that both rounds have.

    Attributes
    ----------
    usual_db, most_db, most_hz : RMS, and the largest difference with its frequency
    spots : at how many
    """

    channel: str
    usual_db: float
    most_db: float
    most_hz: float
    spots: int


def against_prediction(channel: str, taken_db: NDArray[np.float64], predicted_db: NDArray[np.float64]) -> ChannelKept:
    """Differences over the range that a channel plays; levels of shape (spots, points) on the analysis grid."""
    inside = in_band(ANALYSIS_GRID_HZ, (_AUDIBLE_HZ[0], _OF_SUBS_HZ if channel in SUB_CODES else _AUDIBLE_HZ[1]))
    off = (taken_db - predicted_db)[:, inside]
    _, at = np.unravel_index(int(np.argmax(np.abs(off))), off.shape)
    return ChannelKept(
        channel=channel,
        usual_db=float(np.sqrt(np.mean(off**2))),
        most_db=float(np.abs(off).max()),
        most_hz=float(ANALYSIS_GRID_HZ[inside][at]),
        spots=len(off),
    )
