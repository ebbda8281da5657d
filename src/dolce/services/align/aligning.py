"""The Align stop: arrivals and levels at the main seat, trims and delays."""

from collections.abc import Container, Iterable, Mapping
from dataclasses import dataclass, replace

from dolce.core.acoustics import speed_of_sound
from dolce.core.alignment import (
    TRIM_STEP_DB,
    ArrivalLadder,
    ChannelReading,
    arrival_ladder,
    common_polarity,
    level_band_hz,
    mid_level_db,
    with_subs_by_plan,
)
from dolce.core.geometry import distance_m
from dolce.core.job import Job, Round, TakeRecord, moved_between
from dolce.core.levels import energy_mean_db, together_db
from dolce.core.processor import ChannelSettings, Misfit
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Alignment, Blend, ChannelAlignment, blends_of
from dolce.errors import Conflict, InvalidForm, InvalidValue
from dolce.services.context import Context
from dolce.services.load.misfit_words import misfit_words
from dolce.services.read.round_curves import base_round, main_seat_weights, spot_weights
from dolce.store import UnitOfWork

# Which field of the table a misfit stands beside.
_FIELD_OF = {"trim": "trim", "trim step": "trim", "delay": "delay"}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AlignView:
    """The ladder with what was chosen of it.

    Attributes
    ----------
    round : the one that everything here was read from
    rounds : those that it could be read from
    alignment : what was chosen, or None
    expected_m : distance by the plan, by channel
    speed_m_s : float
    missing : why there is no ladder, where there is none
    moved : what stood at several places while the round was taken, in words; its figures mix them
    undo, redo : what these would take back or do again, or None
    """

    job: Job
    round: Round | None
    rounds: tuple[Round, ...]
    ladder: ArrivalLadder | None
    alignment: Alignment | None
    expected_m: dict[str, float]
    speed_m_s: float
    missing: str
    moved: tuple[str, ...]
    undo: str | None
    redo: str | None
    version: str

    @property
    def chosen(self) -> dict[str, ChannelSettings] | None:
        """Settings by channel, or None where nothing was chosen yet."""
        if self.alignment is None or not self.alignment.channels:
            return None
        return {channel: self.alignment.settings(channel) for channel in self.alignment.channels}

    @property
    def blends(self) -> tuple[Blend, ...]:
        """Seats that levels could be matched over, besides the main seat alone; empty where there is one seat."""
        return tuple(b for b in blends_of(self.job.plan) if set(b.weights) != {self.job.seat.id})

    @property
    def levels_over(self) -> str:
        """The seats that levels are matched over."""
        blend = self.alignment.blend if self.alignment else None
        return blend.name if blend else self.job.seat.name

    @property
    def broken(self) -> tuple[Misfit, ...]:
        """What of the proposal, or of what was chosen, the processor can't hold."""
        limits = self.job.limits
        if limits is None or self.ladder is None:
            return ()
        settings = self.chosen or {r.reading.channel: ChannelSettings(trim_db=r.trim_db, delay_s=min(r.delay_s, 0.2))
                                   for r in self.ladder.rungs}
        return tuple(replace(one, channel=channel) for channel, s in settings.items()
                     for one in limits.broken_by_channel(s))


def readings_of(work: UnitOfWork, job: Job, round_id: int, *, blend: Blend | None = None,
                since: int | None = None, wanted_db: Mapping[str, float] | None = None) -> list[ChannelReading]:
    """Level and polarity over the spots of the main seat, or of a blend of seats; arrival at the main seat's centre.

    Levels are known within one group of takes (`TakeRecord.level_group`), and unknown for channels that have none of
    it. Subs count as playing together, and arrive as the plan says.

    `since` is an earlier round: the level is then that round's, changed by what changed at the spots that both rounds
    have. So a round of few spots is not held against the average over others.

    `wanted_db` is by how much a target wants channels louder than level: that much is taken off.
    """
    centre, weights = job.plan.centre_spot, level_weights(job, blend)
    if centre is None:
        return []
    wanted = {*weights, centre.id}
    takes = _levels_at(work, round_id, wanted)
    earlier = {} if since is None else _levels_at(work, since, weights)
    group = level_group_of(takes)
    more = together_db(len(job.plan.subs))
    readings = []
    for speaker in job.speakers:
        own, before = takes.get(speaker.channel, {}), earlier.get(speaker.channel, {})
        at_centre = own.get(centre.id)
        if at_centre is None:
            continue
        band = level_band_hz(is_sub=speaker.is_sub)
        both = [spot for spot in own if spot in before]
        level = _mean_level_db(own.values(), weights, band, group) if since is None else _changed_level_db(
            _mean_level_db(before.values(), weights, band, level_group_of(earlier)),
            _mean_level_db([before[spot] for spot in both], weights, band, level_group_of(earlier)),
            _mean_level_db([own[spot] for spot in both], weights, band, group))
        if level is not None and wanted_db:
            level -= wanted_db.get(speaker.channel, 0.0)
        readings.append(ChannelReading(
            channel=speaker.channel, is_sub=speaker.is_sub, level_db=level,
            polarity=common_polarity([take.polarity for take in own.values() if take.has_response]),
            arrival_s=at_centre.arrival_s if at_centre.arrival_known else None,
            together_db=more if speaker.is_sub else 0.0))
    return with_subs_by_plan(readings, distance_m=_distances_m(job), speed_m_s=speed_of_sound(job.room.temperature_c))


def _levels_at(work: UnitOfWork, round_id: int, spots: Container[int]) -> dict[str, dict[int, TakeRecord]]:
    """Usable takes by channel and spot."""
    found: dict[str, dict[int, TakeRecord]] = {}
    for take in work.takes.latest(round_id):
        if take.usable and take.spot_id in spots and not take.sounded:
            found.setdefault(take.channel, {})[take.spot_id] = take
    return found


def level_group_of(takes: Mapping[str, Mapping[int, TakeRecord]]) -> str | None:
    """The group whose levels are held against each other: the one that most channels have, of equals the rig's."""
    count: dict[str, int] = {}
    for own in takes.values():
        for group in {take.level_group for take in own.values()} - {None}:
            count[group] = count.get(group, 0) + 1
    return max(count, key=lambda group: (count[group], group == "rig"), default=None)


def level_weights(job: Job, blend: Blend | None) -> dict[int, float]:
    """Weight by id of every spot that levels are matched at: those of a blend of seats, or of the main seat alone."""
    return main_seat_weights(job) if blend is None else spot_weights(job, blend)


def _mean_level_db(takes: Iterable[TakeRecord], weights: Mapping[int, float],
                   band_hz: tuple[float, float], group: str | None) -> float | None:
    """Level of the energy average over takes of a group in a band; None where none of them is at a spot that counts."""
    known = [take for take in takes if take.level_group == group and weights.get(take.spot_id, 0) > 0]
    if group is None or not known:
        return None
    mean = energy_mean_db([take.level_db for take in known], weights=[weights[take.spot_id] for take in known])
    return mid_level_db(ANALYSIS_GRID_HZ, mean, band_hz=band_hz)


def _changed_level_db(whole: float | None, before: float | None, after: float | None) -> float | None:
    """A level, changed by what changed at some of its spots; None where anything is not known."""
    return None if None in (whole, before, after) else whole + after - before


def _distances_m(job: Job) -> dict[str, float]:
    """From every speaker to the main seat's centre spot, by the plan."""
    spot = job.plan.centre_spot
    ear = job.seat.place if spot is None else spot.place
    return {s.channel: distance_m(s.place, ear) for s in job.speakers}


def moved_words(work: UnitOfWork, job: Job, round_id: int) -> tuple[str, ...]:
    """What stood at several places while a round was taken: speakers by code, spots by number."""
    there = {spot.id for spot in job.spots}
    found = moved_between(t for t in work.takes.latest(round_id) if t.usable and t.spot_id in there)
    return (*found.channels, *(job.at_spot(spot) for spot in found.spots))


class Aligning:
    """Trims and delays of one job."""

    def __init__(self, context: Context) -> None:
        self._context = context

    def view(self, job_id: int) -> AlignView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            alignment = work.alignments.current(job_id)
            base = base_round(work, job, kept=alignment.round_id if alignment else None)
            rounds = tuple(r for r in work.takes.rounds(job_id) if r.bypassed)
            blend = alignment.blend if alignment else None
            readings = readings_of(work, job, base.id, blend=blend) if base else []
            moved = moved_words(work, job, base.id) if base else ()
            undo, redo = work.alignments.neighbours(job_id)
            version = work.alignments.version(job_id)
        missing = _missing(job, base, readings)
        limits = job.limits
        ladder = None if missing else arrival_ladder(
            readings, sample_rate_hz=job.rig.sample_rate_hz,
            trim_step_db=max(TRIM_STEP_DB, limits.trim_step_db) if limits else TRIM_STEP_DB)
        return AlignView(job=job, round=base, rounds=rounds, ladder=ladder, alignment=alignment, missing=missing,
                         expected_m={s.channel: distance_m(s.place, job.seat.place) for s in job.speakers},
                         speed_m_s=speed_of_sound(job.room.temperature_c), moved=moved, undo=undo, redo=redo,
                         version=version)

    def use_proposal(self, job_id: int) -> None:
        """Take over the ladder's trims and delays; an inverted speaker is turned round."""
        view = self.view(job_id)
        if view.ladder is None:
            raise InvalidValue("there is nothing to propose yet.", where="align",
                               remedy="Take the main seat's centre first.")
        self._keep(job_id, {rung.reading.channel: ChannelAlignment(
            trim_db=rung.trim_db, delay_s=rung.delay_s,
            polarity="inverted" if rung.reading.polarity == "inverted" else "normal") for rung in view.ladder.rungs},
            "as proposed", round_id=view.round.id)

    def start_from(self, job_id: int, round_id: int) -> None:
        """Read levels and arrivals from another round; trims and delays stay until they are chosen again."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            chosen = next((r for r in work.takes.rounds(job_id) if r.id == round_id), None)
            if chosen is None or not chosen.bypassed:
                raise Conflict("that round was not taken with the processor bypassed.", where="round",
                               remedy="Choose one of the list.")
            before = work.alignments.current(job_id) or Alignment()
            if before.round_id != round_id:
                work.alignments.add(job_id, replace(before, round_id=round_id), what=f"start from {chosen.name}")
                work.logbook.add(job_id, f"Levels and delays start from round {chosen.name}.", at=self._context.now())
                work.jobs.touch(job.id, self._context.now())

    def set_blend(self, job_id: int, blend: Blend | None) -> None:
        """Match levels over a blend of seats, or at the main seat alone; trims stay until they are chosen again."""
        with self._context.change() as work:
            before = work.alignments.current(job_id) or Alignment()
            if before.blend != blend:
                name = blend.name if blend else "the main seat"
                work.alignments.add(job_id, replace(before, blend=blend), what=f"levels over {name}")
                work.logbook.add(job_id, f"Levels are matched over {name}.", at=self._context.now())
                work.jobs.touch(job_id, self._context.now())

    def undo(self, job_id: int, *, seen: str = "") -> None:
        with self._context.change() as work:
            work.alignments.undo(job_id, seen=seen)

    def redo(self, job_id: int, *, seen: str = "") -> None:
        with self._context.change() as work:
            work.alignments.redo(job_id, seen=seen)

    def choose(self, job_id: int, typed: dict[str, tuple[float, float, str]]) -> None:
        """Take over typed trims (dB), delays (ms) and polarities by channel; InvalidForm naming the field."""
        settings, faults = {}, {}
        with self._context.look() as work:
            limits = work.jobs.get(job_id).limits
        for channel, (trim_db, delay_ms, polarity) in typed.items():
            for field, build in (("trim", lambda t=trim_db: ChannelAlignment(trim_db=t)),
                                 ("delay", lambda d=delay_ms: ChannelAlignment(delay_s=d / 1000))):
                try:
                    build()
                except InvalidValue:
                    faults[f"{field}-{channel}"] = ("Choose -40 to 12 dB." if field == "trim"
                                                    else "Choose 0 to 200 ms.")
            if not faults:
                wished = ChannelAlignment(trim_db=round(trim_db, 2), delay_s=delay_ms / 1000,
                                         polarity="inverted" if polarity == "inverted" else "normal")
                for one in limits.broken_by_channel(wished.settings) if limits else ():
                    faults[f"{_FIELD_OF.get(one.kind, 'trim')}-{channel}"] = f"It would be {misfit_words(one)}."
                settings[channel] = wished
        if faults:
            raise InvalidForm(faults)
        self._keep(job_id, settings, "by hand")

    def _keep(self, job_id: int, settings: dict[str, ChannelAlignment], how: str, *,
              round_id: int | None = None) -> None:
        now = self._context.now()
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            before = work.alignments.current(job_id) or Alignment()
            if round_id is None:
                base = base_round(work, job, kept=before.round_id)
                round_id = base.id if base else None
            after = replace(before, round_id=round_id, channels={**before.channels, **settings})
            if after == work.alignments.current(job_id):
                return
            work.alignments.add(job_id, after, what=f"choice {how}")
            said = "; ".join(f"{channel} {s.trim_db:+.1f} dB, {s.delay_s * 1000:.2f} ms"
                             for channel, s in settings.items())
            work.logbook.add(job_id, f"Levels and delays chosen {how}: {said}.", at=now)
            work.jobs.touch(job_id, now)


def _missing(job: Job, base: Round | None, readings: list[ChannelReading]) -> str:
    """Why there is no ladder; empty where there is one."""
    centre = job.plan.centre_spot
    if base is None:
        return "Nothing is taken yet with the processor bypassed."
    if len(job.channels) < 2:
        return "One channel alone needs no levels or delays against others."
    if centre is None:
        return f"Lay out spots at {job.seat.name}, the main seat, first."
    if len(readings) < len(job.channels):
        taken = {r.channel for r in readings}
        without = [c for c in job.channels if c not in taken]
        return (f"Round {base.name} lacks {', '.join(without[:6])}{' ...' if len(without) > 6 else ''} at "
                f"{job.at_spot(centre.id)}, the centre of {job.seat.name}.")
    return ""
