"""Left against right of each kind, and the centre against the phantom centre, at the main seat, before and after."""

from dataclasses import dataclass

from dolce.core.alignment import Twins, together, twins
from dolce.core.cache import Cache
from dolce.core.job import Round, TakeRecord
from dolce.core.room import partner_of
from dolce.services.context import Context
from dolce.services.prove.proving import Proving
from dolce.store import UnitOfWork

_KEPT, _MOST_SPOTS = 64, 9


@dataclass(frozen=True, slots=True, kw_only=True)
class TwinView:
    """A channel against its partner; `against` is that one's code, or "phantom" for left and right together.

    `spots` is at how many of the main seat's spots; None for a round in which not all of them were taken.
    """

    channel: str
    against: str
    before: Twins | None
    after: Twins | None
    before_spots: int
    after_spots: int


class TwinKeeping:
    """Twins of one job's channels."""

    def __init__(self, context: Context, proving: Proving) -> None:
        self._context, self._proving = context, proving
        self._kept: Cache[tuple, tuple[Twins | None, int]] = Cache(_KEPT)

    def of(self, job_id: int, channel: str) -> TwinView | None:
        """None for a channel that has no partner, and for a centre without left and right."""
        view = self._proving.view(job_id)
        channels = view.job.channels
        if channel not in channels:
            return None
        partner = partner_of(channel)
        if channel == "C" and {"L", "R"} <= set(channels):
            second: tuple[str, ...] = ("L", "R")
        elif partner in channels and partner is not None:
            second = (partner,)
        else:
            return None
        spots = tuple(spot.id for spot in view.job.main_spots)[:_MOST_SPOTS]
        found = []
        with self._context.look() as work:
            for taken_in in (view.before_round, view.after_round):
                found.append((None, 0) if taken_in is None else self._in(work, taken_in, channel, second, spots))
        (before, before_spots), (after, after_spots) = found
        return TwinView(
            channel=channel,
            against=second[0] if len(second) == 1 else "phantom",
            before=before,
            after=after,
            before_spots=before_spots,
            after_spots=after_spots,
        )

    def _in(
        self, work: UnitOfWork, taken_in: Round, channel: str, second: tuple[str, ...], spots: tuple[int, ...]
    ) -> tuple[Twins | None, int]:
        key = (taken_in.id, work.takes.newest(taken_in.id), channel, second, spots)
        return self._kept.get_or(key, lambda: _twins(work, taken_in, channel, second, spots))


def _twins(
    work: UnitOfWork, taken_in: Round, channel: str, second: tuple[str, ...], spots: tuple[int, ...]
) -> tuple[Twins | None, int]:
    cells: dict[tuple[str, int], TakeRecord] = {
        (take.channel, take.spot_id): take
        for take in work.takes.latest(taken_in.id)
        if take.channel in (channel, *second)
        and take.spot_id in spots
        and take.usable
        and take.has_response
        and take.arrival_known
    }
    there = [spot for spot in spots if all((name, spot) in cells for name in (channel, *second))]
    if not there:
        return None, 0
    ids = [cells[name, spot].id for spot in there for name in (channel, *second)]
    responses = dict(work.takes.responses(ids))
    pairs = [
        (together([responses[cells[channel, spot].id]]), together([responses[cells[name, spot].id] for name in second]))
        for spot in there
    ]
    arrivals = [min(cells[name, spot].arrival_s for name in second) for spot in there]
    return twins(pairs, arrival_s=arrivals), len(there)
