"""The filters of the common bass, with what they will do at spots that were not taken."""

from collections.abc import Callable, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from threading import Lock

import numpy as np
from numpy.typing import NDArray

from dolce.core.bass.aim import BassAim
from dolce.core.bass.cost import BassCost, Priorities
from dolce.core.bass.doubts import ErrorBudget, PressureNode, error_budget, nodes_between, pressure_nodes
from dolce.core.bass.figures import BassFigures, BassMeasure
from dolce.core.bass.filters import BassFilter, BassFilters
from dolce.core.bass.lattice import FREQUENCY_HZ, spectra_of_taps
from dolce.core.bass.search import searched
from dolce.core.bass.takes import BassTakes
from dolce.errors import InvalidValue

EFFORTS = (0.03, 0.1)
_FOLDS = 3
_AT_ONCE = 2
SHARE = 0.8  # of rooms in which the spread at spots that were not taken lies between the bounds
# Filters found from two thirds of the spots do worse at the rest than those from all of them: half of what they are
# worse than at the given spots is expected, and the spread within a factor of what it was there, from the practice of
# simulated rooms (bench/bass_figures.py).
_SPREAD_RANGE, _EXCESS = 1.4, 0.5


@dataclass(frozen=True, slots=True)
class SearchSteps:
    """How many steps a search takes at most, with levels as ratios first and then in dB: of all spots, and of those
    that remain when a third is left out.
    """

    whole: tuple[int, int]
    fold: tuple[int, int]


THOROUGH = SearchSteps(whole=(150, 1200), fold=(80, 200))
QUICK = SearchSteps(whole=(100, 600), fold=(50, 120))  # half of the time for 0.02 dB more of spread


@dataclass(frozen=True, slots=True, kw_only=True)
class ExpectedBass:
    """Figures at spots that are not taken; the spread lies between the bounds in `SHARE` of rooms."""

    spread_db: float
    low_db: float
    high_db: float
    deviation_db: float
    output_db: float


@dataclass(frozen=True, slots=True, kw_only=True)
class SharedBass:
    """Filters of the common bass.

    Attributes
    ----------
    takes : BassTakes
        The loudspeakers that take part.
    taps : ndarray, shape (loudspeakers, taps)
    length_s, latency_s : float
    effort : float
        The weight of effort that was chosen by leaving spots out.
    given : BassFigures
        At the spots that were taken.
    expected : ExpectedBass or None
        At others; None where no seat has two spots.
    nodes : list of PressureNode
        Where the bass changes sign, within seats and between them.
    budget : ErrorBudget
        What errors do to the seat-to-seat variation.
    stopped : bool
        Whether the search was ended before its time.
    """

    takes: BassTakes
    taps: NDArray[np.float64]
    length_s: float
    latency_s: float
    effort: float
    given: BassFigures
    expected: ExpectedBass | None
    nodes: list[PressureNode]
    budget: ErrorBudget
    stopped: bool = False

    @property
    def filters(self) -> BassFilters:
        """As they are kept and played."""
        return _filters_of(self.takes, self.taps, length_s=self.length_s, latency_s=self.latency_s)


def shared_bass(
    takes: BassTakes,
    aim: BassAim,
    *,
    length_s: float,
    latency_s: float,
    weights: Mapping[str, float] | None = None,
    search_steps: SearchSteps = THOROUGH,
    on_progress: Callable[[float], None] = lambda _: None,
    stopped: Callable[[], bool] = lambda: False,
) -> SharedBass:
    """Filters for all loudspeakers of takes; the same every time.

    Parameters
    ----------
    length_s, latency_s : float
        Of each filter, and by how much main channels wait for the bass.
    weights : mapping of seat to weight, or None
        The spots of a seat share its weight.
    search_steps : SearchSteps
        Fewer find worse filters sooner.
    on_progress : function
        Hears the part done.
    stopped : function
        Where it says so, what was found until then is returned.

    Raises
    ------
    InvalidValue
        If no sub takes part.

    Notes
    -----
    The weight of effort is the one that serves spots best that were left out: spots of each seat are left out in
    turn, a third at a time (M. Stone, "Cross-validatory choice and assessment of statistical predictions", Journal of
    the Royal Statistical Society B 36, 111-147, 1974). Spots that judge take no part in the filters.
    """
    if not any(takes.is_sub):
        raise InvalidValue("no sub takes part.", where="subs", remedy="Take one at every spot.")
    folds = folds_of(takes.seat_of)
    left = sorted(spot for fold in folds for spot in fold)
    steps = sum(search_steps.whole) + len(folds) * len(EFFORTS) * sum(search_steps.fold)
    done = 0

    lock = Lock()

    def step() -> None:
        nonlocal done
        with lock:
            done += 1
            on_progress(min(done / steps, 0.99))

    def found(spots: Sequence[int], effort: float, count: tuple[int, int]) -> tuple[NDArray, bool]:
        given, guessed_from = takes.at_spots(spots).mirrored()
        cost = BassCost(
            given,
            aim.at_spots(spots).with_guesses(guessed_from),
            Priorities(effort=effort),
            weights=weights,
            guessed=len(guessed_from),
        )
        result = searched(cost, length_s=length_s, latency_s=latency_s, steps=count, stopped=stopped, on_step=step)
        return result.taps, result.stopped

    measure = BassMeasure(takes, aim)
    left_out = {effort: np.zeros((len(takes.seat_of), FREQUENCY_HZ.size), dtype=complex) for effort in EFFORTS if folds}

    def without(effort: float, fold: list[int]) -> None:
        others = [k for k in range(len(takes.seat_of)) if k not in fold]
        taps, _ = found(others, effort, search_steps.fold)
        left_out[effort][fold] = bass_of(takes, taps)[fold]

    with ThreadPoolExecutor(max_workers=_AT_ONCE) as pool:
        for task in [pool.submit(without, effort, fold) for effort in left_out for fold in folds]:
            task.result()
    judged = {
        effort: measure.deviations_db(measure.levels_db(heard))[left].mean() for effort, heard in left_out.items()
    }
    effort = min(judged, key=lambda weight: judged[weight], default=EFFORTS[0])
    taps, ended = found(range(len(takes.seat_of)), effort, search_steps.whole)
    on_progress(1.0)
    taps = _within_limit(takes, taps, length_s=length_s, latency_s=latency_s, highest_gain_db=aim.highest_gain_db)
    heard = bass_of(takes, taps)
    given = measure.of(heard)
    return SharedBass(
        takes=takes,
        taps=taps,
        length_s=length_s,
        latency_s=latency_s,
        effort=effort,
        given=given,
        expected=_expected(measure, given, left_out[effort], left) if folds else None,
        nodes=[
            *pressure_nodes(takes.seat_of, heard, hand_over_hz=aim.hand_over_hz),
            *nodes_between(takes, hand_over_hz=aim.hand_over_hz),
        ],
        budget=error_budget(measure, takes, spectra_of_taps(taps) * takes.protection),
        stopped=ended,
    )


def _within_limit(
    takes: BassTakes, taps: NDArray[np.float64], *, length_s: float, latency_s: float, highest_gain_db: float
) -> NDArray[np.float64]:
    """All filters softer together, should the search have left one above the limit, which it holds by a penalty."""
    played = _filters_of(takes, taps, length_s=length_s, latency_s=latency_s)
    highest_db = max(row.highest_gain_db for row in played.filters)
    return taps * 10 ** (min(0.0, highest_gain_db - highest_db) / 20)


def _filters_of(takes: BassTakes, taps: NDArray[np.float64], *, length_s: float, latency_s: float) -> BassFilters:
    return BassFilters(
        filters=tuple(
            BassFilter.of(name, row, end_hz=None if is_sub else end_hz)
            for name, is_sub, end_hz, row in zip(takes.names, takes.is_sub, takes.ends_hz, taps, strict=True)
        ),
        length_s=length_s,
        latency_s=latency_s,
    )


def bass_of(takes: BassTakes, taps: NDArray[np.float64]) -> NDArray[np.complex128]:
    """What the common bass is at each spot, shape (spots, frequencies)."""
    filters = spectra_of_taps(taps) * takes.protection
    return np.einsum("kn,ksn->sn", filters, takes.heard)


def folds_of(seat_of: Sequence[str]) -> list[list[int]]:
    """Spots that are left out together: of each seat a third of its spots, none of a seat with one alone."""
    folds: list[list[int]] = [[] for _ in range(_FOLDS)]
    for number, seat in enumerate(dict.fromkeys(seat_of)):
        of_seat = [k for k, other in enumerate(seat_of) if other == seat]
        if len(of_seat) > 1:
            for place, spot in enumerate(of_seat):
                folds[(number + place) % _FOLDS].append(spot)
    return [fold for fold in folds if fold]


def _expected(measure: BassMeasure, given: BassFigures, heard: NDArray, spots: list[int]) -> ExpectedBass:
    """From what the spots that were left out heard."""
    part = measure.at_spots(spots)
    levels = part.levels_db(heard[spots])
    spread = max(part.spread_db(levels), given.spread_db)
    more_db = float(part.deviations_db(levels).mean()) - given.deviation_db
    return ExpectedBass(
        spread_db=spread,
        low_db=spread / _SPREAD_RANGE,
        high_db=spread * _SPREAD_RANGE,
        deviation_db=given.deviation_db + _EXCESS * max(0.0, more_db),
        output_db=float(part.outputs_db(levels).mean()),
    )
