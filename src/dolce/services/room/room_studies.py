"""What the box model says of a room: its modes, and where subs would serve the seats best."""

import json
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import Modes, mode_count_estimate, modes_of_box
from dolce.core.room import (
    BoxModel,
    Candidate,
    Decay,
    Ranking,
    RoomPlan,
    box_model,
    candidates_of,
    decay_of,
    plan_values,
    rank_sub_places,
)
from dolce.errors import InvalidValue
from dolce.services.context import Context

HIGHEST_MODE_HZ = 300.0
_KEPT_RANKINGS = 8


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ModesView:
    """Modes up to 300 Hz and how strongly they are driven.

    Attributes
    ----------
    at_seats : ndarray, shape (seats, modes)
        Pressure at each seat, 1 at the loudest place.
    drive_db : ndarray, shape (speakers, seats, modes)
        0 dB with both in a corner.
    expected : float
        How many modes the estimate by volume, surface and edges gives.
    """

    box: BoxModel
    decay: Decay
    modes: Modes
    at_seats: NDArray[np.float64]
    drive_db: NDArray[np.float64]
    expected: float


@dataclass(frozen=True, slots=True, kw_only=True)
class SubPlaceOptions:
    """What the ranking is asked for: how many subs, which kinds of places, which ones left out, and the aim."""

    subs: int = 1
    kinds: tuple[str, ...] = ("corners", "middles", "quarters")
    without: tuple[int, ...] = ()
    aim: str = "even seats"
    grid_m: float = 1.2


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SubStudy:
    """Candidate places, those in use, and the ranking or why there is none."""

    options: SubPlaceOptions
    candidates: tuple[Candidate, ...]
    ranking: Ranking | None
    refusal: str


class RoomStudies:
    """Modes and sub places of plans; the last rankings are kept."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._rankings: dict[str, Ranking] = {}

    def modes(self, plan: RoomPlan) -> ModesView:
        box = box_model(plan)
        modes = modes_of_box(box.size_m, up_to_hz=HIGHEST_MODE_HZ, speed_m_s=box.speed_m_s)
        seats = box.within([s.place for s in plan.seats])
        speakers = box.within([s.place for s in plan.speakers])
        return ModesView(
            box=box,
            decay=decay_of(plan),
            modes=modes,
            at_seats=modes.pressure_at(seats),
            drive_db=modes.drive_db(speakers, seats),
            expected=mode_count_estimate(box.size_m, up_to_hz=HIGHEST_MODE_HZ, speed_m_s=box.speed_m_s),
        )

    def sub_places(self, plan: RoomPlan, options: SubPlaceOptions) -> SubStudy:
        """Candidate places and their ranking; options that can't be met are answered by its reason."""
        candidates = candidates_of(plan, options.kinds, grid_m=options.grid_m)
        used = [c for c in candidates if c.number not in options.without]
        try:
            ranking = self._ranking(plan, used, options)
        except InvalidValue as error:
            return SubStudy(
                options=options, candidates=candidates, ranking=None, refusal=f"{error.problem} {error.remedy}"
            )
        return SubStudy(options=options, candidates=candidates, ranking=ranking, refusal="")

    def _ranking(self, plan: RoomPlan, used: list[Candidate], options: SubPlaceOptions) -> Ranking:
        """Computed once for one plan and its options."""
        values = plan_values(plan)
        key = json.dumps(
            [
                values["room"],
                values["outline"],
                values["seats"],
                values["reverberation"],
                [[s.place.x_m, s.place.y_m, s.place.z_m] for s in plan.subs],
                [c.number for c in used],
                options.subs,
                options.kinds,
                options.aim,
                options.grid_m,
            ]
        )
        if key not in self._rankings:
            ranking = rank_sub_places(plan, used, subs=options.subs, aim=options.aim)
            while len(self._rankings) >= _KEPT_RANKINGS:
                self._rankings.pop(next(iter(self._rankings)))
            self._rankings[key] = ranking
        return self._rankings[key]
