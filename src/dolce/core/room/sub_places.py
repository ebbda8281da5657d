"""Where subs would serve the seats best, by the modal sum of the box."""

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from itertools import combinations
from math import comb

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import modal_transfer
from dolce.core.geometry import Point, inside_outline
from dolce.core.room.box_model import box_model, decay_of
from dolce.core.room.plan import RoomPlan
from dolce.errors import InvalidValue

BAND_HZ = (20.0, 120.0)
POINTS = 100
MOST_COMBINATIONS = 12_000
SUB_HEIGHT_M = 0.25
WALL_M = 0.4  # middle of a sub in front of a wall
_CHUNK = 512
# Decibels of spread, of unevenness and of output that count alike, by what the calibrator wants most.
AIMS = {"even seats": (1.0, 0.25, 0.05), "flat response": (0.35, 1.0, 0.05), "most output": (0.25, 0.15, 0.6)}
KINDS = {
    "corners": "Corners",
    "middles": "Middles of walls",
    "quarters": "Quarter points of walls",
    "grid": "Grid over the floor",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Candidate:
    """A place where a sub could stand; `kind` is one of KINDS."""

    number: int
    kind: str
    place: Point


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Arrangement:
    """Some subs together, all driven alike.

    Attributes
    ----------
    places : tuple of Point
    candidates : tuple of int
        Their numbers; empty for the present places.
    spread_db : float
        Standard deviation over the seats, mean over 20-120 Hz.
    unevenness_db : float
        Standard deviation over frequency of the seats' mean level.
    output_db : float
        Mean level over seats and band, against one sub in the open at 1 m.
    level_db : ndarray, shape (seats, points)
    """

    places: tuple[Point, ...]
    candidates: tuple[int, ...]
    spread_db: float
    unevenness_db: float
    output_db: float
    level_db: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Ranking:
    """The best arrangements and the present one.

    Attributes
    ----------
    frequency_hz : ndarray, shape (points,)
    best : arrangements, the best first
    present : of the subs as they stand, or None without subs
    tried : int
        How many were compared.
    """

    frequency_hz: NDArray[np.float64]
    best: tuple[Arrangement, ...]
    present: Arrangement | None
    tried: int


def candidates_of(plan: RoomPlan, kinds: Sequence[str], *, grid_m: float = 1.2) -> tuple[Candidate, ...]:
    """Candidate places of the chosen kinds, at the floor, inside the outline, numbered from 1."""
    size = plan.size
    x0, x1, y0, y1 = WALL_M, size.width_m - WALL_M, WALL_M, size.length_m - WALL_M
    middle_x, middle_y = size.width_m / 2, size.length_m / 2
    quarters_x, quarters_y = (size.width_m / 4, 3 * size.width_m / 4), (size.length_m / 4, 3 * size.length_m / 4)
    places = {
        "corners": [(x0, y0), (x1, y0), (x0, y1), (x1, y1)],
        "middles": [(middle_x, y0), (middle_x, y1), (x0, middle_y), (x1, middle_y)],
        "quarters": [*((x, y) for y in (y0, y1) for x in quarters_x), *((x, y) for x in (x0, x1) for y in quarters_y)],
        "grid": [(x, y) for y in _evenly(y0, y1, grid_m) for x in _evenly(x0, x1, grid_m)],
    }
    found: list[tuple[str, float, float]] = []
    for kind in KINDS:
        if kind not in kinds:
            continue
        for x, y in places[kind]:
            near = any(np.hypot(x - u, y - v) < 0.3 for _, u, v in found)
            if not near and (not plan.outline or inside_outline(plan.outline, x, y)):
                found.append((kind, round(x, 2), round(y, 2)))
    return tuple(
        Candidate(number=n, kind=kind, place=Point(x_m=x, y_m=y, z_m=SUB_HEIGHT_M))
        for n, (kind, x, y) in enumerate(found, 1)
    )


def rank_sub_places(
    plan: RoomPlan,
    candidates: Sequence[Candidate],
    *,
    subs: int,
    aim: str = "even seats",
    keep: int = 5,
    progress: Callable[[float], None] = lambda _: None,
) -> Ranking:
    """Every choice of `subs` places among the candidates, ranked for the seats.

    Parameters
    ----------
    subs : int
        1 to 4.
    aim : one of AIMS
    progress : callable
        Is told the part done, 0 to 1; may raise to stop.

    Raises
    ------
    InvalidValue
        If there are fewer candidates than subs, no seat that counts, or more than 12,000 choices.

    References
    ----------
    T. Welti and A. Devantier, "Low-frequency optimization using multiple subwoofers", J. Audio Eng. Soc. 54 (2006):
    spatial variance, flatness and mean output level as separate aims.
    """
    choices = comb(len(candidates), subs)
    if subs < 1 or len(candidates) < subs:
        raise InvalidValue(
            f"{len(candidates)} candidate places for {subs} subs.", where="candidates", remedy="Allow more places."
        )
    if choices > MOST_COMBINATIONS:
        raise InvalidValue(
            f"{len(candidates)} places for {subs} subs are {choices:,} choices.",
            where="candidates",
            remedy=f"Leave out places until at most {MOST_COMBINATIONS:,} are left, about "
            f"{_most_candidates(subs)} places.",
        )
    if aim not in AIMS:
        raise InvalidValue(f"{aim!r} is not an aim.", where="aim", remedy=f"Choose {', '.join(AIMS)}.")
    seats = [seat for seat in plan.seats if seat.weight > 0]
    if not seats:
        raise InvalidValue("no seat has a weight above 0.", where="seats", remedy="Give at least one seat a weight.")
    weights = np.array([seat.weight for seat in seats])
    weights = weights / weights.sum()
    frequency = np.geomspace(*BAND_HZ, POINTS)
    box = box_model(plan)
    receivers = box.within([seat.place for seat in seats])
    present_places = [s.place for s in plan.subs]
    transfer = modal_transfer(
        box.within([*(c.place for c in candidates), *present_places]),
        receivers,
        size_m=box.size_m,
        frequency_hz=frequency,
        reverberation_s=decay_of(plan).low_s,
        speed_m_s=plan.speed_m_s,
    )
    here, there = transfer[: len(candidates)], transfer[len(candidates) :]
    picks = np.array(list(combinations(range(len(candidates)), subs)))
    figures = np.empty((choices, 3))
    for start in range(0, choices, _CHUNK):
        some = picks[start : start + _CHUNK]
        together = here[some[:, 0]]
        for k in range(1, subs):
            together = together + here[some[:, k]]
        figures[start : start + _CHUNK] = _figures(_level_db(together), weights)
        progress(min(1.0, (start + _CHUNK) / choices))
    spread, uneven, loud = AIMS[aim]
    cost = spread * figures[:, 0] + uneven * figures[:, 1] - loud * figures[:, 2]
    order = np.argsort(cost, kind="stable")[:keep]

    def arrangement(places: Sequence[Point], numbers: tuple[int, ...], field: NDArray) -> Arrangement:
        level = _level_db(field)
        found = _figures(level[None], weights)[0]
        return Arrangement(
            places=tuple(places),
            candidates=numbers,
            spread_db=float(found[0]),
            unevenness_db=float(found[1]),
            output_db=float(found[2]),
            level_db=level,
        )

    best = tuple(
        arrangement(
            [candidates[k].place for k in picks[o]],
            tuple(candidates[k].number for k in picks[o]),
            here[picks[o]].sum(axis=0),
        )
        for o in order
    )
    present = arrangement(present_places, (), there.sum(axis=0)) if present_places else None
    return Ranking(frequency_hz=frequency, best=best, present=present, tried=choices)


def _level_db(field: NDArray) -> NDArray[np.float64]:
    return 10 * np.log10(field.real**2 + field.imag**2 + 1e-12)


def _figures(level_db: NDArray, weights: NDArray) -> NDArray[np.float64]:
    """Spread, unevenness and output of levels of shape (choices, seats, points); shape (choices, 3)."""
    mean = np.einsum("cst,s->ct", level_db, weights)
    spread = np.sqrt(np.maximum(np.einsum("cst,s->ct", level_db**2, weights) - mean**2, 0)).mean(axis=1)
    return np.stack([spread, mean.std(axis=1), mean.mean(axis=1)], axis=1)


def _evenly(start: float, stop: float, step: float) -> NDArray[np.float64]:
    return np.linspace(start, stop, max(2, round((stop - start) / step) + 1))


def _most_candidates(subs: int) -> int:
    count = subs
    while comb(count + 1, subs) <= MOST_COMBINATIONS and count < 200:
        count += 1
    return count
