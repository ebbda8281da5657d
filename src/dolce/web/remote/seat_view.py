"""What the remote shows: the next spot, the board as dots, what plays, the last take."""

from dataclasses import dataclass

from dolce.core.correction import MEAN_BAND_HZ
from dolce.core.dsp import energy_mean_db, in_band
from dolce.core.job import Job, PassRecord, TakeRecord
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.services.rig.live_session import Purpose
from dolce.services.rig.live_sound import LiveView
from dolce.services.wiring import Services
from dolce.web.shared.plot_data import small_path
from dolce.web.stops.takes.next_spot import NextSpot
from dolce.words.numbers import length

_CURVE = (320, 70)


SEAT_PURPOSES: tuple[Purpose, ...] = ("meter", "subs", "reference")
_PURPOSE_OF: dict[str, Purpose] = {"live": "meter", "subs": "subs", "reference": "reference"}


@dataclass(frozen=True, slots=True, kw_only=True)
class BoardDot:
    """One cell: its word, empty for nothing taken."""

    channel: str
    spot: int
    word: str


@dataclass(frozen=True, slots=True, kw_only=True)
class SeatView:
    """One look.

    Attributes
    ----------
    place : where the microphone goes next, or is now
    running : the pass that plays in this job
    dots : rows of the board
    last : the last take of the round, its curve as an SVG path
    meter : digits of a live session of this job that runs
    """

    job: Job
    round_name: str
    spot: int | None
    place: NextSpot | None
    height: str
    running: PassRecord | None
    elsewhere: bool
    taken: int
    wanted: int
    dots: tuple[tuple[BoardDot, ...], ...]
    last: TakeRecord | None
    path: str
    meter: LiveView | None
    meter_purpose: str


def seat_view(services: Services, job_id: int) -> SeatView:
    """What stands there now."""
    board, running = services.taking.board(job_id), services.sound.running()
    here = running if running is not None and running.job_id == job_id else None
    spot = board.next_spot
    if here is not None and here.kind == "takes" and here.done_steps < len(here.steps):
        spot = here.steps[here.done_steps][1]
    last = max(board.takes.values(), key=lambda take: take.id, default=None)
    path = ""
    if last is not None:
        inside = in_band(ANALYSIS_GRID_HZ, (20, 20_000))
        middle = in_band(ANALYSIS_GRID_HZ, MEAN_BAND_HZ)
        path = small_path(
            last.level_db[inside][::6] - float(energy_mean_db(last.level_db[middle])), width=_CURVE[0], height=_CURVE[1]
        )
    numbers = [spot.id for spot in board.job.spots]
    dots = tuple(
        tuple(
            BoardDot(channel=feed.code, spot=number, word=_word(board.takes.get((feed.code, number))))
            for number in numbers
        )
        for feed in board.job.feeds
    )
    purpose = _PURPOSE_OF.get(here.kind) if here else None
    return SeatView(
        job=board.job,
        round_name=board.round.name,
        spot=spot,
        running=here,
        elsewhere=running is not None and here is None,
        taken=board.taken,
        wanted=board.wanted,
        dots=dots,
        last=last,
        place=NextSpot.of(board.job, spot) if spot is not None else None,
        path=path,
        height=length(board.job.spot(spot).place.z_m, board.job.units) if spot is not None else "",
        meter=services.live.view(job_id, purpose) if purpose else None,
        meter_purpose=purpose or "",
    )


def _word(take: TakeRecord | None) -> str:
    return "" if take is None else take.word
