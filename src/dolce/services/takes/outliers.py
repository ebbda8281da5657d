"""What is odd on a board, and what to do about it, in words."""

from collections.abc import Mapping

from dolce.core.acoustics import speed_of_sound
from dolce.core.cache import Cache
from dolce.core.geometry import distance_m
from dolce.core.job import Job, Round
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.response.outliers import Outlier, outliers
from dolce.core.room import SUB_CODES
from dolce.core.tuning.channel_curves import ChannelCurves
from dolce.services.context import Context

_ROUNDS = 8  # whose findings are kept


class OutliersOfRounds:
    """What is odd in rounds: found once, until a take comes or the plan changes."""

    def __init__(self, context: Context) -> None:
        self._context = context
        self._kept: Cache[tuple, list[Outlier]] = Cache(_ROUNDS)

    def of(self, job: Job, found: Round) -> list[Outlier]:
        """What is odd among the usable takes of a round."""
        with self._context.look() as work:
            rests_on = (
                found.id,
                work.takes.newest(found.id),
                job.channels,
                tuple(spot.id for spot in job.spots),
                job.room,
                found.bypassed,
            )
            return self._kept.get_or(
                rests_on, lambda: _outliers_of(self._context.curves.of(work, found.id), job, found)
            )


def _outliers_of(curves: Mapping[str, ChannelCurves], job: Job, found: Round) -> list[Outlier]:
    """Of a round's curves; rows are told apart only where no preset delays them."""
    there = {spot.id for spot in job.spots}
    levels, arrivals, flights = {}, {}, {}
    speed = speed_of_sound(job.room.temperature_c)
    for channel, of_channel in curves.items():
        if channel in SUB_CODES or channel not in job.channels:
            continue
        for take, level in zip(of_channel.takes, of_channel.level_db, strict=True):
            if take.spot_id not in there or not take.has_response:
                continue
            cell = (channel, take.spot_id)
            levels[cell] = level
            if found.bypassed and take.arrival_known and take.speaker_place is not None and take.spot_place is not None:
                arrivals[cell] = take.arrival_s
                flights[cell] = distance_m(take.speaker_place, take.spot_place) / speed
    return outliers(
        levels, ANALYSIS_GRID_HZ, spots=[spot.id for spot in job.spots], arrival_s=arrivals, flight_s=flights
    )


def outlier_words(odd: Outlier, job: Job) -> str:
    """One or two sentences: what is odd, and what to do."""
    channel, spot = odd.cell
    match odd.kind:
        case "not moved":
            return (
                f"{job.at_spot(spot).capitalize()} sounds as {job.at_spot(int(odd.other))} did. If the microphone was "
                "not moved, move it and repeat."
            )
        case "in the way":
            return (
                f"{channel} has {odd.value:.0f} dB less treble at {job.at_spot(spot)} than elsewhere. Was somebody "
                "or something in the way? Repeat if so."
            )
        case "wrong row":
            return (
                f"{channel} at {job.at_spot(spot)} arrives as {odd.other} would, {abs(odd.value) * 1000:.1f} ms off "
                "its own place. Check the wire and the row, then repeat."
            )
