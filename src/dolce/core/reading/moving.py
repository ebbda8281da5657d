"""What moving a loudspeaker would do to a curve that was taken: the box model's change, put on the takes."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import energy_mean_db, in_band
from dolce.core.response import smoothed_level_db
from dolce.core.room import BoxField

TOLD_HZ = (40.0, 400.0)  # below, rooms are no boxes of one time; above, furniture and toe-in decide
_FOLLOWED_OCTAVES = 0.45  # how far a dip is followed
_PER_OCTAVE = 12


@dataclass(frozen=True, slots=True, kw_only=True)
class DipMoved:
    """A dip against the octave around it, as it is, and where the deepest near by would be; sizes below 0."""

    at_hz: float
    size_db: float
    to_hz: float
    to_size_db: float

    @property
    def shallower_db(self) -> float:
        return self.to_size_db - self.size_db


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MovedCurve:
    """Energy averages over the spots in dB, shape (points,), and how far the prediction can be trusted.

    Attributes
    ----------
    now_db, then_db : ndarray
        As taken, and as predicted; outside `TOLD_HZ` both are the same.
    agrees : float
        Correlation of the model with the average as it is, within `TOLD_HZ`.
    off_db : float
        RMS by which the model misses the average as it is, there, over 1/6 octave: a prediction misses less, since
        what the model gets wrong both times cancels.
    """

    frequency_hz: NDArray[np.float64]
    now_db: NDArray[np.float64]
    then_db: NDArray[np.float64]
    agrees: float
    off_db: float

    def dip(self, at_hz: float) -> DipMoved:
        """A dip of the average, followed to its new place."""
        now, then = (level - smoothed_level_db(level, per_octave=1.0) for level in (self.now_db, self.then_db))
        off = np.abs(np.log2(self.frequency_hz / at_hz))
        here = np.flatnonzero(off < 1 / 12)
        near = np.flatnonzero((off < _FOLLOWED_OCTAVES) & in_band(self.frequency_hz, TOLD_HZ))
        k = int(here[np.argmin(now[here])])
        to = int(near[np.argmin(then[near])]) if near.size else k
        return DipMoved(
            at_hz=float(self.frequency_hz[k]),
            size_db=float(now[k]),
            to_hz=float(self.frequency_hz[to]),
            to_size_db=float(then[to]),
        )


def moved_curve(frequency_hz: NDArray, level_db: NDArray, now: BoxField, then: BoxField) -> MovedCurve:
    """A curve as it would be with the loudspeaker elsewhere.

    Parameters
    ----------
    level_db : ndarray, shape (spots, points)
        As taken, over 1/12 octave.
    now, then : BoxField
        Of the place where it stood and of another, at the same spots.

    Notes
    -----
    The model's average there less its average here, in dB, is added to the average of the takes: what the model does
    not know, such as the loudspeaker itself, stays. Our own rule; `bench/moving_figures.py` moves loudspeakers of
    rehearsals and holds predictions against takes.
    """
    x = np.log(frequency_hz)

    def average(field: BoxField) -> NDArray:
        on_grid = np.array([np.interp(x, np.log(field.frequency_hz), row) for row in field.level_db])
        return energy_mean_db(smoothed_level_db(on_grid, per_octave=_PER_OCTAVE))

    here, there, taken = average(now), average(then), energy_mean_db(np.atleast_2d(level_db))
    inside = in_band(frequency_hz, TOLD_HZ)
    octaves = np.log2(frequency_hz)
    # Faded over a third of an octave at both ends.
    share = np.clip(3 * (octaves - np.log2(TOLD_HZ[0])) + 1, 0, 1) * np.clip(
        3 * (np.log2(TOLD_HZ[1]) - octaves) + 1, 0, 1
    )
    apart = smoothed_level_db(here - taken, per_octave=6)[inside]
    return MovedCurve(
        frequency_hz=frequency_hz,
        now_db=taken,
        then_db=taken + share * (there - here),
        agrees=float(np.corrcoef(here[inside], taken[inside])[0, 1]),
        off_db=float(np.std(apart)),
    )
