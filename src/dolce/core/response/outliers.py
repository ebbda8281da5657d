"""Takes that do not fit the others of their board: microphone not moved, somebody in the way, wrong row."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import in_band

_FINE_HZ = (500.0, 8000.0)  # where a microphone that moved by a hand's breadth hears another comb
_SAME_DB, _SAME_PART = 0.6, 0.35  # of what other neighbours differ: below both it has not moved
_TREBLE_HZ = (4000.0, 14_000.0)
_SHADOW_DB = 5.0  # under what its channel has at the other spots
_LATE_S, _FITS_S = 0.0012, 0.0004  # off its own place, and on another's
_REPEATED_HZ, _REPEATED_BASS_HZ = (100.0, 10_000.0), (30.0, 200.0)
LEVELS_MATTER_DB = 0.15  # between takes of two levels: something distorts
REPEATS_MATTER_DB = 1.0  # more than that: something has moved
_LEAST = 3  # spots or channels to compare with

Cell = tuple[str, int]


@dataclass(frozen=True, slots=True, kw_only=True)
class Outlier:
    """What is odd about a cell.

    Attributes
    ----------
    kind : "not moved" (since the spot `other`), "in the way", "wrong row" (that of the channel `other`)
    value : float
        RMS difference in dB; dB missing; seconds off its own place.
    """

    cell: Cell
    kind: Literal["not moved", "in the way", "wrong row"]
    value: float
    other: str | int = ""


def repeats_differ_db(level_db: Sequence[NDArray], frequency_hz: NDArray, *, bass: bool = False) -> float | None:
    """How repeatable takes of one cell are: largest RMS difference of one from their mean, 100 Hz to 10 kHz.

    Of subs alone (`bass`) 30 to 200 Hz.

    Parameters
    ----------
    level_db : of each attempt, shape (points,), over 1/12 octave; None comes back for fewer than two
    """
    if len(level_db) < 2:
        return None
    inside = _band(frequency_hz, _REPEATED_BASS_HZ if bass else _REPEATED_HZ)
    levels = np.array(level_db)[:, inside]
    return float(np.sqrt(np.mean((levels - levels.mean(axis=0)) ** 2, axis=1)).max())


def outliers(
    level_db: Mapping[Cell, NDArray],
    frequency_hz: NDArray,
    *,
    spots: list[int],
    arrival_s: Mapping[Cell, float],
    flight_s: Mapping[Cell, float],
) -> list[Outlier]:
    """What is odd on a board.

    Parameters
    ----------
    level_db : of each cell, on one grid, over 1/12 octave; subs left out (they have no treble to judge by)
    spots : in the order that they were taken
    arrival_s : of cells on one clock, latency and all
    flight_s : from speaker to microphone, by the plan

    Notes
    -----
    Our own rules. On rehearsed boards that were taken as planned neighbouring spots differ by 0.6 dB and more (usually
    2), treble by up to 3.5 dB, and arrivals by up to 0.12 ms from the plan; the thresholds keep clear of these.
    """
    return [
        *_not_moved(level_db, frequency_hz, spots),
        *_in_the_way(level_db, frequency_hz),
        *_wrong_rows(arrival_s, flight_s),
    ]


def _band(frequency_hz: NDArray, band_hz: tuple[float, float]) -> NDArray:
    return in_band(frequency_hz, band_hz)


def _not_moved(level_db: Mapping[Cell, NDArray], frequency_hz: NDArray, spots: list[int]) -> list[Outlier]:
    """Spots at which most channels sound as they did at the spot before."""
    inside = _band(frequency_hz, _FINE_HZ)
    differs: dict[tuple[int, int], dict[str, float]] = {}
    for before, after in pairwise(spots):
        for channel in dict.fromkeys(channel for channel, _ in level_db):
            if (channel, before) in level_db and (channel, after) in level_db:
                off = (level_db[channel, after] - level_db[channel, before])[inside]
                differs.setdefault((before, after), {})[channel] = float(np.sqrt(np.mean(off**2)))
    if len(differs) < _LEAST:
        return []
    usual = np.median([value for pair in differs.values() for value in pair.values()])
    odd = []
    for (before, after), by_channel in differs.items():
        typical = float(np.median(list(by_channel.values())))
        if typical < min(_SAME_DB, _SAME_PART * usual):
            odd += [
                Outlier(cell=(channel, after), kind="not moved", value=value, other=before)
                for channel, value in by_channel.items()
            ]
    return odd


def _in_the_way(level_db: Mapping[Cell, NDArray], frequency_hz: NDArray) -> list[Outlier]:
    """Cells whose treble lies far under that of their channel at the other spots, and whose spot is not at fault."""
    inside = _band(frequency_hz, _TREBLE_HZ)
    treble = {cell: float(np.mean(level[inside])) for cell, level in level_db.items()}
    by_channel: dict[str, list[Cell]] = {}
    for cell in treble:
        by_channel.setdefault(cell[0], []).append(cell)
    odd = []
    for cells in by_channel.values():
        if len(cells) <= _LEAST:
            continue
        middle = float(np.median([treble[cell] for cell in cells]))
        odd += [
            Outlier(cell=cell, kind="in the way", value=middle - treble[cell])
            for cell in cells
            if middle - treble[cell] > _SHADOW_DB
        ]
    return odd


def _wrong_rows(arrival_s: Mapping[Cell, float], flight_s: Mapping[Cell, float]) -> list[Outlier]:
    """Cells that arrive as another channel would at that spot, and not as their own."""
    odd = []
    by_spot: dict[int, list[Cell]] = {}
    for cell in arrival_s:
        if cell in flight_s:
            by_spot.setdefault(cell[1], []).append(cell)
    for cells in by_spot.values():
        if len(cells) < _LEAST:
            continue
        # The latency that most of them agree on.
        latency = float(np.median([arrival_s[cell] - flight_s[cell] for cell in cells]))
        for cell in cells:
            flew = arrival_s[cell] - latency
            off = flew - flight_s[cell]
            if abs(off) < _LATE_S:
                continue
            nearest = cells[int(np.argmin([abs(flew - flight_s[other]) for other in cells]))]
            if abs(flew - flight_s[nearest]) < _FITS_S and nearest != cell:
                odd.append(Outlier(cell=cell, kind="wrong row", value=off, other=nearest[0]))
    return odd
