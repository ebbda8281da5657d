"""What can be done with the curves of the picture on Read, each as the address that shows it."""

from dataclasses import dataclass, replace

from dolce.services.read.options import MOST_COMPARED, Compared, Place, ReadOptions
from dolce.services.read.reading import ReadView
from dolce.web.stops.read.asked import address_of


@dataclass(frozen=True, slots=True)
class PictureSteps:
    """Addresses that follow from a view; a curve is named by its number in the picture, 1 for the first beside."""

    view: ReadView

    def turned(self, number: int) -> str:
        return address_of(self.view.options.turned(number - 1))

    def without(self, number: int) -> str:
        return address_of(self.view.options.without(number - 1))

    def earlier(self, number: int) -> str:
        return address_of(self.view.options.earlier(number - 1))

    def difference_to(self, number: int) -> str:
        """Differences to a curve, or none any more where they are to it."""
        to = None if self.view.options.difference_to == number else number
        return address_of(replace(self.view.options, difference_to=to))

    @property
    def alone(self) -> str:
        return address_of(replace(self.view.options, compared=(), difference_to=1))

    @property
    def more(self) -> list[tuple[str, str]]:
        """Sets of curves that are added in one press: what they are called, and their addresses."""
        view, options = self.view, self.view.options
        plan = view.job.plan
        seats = [seat for seat in plan.seats if plan.spots_of(seat.id)]
        place = view.chosen.place
        near = plan.spots_of(place.seat) if place.seat is not None else plan.spots
        sets: list[tuple[str, list[Compared]]] = [
            ("every round", [Compared(round_id=r.id) for r in view.rounds if r.id != view.round.id]),
            (
                "every seat",
                [Compared(place=Place(seat=seat.id)) for seat in seats if seat.id != place.seat and len(seats) > 1],
            ),
            ("every spot", [Compared(place=Place(spot=spot.id)) for spot in near if spot.id != place.spot]),
            ("every channel", [Compared(channel=channel) for channel in view.job.channels if channel != view.front]),
        ]
        return [(name, address_of(found)) for name, curves in sets if (found := _room_for(options, curves)) != options]


def _room_for(options: ReadOptions, curves: list[Compared]) -> ReadOptions:
    """With as many more as there is room for."""
    return options.beside(*curves[: max(0, MOST_COMPARED - len(options.compared))])
