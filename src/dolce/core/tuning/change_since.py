"""What changed in a room between two rounds that were taken through the same state."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.outcome import ARRIVAL_WITHIN_S, level_within_db, predicted_within_db
from dolce.core.dsp import energy_mean_db, in_band, octave_mean
from dolce.core.tuning.proof import SpotLevels

_PER_OCTAVE = 3  # of what a change is smoothed over
_SHOWN_HZ = (31.5, 16_000.0)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChangeSince:
    """One channel then and now, at the spots that both have.

    Attributes
    ----------
    spots : how many
    level_db : how much louder it is, over the band that tells its level
    shape_db : RMS of what changed besides, over its range
    most_db, most_hz : largest change besides of a third of an octave
    arrival_s : how much later it arrives against the mean of all channels; None where not known
    turned : whether its polarity reads the other way
    """

    channel: str
    spots: int
    level_db: float
    shape_db: float
    most_db: float
    most_hz: float
    arrival_s: float | None = None
    turned: bool = False

    @property
    def beyond_repeats(self) -> tuple[str, ...]:
        """What is more than putting the microphone back explains: "level", "response", "arrival", "polarity"."""
        found = []
        if abs(self.level_db) > level_within_db(self.spots):
            found.append("level")
        if self.shape_db > predicted_within_db(self.spots):
            found.append("response")
        if self.arrival_s is not None and abs(self.arrival_s) > ARRIVAL_WITHIN_S:
            found.append("arrival")
        if self.turned:
            found.append("polarity")
        return tuple(found)


def change_of(
    channel: str,
    frequency_hz: NDArray,
    then: SpotLevels,
    now: SpotLevels,
    *,
    level_band_hz: tuple[float, float],
    range_hz: tuple[float, float],
) -> ChangeSince | None:
    """What changed of one channel; None where no spot is common.

    Parameters
    ----------
    frequency_hz : ndarray, shape (points,)
        Equally many points in each octave.
    range_hz : where its response counts
    """
    common = tuple(spot for spot in then.spots if spot in now.spots)
    if not common:
        return None
    change = energy_mean_db(now.at(common)) - energy_mean_db(then.at(common))
    level = float(change[in_band(frequency_hz, level_band_hz)].mean())
    low, high = max(range_hz[0], _SHOWN_HZ[0]), min(range_hz[1], _SHOWN_HZ[1])
    inside = in_band(frequency_hz, (low, high))
    smooth = octave_mean(frequency_hz, change - level, at_hz=frequency_hz, per_octave=_PER_OCTAVE)
    most = int(np.argmax(np.where(inside, np.abs(smooth), -1)))
    return ChangeSince(
        channel=channel,
        spots=len(common),
        level_db=level,
        most_db=float(smooth[most]),
        shape_db=float(np.sqrt(np.mean((change - level)[inside] ** 2))),
        most_hz=float(frequency_hz[most]),
    )


def arrivals_apart(then_s: Mapping[str, float], now_s: Mapping[str, float]) -> dict[str, float]:
    """How much later each channel arrives than then, against the mean of all: a latency that all share is no drift."""
    common = [channel for channel in then_s if channel in now_s]
    if len(common) < 2:
        return {}
    later = {channel: now_s[channel] - then_s[channel] for channel in common}
    middle = float(np.median(list(later.values())))
    return {channel: value - middle for channel, value in later.items()}
