"""The Align stop: arrivals and levels at the main seat, trims and delays."""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import partial

from dolce.core import checked
from dolce.core.acoustics import speed_of_sound
from dolce.core.alignment import AlignmentTable, LevelOptions
from dolce.core.geometry import distance_m
from dolce.core.job import Job, Round
from dolce.core.processor import ChannelSettings, Preset, UnsupportedSetting
from dolce.core.tuning import Alignment, ChannelAlignment, SeatWeighting, seat_weightings_of
from dolce.errors import Conflict, InvalidForm, InvalidValue
from dolce.services.align.bass_takes import summable
from dolce.services.align.proposing import Proposal, Proposing
from dolce.services.align.readings import moved_words
from dolce.services.context import Context
from dolce.services.read.round_curves import base_round
from dolce.store import AlignmentVersion
from dolce.words.unsupported import unsupported_words

# Which field of the table a unsupported setting stands beside.
_FIELD_OF = {"trim": "trim", "trim step": "trim", "delay": "delay", "delay step": "delay"}


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class AlignView:
    """The alignment table with what was chosen of it.

    Attributes
    ----------
    round : the one that everything here was read from
    rounds : those that it could be read from
    proposal : what the round proposes
    alignment : what was chosen, or None
    expected_m : distance by the plan, by channel
    speed_m_s : float
    moved : what stood at several places while the round was taken, in words; its figures mix them
    undo, redo : what these would take back or do again, or None
    versions : alignments that were kept by name
    """

    job: Job
    round: Round | None
    rounds: tuple[Round, ...]
    proposal: Proposal
    alignment: Alignment | None
    expected_m: dict[str, float]
    speed_m_s: float
    moved: tuple[str, ...]
    undo: str | None
    redo: str | None
    version: str
    versions: tuple[AlignmentVersion, ...] = ()

    @property
    def alignment_table(self) -> AlignmentTable | None:
        return self.proposal.alignment_table

    @property
    def missing(self) -> str:
        """Why there is no alignment table, where there is none."""
        return self.proposal.missing

    @property
    def options(self) -> LevelOptions:
        """How levels are matched."""
        return self.alignment.levels if self.alignment else LevelOptions()

    @property
    def chosen(self) -> dict[str, ChannelSettings] | None:
        """Settings by channel, or None where nothing was chosen yet."""
        if self.alignment is None or not self.alignment.channels:
            return None
        return {channel: self.alignment.settings(channel) for channel in self.alignment.channels}

    @property
    def seat_weightings(self) -> tuple[SeatWeighting, ...]:
        """Seats that levels could be matched over, besides the main seat alone; empty where there is one seat."""
        return tuple(b for b in seat_weightings_of(self.job.plan) if set(b.weights) != {self.job.seat.id})

    @property
    def levels_over(self) -> str:
        """The seats that levels are matched over."""
        seat_weighting = self.alignment.seat_weighting if self.alignment else None
        return seat_weighting.name if seat_weighting else self.job.seat.name

    @property
    def broken(self) -> tuple[UnsupportedSetting, ...]:
        """What of the proposal, or of what was chosen, the processor can't hold."""
        limits = self.job.limits
        if limits is None or self.alignment_table is None:
            return ()
        settings = self.chosen or {
            r.reading.channel: ChannelSettings(trim_db=r.trim_db, delay_s=min(r.delay_s, 0.2))
            for r in self.alignment_table.channel_rows
        }
        routing = self.alignment.routing_at(self.job.rig.sample_rate_hz) if self.alignment else None
        return limits.broken_by(Preset(name="aligned", channels=settings, bass=routing))


class Aligning:
    """Trims and delays of one job."""

    def __init__(self, context: Context, proposing: Proposing) -> None:
        self._context = context
        self._proposing = proposing

    def view(self, job_id: int) -> AlignView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            alignment = work.alignments.current(job_id)
            base = base_round(work, job, kept=alignment.round_id if alignment else None)
            rounds = tuple(r for r in work.takes.rounds(job_id) if r.bypassed)
            found = self._proposing.proposal(work, job, base, alignment or Alignment())
            moved = moved_words(work, job, base.id) if base else ()
            undo, redo = work.alignments.neighbours(job_id)
            version = work.alignments.version(job_id)
            versions = tuple(work.alignment_versions.all(job_id))
            stamp = work.takes.newest(base.id) if base else None
        if base is not None and any(speaker.is_sub for speaker in job.speakers):
            self._read_ahead(job, base, stamp)
        return AlignView(
            job=job,
            round=base,
            rounds=rounds,
            proposal=found,
            alignment=alignment,
            expected_m={s.channel: distance_m(s.place, job.seat.place) for s in job.speakers},
            speed_m_s=speed_of_sound(job.room.temperature_c),
            moved=moved,
            undo=undo,
            redo=redo,
            version=version,
            versions=versions,
        )

    def _read_ahead(self, job: Job, base: Round, stamp: object) -> None:
        """The bass of every channel, which the other sheets sum."""

        def step(channel: str) -> None:
            with self._context.look() as work:
                self._context.bass.spectra(work, summable(work, base.id, (channel,)))

        self._context.background.begin(
            "align",
            (base.id, stamp, job.channels),
            lambda: [partial(step, channel) for channel in reversed(job.channels)],
        )  # subs first

    def use_proposal(self, job_id: int) -> None:
        """Take over the alignment table's trims and delays; an inverted speaker is turned round."""
        self.change(job_id, "as proposed", lambda alignment: alignment)

    def set_levels(self, job_id: int, options: LevelOptions) -> None:
        """Match levels by another band, reference or offsets; what was proposed before is proposed anew."""
        with self._context.look() as work:
            chosen = work.alignments.current(job_id)
        if chosen is not None and chosen.channels:
            self.change(job_id, "with other options for levels", lambda alignment: replace(alignment, levels=options))
        else:
            self.keep(job_id, replace(chosen or Alignment(), levels=options), "options for levels")

    def change(self, job_id: int, how: str, changed: Callable[[Alignment], Alignment]) -> None:
        """Another alignment, put together anew from the round that it stands on.

        Raises
        ------
        Conflict
            Where there is nothing to propose from.
        """
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            before = work.alignments.current(job_id) or Alignment()
            base = base_round(work, job, kept=before.round_id)
            after = self._proposing.composed(work, job, base, changed(before))
        self.keep(job_id, after, how)

    def keep_version(self, job_id: int, *, name: str, note: str) -> None:
        """Keep the present alignment under a name, to come back to or to hold another against it.

        Raises
        ------
        InvalidValue
            If the name is empty or long.
        Conflict
            If nothing was chosen yet.
        """
        name = checked.text(name.strip(), longest=60, where="name")
        if not name:
            raise InvalidValue("no name was given.", where="name", remedy="Call it something, such as three subs.")
        with self._context.change() as work:
            present = work.alignments.current(job_id)
            if present is None or not present.channels:
                raise Conflict("nothing is chosen yet.", where="align", remedy="Use the proposal first.")
            work.alignment_versions.keep(
                job_id,
                replace(present, name=name, note=checked.text(note.strip(), longest=1000, where="note")),
                at=self._context.now(),
            )
            work.logbook.add(job_id, f"Alignment kept as {name}.", at=self._context.now())

    def use_version(self, job_id: int, number: int) -> None:
        """Go back to an alignment that was kept."""
        with self._context.look() as work:
            kept = work.alignment_versions.get(job_id, number)
        self.keep(job_id, kept.alignment, f"as kept under {kept.alignment.name}")

    def forget_version(self, job_id: int, number: int) -> None:
        with self._context.change() as work:
            work.alignment_versions.remove(job_id, number)

    def start_from(self, job_id: int, round_id: int) -> None:
        """Read levels and arrivals from another round; trims and delays stay until they are chosen again."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            chosen = next((r for r in work.takes.rounds(job_id) if r.id == round_id), None)
            if chosen is None or not chosen.bypassed:
                raise Conflict(
                    "that round was not taken with the processor bypassed.",
                    where="round",
                    remedy="Choose one of the list.",
                )
            before = work.alignments.current(job_id) or Alignment()
            if before.round_id != round_id:
                work.alignments.add(job_id, replace(before, round_id=round_id), what=f"start from {chosen.name}")
                work.logbook.add(job_id, f"Levels and delays start from round {chosen.name}.", at=self._context.now())
                work.jobs.touch(job.id, self._context.now())

    def set_seat_weighting(self, job_id: int, seat_weighting: SeatWeighting | None) -> None:
        """Match levels over a seat weighting, or at the main seat alone; trims stay until they are chosen again."""
        with self._context.change() as work:
            before = work.alignments.current(job_id) or Alignment()
            if before.seat_weighting != seat_weighting:
                name = seat_weighting.name if seat_weighting else "the main seat"
                work.alignments.add(job_id, replace(before, seat_weighting=seat_weighting), what=f"levels over {name}")
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
            for field, build in (
                ("trim", lambda t=trim_db: ChannelAlignment(trim_db=t)),
                ("delay", lambda d=delay_ms: ChannelAlignment(delay_s=d / 1000)),
            ):
                try:
                    build()
                except InvalidValue:
                    faults[f"{field}-{channel}"] = "Choose -40 to 12 dB." if field == "trim" else "Choose 0 to 200 ms."
            if not faults:
                desired = ChannelAlignment(
                    trim_db=round(trim_db, 2),
                    delay_s=delay_ms / 1000,
                    polarity="inverted" if polarity == "inverted" else "normal",
                )
                for unsupported in limits.broken_by_channel(desired.settings) if limits else ():
                    faults[f"{_FIELD_OF.get(unsupported.kind, 'trim')}-{channel}"] = (
                        f"It would be {unsupported_words(unsupported)}."
                    )
                settings[channel] = desired
        if faults:
            raise InvalidForm(faults)
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            before = work.alignments.current(job_id) or Alignment()
            base = base_round(work, job, kept=before.round_id)
        self.keep(
            job_id,
            replace(
                before,
                round_id=base.id if base else None,
                channels={
                    **before.channels,
                    **{
                        channel: replace(
                            before.channels.get(channel, ChannelAlignment()),
                            trim_db=alignment.trim_db,
                            delay_s=alignment.delay_s,
                            polarity=alignment.polarity,
                        )
                        for channel, alignment in settings.items()
                    },
                },
            ),
            "by hand",
        )

    def keep(self, job_id: int, after: Alignment, how: str) -> None:
        """Make it the present one, with a line in the logbook."""
        now = self._context.now()
        with self._context.change() as work:
            before = work.alignments.current(job_id)
            if after == before:
                return
            work.alignments.add(job_id, after, what=f"choice {how}")
            old = before.channels if before else {}
            summary = "; ".join(
                f"{channel} {s.trim_db:+.1f} dB, {s.delay_s * 1000:.2f} ms"
                for channel, s in after.channels.items()
                if s != old.get(channel)
            )
            summary = summary.replace(" -", " \N{MINUS SIGN}")
            work.logbook.add(job_id, f"Alignment chosen {how}{': ' if summary else ''}{summary}.", at=now)
            work.jobs.touch(job_id, now)
