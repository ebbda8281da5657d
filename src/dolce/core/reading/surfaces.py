"""Which surfaces make a dip: what the box model of the plan expects there with each surface, and without it."""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import WALLS
from dolce.core.response import smoothed_level_db
from dolce.core.room import BoxField

_BESIDE_OCTAVES = 0.16  # how far off the model may have a dip: walls are no planes, and loudspeakers no points
_AROUND_OCTAVES = 0.5  # over which model and takes are held against each other
_LEAST_FILL_DB = 2.0  # a surface that gives back less takes nothing that matters
_AS_MUCH = 0.6  # of what the first gives back: then a second surface is named with it
_LEAST_EXPECTED_DB = 1.0  # what is shallower in the model is no dip
# With loudspeaker and spots elsewhere than they stood, nine of ten correlations lay below 0.48 and all below 0.62; with
# both out by 8 cm half lay above 0.65 (our trial on three rooms). Likely begins at 0.45, sure at 0.65.
_CHANCE_R, _SURE_PER_R, _MOST_SURE = 0.1, 1.3, 0.95
_SHALLOW, _DEEP_ENOUGH = 0.4, 0.5
_TOGETHER_SURE = 0.9  # of its confidence that a dip keeps which no surface alone explains

Against = Callable[[NDArray], NDArray]


@dataclass(frozen=True, slots=True, kw_only=True)
class SurfaceCause:
    """What the model says of one dip.

    Attributes
    ----------
    surfaces : tuple of str
        Whose reflections take most there, the first the most, one or two; empty where only all of them together do.
    at_hz : float
        Where the model has its dip.
    fill_db : float
        How much higher the level lies there without the first.
    agrees : float
        Correlation of the levels of the model with those of the takes, over half an octave to each side and all spots.
    depth : float
        How much of the dip the model has, 0 to 1.
    sure : float
        0 to 1.
    """

    surfaces: tuple[str, ...]
    at_hz: float
    fill_db: float
    agrees: float
    depth: float
    sure: float


class ExpectedLevels:
    """Levels of a box model on the analysis grid, smoothed as the takes are, shape (spots, points)."""

    def __init__(self, field: BoxField, frequency_hz: NDArray) -> None:
        self._frequency_hz = frequency_hz
        self._last_hz = float(field.frequency_hz[-1])
        x, at = np.log(frequency_hz), np.log(field.frequency_hz)
        every = np.concatenate([field.level_db[None], field.without_db, field.alone_db])
        on_grid = np.array([np.interp(x, at, row) for row in every.reshape(-1, at.size)])
        smoothed = smoothed_level_db(on_grid, per_octave=12).reshape(*every.shape[:2], x.size)
        self._level_db, self._without_db, self._alone_db = (
            smoothed[0],
            smoothed[1 : -len(WALLS)],
            smoothed[-len(WALLS) :],
        )
        self._against: dict[Against, NDArray] = {}

    def surfaces_of_dip(self, at_hz: float, size_db: float, each_db: NDArray, against: Against) -> SurfaceCause | None:
        """What takes from a dip of takes; None where the model ends, or has no dip near.

        Parameters
        ----------
        each_db : ndarray, shape (spots, points)
            Levels of the takes against their surroundings, which `against` makes of levels.
        """
        if at_hz > self._last_hz / 2**_AROUND_OCTAVES:
            return None
        if against not in self._against:
            self._against[against] = np.array([against(level) for level in (self._level_db, *self._alone_db)])
        off = np.abs(np.log2(self._frequency_hz / at_hz))
        beside, around = np.flatnonzero(off < _BESIDE_OCTAVES), off < _AROUND_OCTAVES
        taken = each_db[:, around].ravel()
        found = []
        for number, expected in enumerate(self._against[against]):
            mean = expected.mean(axis=0)
            k = int(beside[np.argmin(mean[beside])])
            if mean[k] > -_LEAST_EXPECTED_DB:
                continue
            depth = float(np.clip(mean[k] / size_db, 0, 1))
            agrees = float(np.corrcoef(expected[:, around].ravel(), taken)[0, 1])
            deep = 1 - _SHALLOW * (1 - float(np.clip(depth / _DEEP_ENOUGH, 0, 1)))
            found.append((_SURE_PER_R * (agrees - _CHANCE_R) * deep, number, k, agrees, depth))
        if not found:
            return None
        sure, number, k, agrees, depth = max(found)
        sure = float(np.clip(sure, 0, _MOST_SURE))
        if number:
            named: tuple[str, ...] = (WALLS[number - 1],)
            fill_db = -float(self._against[against][number].mean(axis=0)[k])
        else:
            gained_db = (self._without_db[:, :, k] - self._level_db[:, k]).mean(axis=1)
            order = np.argsort(-gained_db)
            fill_db = float(gained_db[order[0]])
            named = tuple(WALLS[wall] for wall in order[:2] if gained_db[wall] >= _AS_MUCH * fill_db)
            if fill_db < _LEAST_FILL_DB:
                named, sure = (), _TOGETHER_SURE * sure
        return SurfaceCause(
            surfaces=named, at_hz=float(self._frequency_hz[k]), fill_db=fill_db, agrees=agrees, depth=depth, sure=sure
        )
