"""How well some spots tell an area: what one spot more would change."""

from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import energy_mean_db, in_band
from dolce.errors import InvalidValue

_BASS_HZ = (20.0, 300.0)
WORTH_MORE_DB, ENOUGH_DB = 0.6, 0.2  # our own: about what corrections are rounded to, and what no one hears
Advice = Literal["more", "enough", "fewer would do"]


def another_spot_db(level_db: ArrayLike, frequency_hz: NDArray, *, band_hz: tuple[float, float] = _BASS_HZ) -> float:
    """How much the average of levels, shape (spots, points), would change by one spot more: RMS in dB over a band.

    The average is that of energy. Each spot is left out in turn (the jackknife: M. H. Quenouille, Biometrika 43,
    353-360, 1956). From n - 1 to n spots the average changes by s / sqrt(n (n - 1)), from n to n + 1 by s / sqrt(n (n
    + 1)), so what leaving out shows is taken times sqrt((n - 1) / (n + 1)).

    Raises
    ------
    InvalidValue
        With fewer than two spots: nothing is known of what another would say.
    """
    levels = np.asarray(level_db, dtype=np.float64)
    count = len(levels)
    if levels.ndim != 2 or count < 2:
        raise InvalidValue("one spot tells nothing of others.", where="spots", remedy="Take at least two.")
    inside = in_band(frequency_hz, band_hz)
    power = 10 ** (levels[:, inside] / 10)
    without = 10 * np.log10((power.sum(axis=0) - power) / (count - 1))
    change = without - energy_mean_db(levels[:, inside])
    return float(np.sqrt(np.mean(change**2) * (count - 1) / (count + 1)))


def spots_for(change_db: float, count: int, *, wanted_db: float = WORTH_MORE_DB) -> int:
    """How many spots it takes until one more changes no more than that: the change falls about as 1 / n."""
    return max(count, int(np.ceil(count * change_db / wanted_db)))


def advice_of(change_db: float, count: int) -> Advice:
    """Whether more spots make sense."""
    if change_db > WORTH_MORE_DB:
        return "more"
    return "fewer would do" if change_db < ENOUGH_DB and count > 4 else "enough"
