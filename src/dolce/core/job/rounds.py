"""Which round a correction starts from, and whether its takes belong together."""

from collections.abc import Iterable, Mapping, Sequence

from dolce.core.job.model import Round, TakeRecord


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


def moved_between(takes: Iterable[TakeRecord]) -> tuple[str, ...]:
    """Speakers (by channel) and spots (as "spot-ID") that stood at several places while takes were made; sorted.

    Takes of old versions don't know where things stood, and count nothing.
    """
    places: dict[str, set] = {}
    for take in takes:
        for thing, place in ((take.channel, take.speaker_place), (f"spot-{take.spot_id}", take.spot_place)):
            if place is not None:
                places.setdefault(thing, set()).add(place)
    return tuple(sorted(thing for thing, found in places.items() if len(found) > 1))
