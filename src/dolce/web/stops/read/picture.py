"""What lies in one picture on Read: names that tell the curves apart, their colours and their lines."""

from dataclasses import dataclass

from dolce.core.job import name_of
from dolce.services.read.chosen import Chosen
from dolce.services.read.options import Compared
from dolce.services.read.reading import ReadView
from dolce.web.shared.plot_data import ORDER_COLOURS

_LINES = 4  # beside the first, one after the other; with the colours, two dozen pairs


@dataclass(frozen=True, slots=True, kw_only=True)
class Pictured:
    """One curve of the picture, also one that is not drawn.

    Attributes
    ----------
    name : what tells it from the others, such as its round
    colour : the channel whose colour it has; its own where no other curve of the picture is of that channel
    line : its class of line
    fault : what it lacks, empty for nothing
    """

    number: int
    name: str
    colour: str
    line: str
    asked: Compared
    drawn: bool = True
    fault: str = ""


def pictured(view: ReadView) -> tuple[Pictured, ...]:
    """The first curve, then all that stand beside it, in their order."""
    every = [(view.chosen, view.front), *((one.chosen, one.asked.channel or view.front) for one in view.beside)]
    names = _names([None if chosen is None else _said(chosen, channel) for chosen, channel in every])
    first = Pictured(number=0, name=names[0], colour=view.front, line="after", asked=Compared())
    channels = [channel for _, channel in every]
    others = [colour for colour in ORDER_COLOURS if colour not in channels] or list(ORDER_COLOURS)
    return (
        first,
        *(
            Pictured(
                number=number,
                name=names[number],
                colour=channels[number]
                if channels.count(channels[number]) == 1
                else others[(number - 1) % len(others)],
                line=f"beside line-{(number - 1) % _LINES}",
                asked=one.asked,
                drawn=one.chosen is not None and one.asked.shown,
                fault=one.fault,
            )
            for number, one in enumerate(view.beside, 1)
        ),
    )


def _said(chosen: Chosen, channel: str) -> tuple[str, ...]:
    """Job, round, place and channel in words."""
    place = chosen.place
    if place.spot is not None:
        where = chosen.job.at_spot(place.spot)
    else:
        where = next((seat.name for seat in chosen.job.plan.seats if seat.id == place.seat), "all seats")
    return chosen.job.name, chosen.round.name, where, name_of(channel)


def _names(said: list[tuple[str, ...] | None]) -> list[str]:
    """The first by all in which any differs from it, its round where none does; the others by that alone."""
    first, *others = said
    assert first is not None
    apart = [[k for k in range(4) if words is not None and words[k] != first[k]] for words in others]
    differ = sorted({k for ks in apart for k in ks}) or [1]
    return [
        ", ".join(first[k] for k in differ),
        *(
            "gone" if words is None else ", ".join(words[k] for k in ks) or "the same again"
            for words, ks in zip(others, apart, strict=True)
        ),
    ]
