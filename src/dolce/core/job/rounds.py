"""Which round a correction starts from, and whether its takes belong together."""

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass

from dolce.core.geometry import Point
from dolce.core.job.takes import Round, TakeRecord


def proposed_base(rounds: Sequence[Round], cells: Mapping[int, int]) -> Round | None:
    """The round to start from where none was chosen yet; None where nothing is taken while bypassed.

    Parameters
    ----------
    cells : mapping of round id to the count of its cells on the board that hold a take

    Notes
    -----
    The fullest one, and the latest of those that are equally full: a single take in a later round is no new start.
    """
    bypassed = [r for r in rounds if r.bypassed and cells.get(r.id)]
    return max(bypassed, key=lambda r: (cells[r.id], r.id), default=None)


def latest_corrected(rounds: Sequence[Round], cells: Mapping[int, int]) -> Round | None:
    """The latest round with takes that was made through a preset that corrects."""
    through = [r for r in rounds if r.corrects and cells.get(r.id)]
    return through[-1] if through else None


@dataclass(frozen=True, slots=True, kw_only=True)
class Moved:
    """What stood at several places: speakers by channel, spots by id; both sorted."""

    channels: tuple[str, ...] = ()
    spots: tuple[int, ...] = ()


def moved_between(takes: Iterable[TakeRecord]) -> Moved:
    """Speakers and spots that stood at several places while takes were made.

    Takes of old versions don't know where things stood, and count nothing.
    """
    speakers: dict[str, set[Point]] = {}
    spots: dict[int, set[Point]] = {}
    for take in takes:
        if take.speaker_place is not None:
            speakers.setdefault(take.channel, set()).add(take.speaker_place)
        if take.spot_place is not None:
            spots.setdefault(take.spot_id, set()).add(take.spot_place)
    return Moved(
        channels=tuple(sorted(c for c, places in speakers.items() if len(places) > 1)),
        spots=tuple(sorted(s for s, places in spots.items() if len(places) > 1)),
    )
