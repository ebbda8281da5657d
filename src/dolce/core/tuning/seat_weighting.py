"""For whom a correction is made: weights of seats, and of the spots that stand for them."""

from collections.abc import Mapping
from dataclasses import dataclass, field

from dolce.core import checked
from dolce.core.job import Job
from dolce.core.room import RoomPlan
from dolce.core.seat_weights import spot_weights_of
from dolce.errors import InvalidValue

ALL_SEATS = "All seats, weighted"


@dataclass(frozen=True, slots=True, kw_only=True)
class SeatWeighting:
    """A name, and the weight of every seat by its id; seats that are not named count nothing."""

    name: str = ALL_SEATS
    weights: Mapping[int, float] = field(default_factory=dict)

    def __post_init__(self) -> None:
        checked.text(self.name, longest=60, where="seat_weighting")
        for seat, weight in self.weights.items():
            checked.within(weight, low=0, high=10, where=f"weight of seat {seat}")
        if self.weights and not any(self.weights.values()):
            raise InvalidValue(
                "no seat has a weight above 0.", where="seat_weighting", remedy="Give one of them a weight."
            )

    def of_seat(self, seat_id: int | None) -> float:
        """The weight of a seat; 0 for None, as of spots of no seat."""
        return 0.0 if seat_id is None else self.weights.get(seat_id, 0.0)

    def spot_weights(self, spots: Mapping[int, int | None]) -> dict[int, float]:
        """Weight of each spot that counts, by id.

        Parameters
        ----------
        spots : mapping of spot id to the id of its seat, or None for spots of no seat

        Notes
        -----
        Every seat counts by its weight, however many spots stand for it: its spots share it. Spots close to a speaker
        and free ones count nothing.
        """
        if not any(self.weights.get(seat, 0.0) > 0 for seat in spots.values() if seat is not None):
            return {}
        found = spot_weights_of(tuple(spots.values()), self.weights)
        return {spot: float(weight) for spot, weight in zip(spots, found, strict=True) if weight > 0}


def seat_weightings_of(plan: RoomPlan) -> list[SeatWeighting]:
    """Those that a plan suggests: all seats by their weights, the main seat alone, then each other seat alone."""
    weights = {seat.id: seat.weight for seat in plan.seats}
    if not any(weights.values()):
        weights = {plan.main_seat.id: 1.0}
    seats = sorted(plan.seats, key=lambda seat: not seat.is_main)
    single = [SeatWeighting(name=f"{seat.name} only", weights={seat.id: 1.0}) for seat in seats]
    return [SeatWeighting(weights=weights), *(single if len(seats) > 1 else [])]


def usual_seat_weighting(job: Job) -> SeatWeighting:
    """The seat weighting to begin with: all seats by their weights."""
    return seat_weightings_of(job.plan)[0]


def spot_weights(job: Job, seat_weighting: SeatWeighting) -> dict[int, float]:
    """Weight of every spot that counts in a seat weighting, by id."""
    return seat_weighting.spot_weights({spot.id: spot.seat_id for spot in job.spots})


def main_seat_weights(job: Job) -> dict[int, float]:
    """The spots of the main seat, all alike."""
    return {spot.id: 1.0 for spot in job.main_spots}


def level_weights(job: Job, seat_weighting: SeatWeighting | None) -> dict[int, float]:
    """Weight by id of every spot that levels are matched at: those of a seat weighting, or of the main seat alone."""
    return main_seat_weights(job) if seat_weighting is None else spot_weights(job, seat_weighting)
