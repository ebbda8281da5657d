"""What channels and subs make together in the bass, as the outputs will play them."""

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import in_band, power_db
from dolce.core.levels import SUB_LEVEL_BAND_HZ
from dolce.core.processor import Route
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.subs import CROSSOVER_OCTAVES, SubGroup, SummationLoss, smoothing, summation_loss_at
from dolce.core.tuning.outputs import Outputs
from dolce.core.tuning.prediction import Responses, response_of

SUM_HZ = np.arange(12.0, 600.5, 1.0)  # finer than a twelfth of an octave at 20 Hz needs
SHOWN_HZ = 20.0 * 2 ** (np.arange(24 * 4 + 1) / 24)  # to 320 Hz
_SMOOTH = smoothing(SUM_HZ, SHOWN_HZ)
_SOME_DB, _MUCH_DB = 1.5, 2.5  # of loss there: our own bounds
_PHASES_TO_HZ, _LEVELS_FROM_HZ = 300.0, 450.0  # sums by phase up to here; in between both; then by levels alone
_BASS = in_band(ANALYSIS_GRID_HZ, (18.0, _LEVELS_FROM_HZ))
_SMOOTH_BASS = smoothing(SUM_HZ, ANALYSIS_GRID_HZ[_BASS])
_LEVEL_BAND = in_band(SUM_HZ, SUB_LEVEL_BAND_HZ)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class CrossoverSum:
    """A main and the subs at their crossover.

    Attributes
    ----------
    channel : str
    crossover_hz : float
    main_db, subs_db, sum_db, most_db : ndarray, shape (seats, points)
        Energy means over the spots of each seat at `SHOWN_HZ`; `most_db` is where both would add up in phase.
    loss_db : ndarray, shape (seats,)
        Sum against the most, mean over an octave to both sides of the crossover frequency.
    """

    channel: str
    crossover_hz: float
    main_db: NDArray[np.float64]
    subs_db: NDArray[np.float64]
    sum_db: NDArray[np.float64]
    most_db: NDArray[np.float64]
    loss_db: NDArray[np.float64]

    @property
    def grades(self) -> tuple[Literal["", "some", "much"], ...]:
        """How much each seat loses, in a word."""
        return tuple("much" if loss < -_MUCH_DB else "some" if loss < -_SOME_DB else "" for loss in self.loss_db)


def signal_paths_of(outputs: Outputs, responses: Responses, channel: str) -> list[tuple[Route, NDArray[np.complex128]]]:
    """What each route adds when a channel is fed, shape (spots, points); those to outputs not taken are left out."""
    at_hz, rate = responses.frequency_hz, responses.sample_rate_hz
    turns: dict[str, NDArray] = {}  # of outputs, which several routes may lead to
    found = []
    for route in outputs.routes(channel):
        if route.output in responses.channels:
            if route.output not in turns:
                turns[route.output] = response_of(
                    outputs.of_output(route.output), at_hz=at_hz, sample_rate_hz=rate
                ) * 10 ** (outputs.switches_db(route.output, at_hz) / 20)
            turn = turns[route.output] * route.response(at_hz, sample_rate_hz=rate)
            found.append((route, responses.channels[route.output] * turn))
    return found


def with_phases(
    level_db: NDArray, parts: Sequence[tuple[Route, NDArray]], responses: Responses, change_db: Sequence[NDArray]
) -> NDArray[np.float64] | None:
    """Levels of several sounds at once, on the analysis grid, shape (spots, points); None where a part is missing.

    Parameters
    ----------
    level_db : their powers added up, over 1/12 octave, shape (spots, points)
    parts : what each route adds (`signal_paths_of`), complex at `SUM_HZ`, shape (spots, frequencies)
    change_db : by how much each route changed the level of its output for `level_db`, shape (points,)

    Notes
    -----
    Only what phases change is taken from the parts: levels, and how they are smoothed, are those of the curves. Up to
    300 Hz; above 450 Hz nobody knows phases that well. A filter that changes within a twelfth of an octave changes the
    parts by more than their smoothed levels say, and that is taken from the parts too.
    """
    alone = np.zeros((level_db.shape[0], np.count_nonzero(_BASS)))
    for (route, _), change in zip(parts, change_db, strict=True):
        smoothed = np.abs(responses.channels[route.output]) ** 2 @ _SMOOTH_BASS
        alone += smoothed * 10 ** (change[_BASS] / 10)
    together = power_db(np.abs(np.sum([part for _, part in parts], axis=0)) ** 2 @ _SMOOTH_BASS) - power_db(alone)
    if np.isnan(together).any():
        return None
    at = ANALYSIS_GRID_HZ[_BASS]
    share = np.clip(np.log(_LEVELS_FROM_HZ / at) / np.log(_LEVELS_FROM_HZ / _PHASES_TO_HZ), 0, 1)
    joined = level_db.copy()
    joined[:, _BASS] += share * together
    return joined


def group_levels_db(group: SubGroup, responses: Responses) -> NDArray[np.float64]:
    """Level of subs with their settings among themselves, where subs are matched, shape (spots,); NaN where unknown.

    As of pink noise: every octave alike.
    """
    total = np.sum(
        [
            responses.channels[sub] * setting.response(responses.frequency_hz)
            for sub, setting in group.settings.items()
            if sub in responses.channels
        ],
        axis=0,
    )
    power = np.abs(total[:, _LEVEL_BAND]) ** 2
    return power_db(np.average(power, axis=1, weights=1 / SUM_HZ[_LEVEL_BAND]))


def crossover_sum(outputs: Outputs, responses: Responses, channel: str, *, seats: NDArray) -> CrossoverSum | None:
    """A channel and the subs that play its bass; None where it plays its whole range alone, or was not taken.

    Parameters
    ----------
    responses : at `SUM_HZ`
    seats : ndarray, shape (seats, spots)
        How much each spot stands for a seat; rows add up to 1.
    """
    routing = outputs.bass
    crossover = None if routing is None else routing.of(channel)
    if routing is None or crossover is None or channel not in responses.channels:
        return None
    paths = signal_paths_of(outputs, responses, channel)
    main = sum((part for route, part in paths if not route.plays_bass), np.zeros(()))
    subs = sum((part for route, part in paths if route.plays_bass), np.zeros(()))
    if np.ndim(main) == 0 or np.ndim(subs) == 0:
        return None

    def by_seat(power: NDArray) -> NDArray:
        return power_db(seats @ (power @ _SMOOTH))

    total, most = by_seat(np.abs(main + subs) ** 2), by_seat((np.abs(main) + np.abs(subs)) ** 2)
    inside = np.abs(np.log2(SHOWN_HZ / crossover.frequency_hz)) <= CROSSOVER_OCTAVES
    return CrossoverSum(
        channel=channel,
        crossover_hz=crossover.frequency_hz,
        main_db=by_seat(np.abs(main) ** 2),
        subs_db=by_seat(np.abs(subs) ** 2),
        sum_db=total,
        most_db=most,
        loss_db=(total - most)[:, inside].mean(axis=1),
    )


def summation_losses_of(
    outputs: Outputs,
    responses: Responses,
    channels: tuple[str, ...],
    *,
    rows: NDArray,
    weights: ArrayLike | None = None,
) -> list[SummationLoss]:
    """Every crossed-over channel with its subs at some spots, to find what all subs get against the main channels.

    `rows` are the numbers of the spots, `weights` how much each of these counts. Channels that share a crossover are
    judged together.
    """
    routing = outputs.bass
    by_crossover: dict[float, list[tuple[NDArray, NDArray]]] = {}
    if routing is None:
        return []
    for channel in channels:
        crossover = None if channel in routing.subs else routing.of(channel)
        if crossover is None or channel not in responses.channels:
            continue
        paths = signal_paths_of(outputs, responses, channel)
        subs = [part[rows] for route, part in paths if route.plays_bass]
        main_channels = [part[rows] for route, part in paths if not route.plays_bass]
        if subs and main_channels:
            by_crossover.setdefault(crossover.frequency_hz, []).append(
                (np.sum(main_channels, axis=0), np.sum(subs, axis=0))
            )
    return [
        summation_loss_at(
            frequency_hz, SUM_HZ, *(np.array([pair[k] for pair in pairs]) for k in (0, 1)), weights=weights
        )
        for frequency_hz, pairs in by_crossover.items()
    ]
