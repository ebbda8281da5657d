"""The Read stop: levels over frequency, phase and impulse of what was taken."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, Round
from dolce.core.response import ANALYSIS_GRID_HZ, average_over_spots, find_arrival, mean_spread_db, phase_deg
from dolce.errors import InvalidValue
from dolce.services.context import Context
from dolce.services.read.round_curves import ChannelCurves, curves_by_channel

SMOOTHINGS: dict[str, float | None] = {"none": None, "1/48": 48, "1/24": 24, "1/12": 12, "1/6": 6, "1/3": 3}
_IMPULSE_BEFORE_S, _IMPULSE_AFTER_S = 0.002, 0.02


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadWish:
    """What to look at; no spot means all of them."""

    round_id: int | None = None
    channels: tuple[str, ...] = ()
    spot: int | None = None
    smoothing: str = "1/12"
    view: str = "level"

    def __post_init__(self) -> None:
        if self.smoothing not in SMOOTHINGS:
            raise InvalidValue(f"smoothing {self.smoothing!r}.", where="smoothing",
                               remedy=f"Choose {', '.join(SMOOTHINGS)}.")
        if self.view not in ("level", "phase", "impulse"):
            raise InvalidValue(f"view {self.view!r}.", where="view", remedy="Choose level, phase or impulse.")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ReadView:
    """What there is to choose from, and the curves that were chosen."""

    job: Job
    rounds: tuple[Round, ...]
    round: Round
    wish: ReadWish
    curves: tuple[ChannelCurves, ...]
    phases: dict[str, NDArray[np.float64]]
    impulses: dict[str, tuple[NDArray[np.float64], NDArray[np.float64]]]

    @staticmethod
    def bass_spread_db(curves: ChannelCurves) -> float:
        """Mean standard deviation over the spots, 20-120 Hz, of levels over 1/48 octave, however they are shown."""
        return mean_spread_db(ANALYSIS_GRID_HZ, average_over_spots([take.level_db for take in curves.takes]))


class Reading:
    """Curves of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int, wish: ReadWish) -> ReadView:
        """Curves for a wish; phase and impulse are those of one take, spot 1 unless another is chosen."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            rounds = tuple(work.takes.rounds(job_id))
            chosen = next((r for r in rounds if r.id == (wish.round_id or job.round_id)), None)
            if chosen is None:
                raise InvalidValue("that round is not of this job.", where="round", remedy="Choose one of the list.")
            channels = [c for c in job.channels if c in wish.channels] or list(job.channels)
            one_take = wish.view != "level"
            there = {spot.id for spot in job.spots}
            spots = {wish.spot or (job.first_spot.id if there else 0)} if one_take else (
                {wish.spot} if wish.spot else there)
            found = curves_by_channel(
                (take for take in work.takes.latest(chosen.id) if take.spot_id in spots and take.channel in channels),
                work, per_octave=SMOOTHINGS[wish.smoothing])
            curves = tuple(found[channel] for channel in channels if channel in found)
            phases, impulses = {}, {}
            if one_take and any(c.takes[0].source == "moving" for c in curves):
                # A moving average has neither phase nor impulse.
                curves = tuple(c for c in curves if c.takes[0].source != "moving")
            for curve in curves if one_take else ():
                take = curve.takes[0]
                response = work.takes.response(take.id)
                if wish.view == "phase":
                    phases[curve.channel] = phase_deg(response, at_hz=ANALYSIS_GRID_HZ, arrival_s=take.arrival_s)
                else:
                    # Seen from the direct sound, wherever the clock of the recording began.
                    time = response.time_s - find_arrival(response).time_s
                    near = (time >= -_IMPULSE_BEFORE_S) & (time <= _IMPULSE_AFTER_S)
                    impulses[curve.channel] = (time[near], response.sample[near])
        return ReadView(job=job, rounds=rounds, round=chosen, wish=wish, curves=curves, phases=phases,
                        impulses=impulses)
