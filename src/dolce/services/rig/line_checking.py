"""The line check: one soft sweep per output, heard by the microphone and by the person."""

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from dolce.core.geometry import distance_m
from dolce.core.job import CheckedLine, Job, LinesResult, PassRecord, PassResult, result_as, result_of
from dolce.core.job.next_step import LinesState
from dolce.core.rig import LINE_BAND_HZ, SUB_BAND_HZ, LineReading, LineVerdict, line_reading, line_verdicts
from dolce.core.room import RoomPlan
from dolce.core.signals import Sweep
from dolce.devices.interface import Progress, Stopped
from dolce.devices.opening import audio_of
from dolce.errors import Conflict
from dolce.services.context import Context
from dolce.services.room.sounding_guard import refuse_while_sounding
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.services.takes.take_making import deconvolver_of, require_open
from dolce.store import UnitOfWork

QUIET_S, SWEEP_S, TAIL_S = 0.6, 1.0, 0.5
ATTENUATION_DB = 12.0  # than the sweeps of the takes


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """One output.

    Attributes
    ----------
    reading, verdict : None before it was checked
    really : str
        In the rehearsal: the speaker that sounded, as a person in the room would hear it; else empty.
    heard : str
        The speaker that the person said sounded; empty where not answered yet.
    for_processor : whether its polarity is left to the processor
    """

    channel: str
    output: int
    is_sub: bool
    expected_m: float
    reading: LineReading | None
    verdict: LineVerdict | None
    really: str
    heard: str
    for_processor: bool = False

    @property
    def word(self) -> str:
        """ "not checked", "right", "look" or "wrong"; another speaker than the plan's is wrong."""
        if self.verdict is None:
            return "not checked"
        if self.heard and self.heard != self.channel:
            return "wrong"
        return "look" if self.is_mended_by_processor else self.verdict.word

    @property
    def is_inverted(self) -> bool:
        """Whether nothing else is wrong with it than its polarity."""
        return self.verdict is not None and {f.kind for f in self.verdict.findings if f.is_wrong} == {"inverted"}

    @property
    def is_mended_by_processor(self) -> bool:
        return self.for_processor and self.is_inverted


@dataclass(frozen=True, slots=True, kw_only=True)
class LinesView:
    """All lines, the pass, and the line whose answer is asked for."""

    job: Job
    lines: tuple[Line, ...]
    last_pass: PassRecord | None
    asked: str

    @property
    def sounding(self) -> str:
        """Channel that sounds now; empty for none."""
        p = self.last_pass
        if p is None or p.state != "running" or p.done_steps >= len(p.steps):
            return ""
        return p.steps[p.done_steps][0]

    @property
    def state(self) -> LinesState:
        """How far the check is, for what comes next."""
        if self.checked < len(self.lines):
            return "none"
        return "wrong" if self.wrong else "heard" if self.unanswered else "done"

    @property
    def unanswered(self) -> tuple[str, ...]:
        """Channels of which nobody has said yet that they sounded from their own place, though nothing else is odd."""
        return tuple(line.channel for line in self.lines if line.word == "right" and not line.heard)

    @property
    def checked(self) -> int:
        return sum(line.reading is not None for line in self.lines)

    @property
    def wrong(self) -> tuple[str, ...]:
        """Channels whose line is wrong: what is measured through them would be, too."""
        return tuple(line.channel for line in self.lines if line.word == "wrong")

    @property
    def foreign_preset(self) -> str:
        """Name of the preset that plays and that Dolce did not load; empty for none."""
        state = self.job.processor
        preset = state.presets.get(state.active)
        return preset.name if preset is not None and not preset.ours else ""

    @property
    def faulty(self) -> int:
        return sum(line.word in ("wrong", "look") for line in self.lines)


class LineChecking:
    """The line check of one job."""

    def __init__(self, context: Context, sound: SoundWork) -> None:
        self._context = context
        self._sound = sound

    def view(self, job_id: int) -> LinesView:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            last = work.passes.latest(job_id, "lines")
        return lines_view(job, last)

    def run(self, job_id: int, channels: Sequence[str] | None = None) -> PassRecord:
        """Check all lines, or some; everything else stays silent. What was read before of the others stays."""
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            last = work.passes.latest(job_id, "lines")
        wanted = [job.speaker(c).channel for c in (job.channels if channels is None else channels)]
        spot = job.first_spot.id
        require_open(job, wanted)
        kept = LinesResult(
            lines={
                c: line
                for c, line in result_of(LinesResult, last).lines.items()
                if c in job.channels and c not in wanted
            }
        )

        def step(channel: str, _spot: int, progress: Progress, stopped: Stopped) -> Keep:
            found = _checked(job, channel, progress, stopped)

            def keep(work: UnitOfWork, present: PassResult) -> LinesResult:
                work.logbook.add(
                    job_id,
                    f"Line of {channel} checked on output {job.speaker(channel).output}.",
                    at=self._context.now(),
                )
                return result_as(LinesResult, present).with_line(channel, found)

            return keep

        return self._sound.start(
            job_id,
            kind="lines",
            steps=[(c, spot) for c in wanted],
            step=step,
            result=kept,
            seconds_per_step=QUIET_S + SWEEP_S + TAIL_S,
        )

    def answer(self, job_id: int, channel: str, *, speaker: str) -> None:
        """Which speaker sounded when `channel`'s output played, as the person heard it."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            job.speaker(speaker)
            last = work.passes.latest(job_id, "lines")
            kept = result_of(LinesResult, last)
            if last is None or channel not in kept.lines or last.state == "running":
                raise Conflict(
                    f"the line of {channel} was not checked yet.", where="line check", remedy="Run it first."
                )
            work.passes.keep_result(last.id, kept.with_line(channel, replace(kept.lines[channel], heard=speaker)))
            if speaker != channel:
                work.logbook.add(
                    job_id,
                    f"Output {job.speaker(channel).output} of {channel} sounded from {speaker}.",
                    at=self._context.now(),
                )

    def confirm(self, job_id: int) -> None:
        """All lines of which nothing is odd sounded from their own loudspeaker; only the others are asked for.

        Raises
        ------
        Conflict
            Where there are none, or a check runs.
        """
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            last = work.passes.latest(job_id, "lines")
            right = lines_view(job, last).unanswered
            if last is None or last.state == "running" or not right:
                raise Conflict("no line waits to be confirmed.", where="line check", remedy="Check the lines first.")
            kept = result_of(LinesResult, last)
            for channel in right:
                kept = kept.with_line(channel, replace(kept.lines[channel], heard=channel))
            work.passes.keep_result(last.id, kept)
            work.logbook.add(
                job_id, f"Lines of {', '.join(right)} sounded from their own loudspeakers.", at=self._context.now()
            )

    def leave_to_processor(self, job_id: int, channel: str) -> None:
        """Polarity of a line stays as it is wired: Align proposes to invert it in the processor.

        Raises
        ------
        Conflict
            Where its polarity is not what is wrong with it.
        """
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            last = work.passes.latest(job_id, "lines")
            line = next(line for line in lines_view(job, last).lines if line.channel == job.speaker(channel).channel)
            if last is None or last.state == "running" or not line.is_inverted:
                raise Conflict(
                    f"the polarity of {channel} is not what is wrong.", where="line check", remedy="Run the line again."
                )
            kept = result_of(LinesResult, last)
            work.passes.keep_result(last.id, kept.with_line(channel, replace(kept.lines[channel], for_processor=True)))
            work.logbook.add(
                job_id, f"Polarity of {channel} is inverted; the processor is to turn it.", at=self._context.now()
            )

    def swap(self, job_id: int, channel: str, other: str) -> None:
        """Correct the wiring in the plan: both channels exchange their outputs, and want checking again."""
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            first, two = job.speaker(channel), job.speaker(other)
            speakers = tuple(
                replace(s, output=two.output) if s is first else replace(s, output=first.output) if s is two else s
                for s in job.speakers
            )
            plan = replace(job.plan, speakers=speakers)
            refuse_while_sounding(work, job_id, job.plan, plan)
            work.plans.add(job_id, plan, what=f"outputs of {channel} and {other}")
            last = work.passes.latest(job_id, "lines")
            if last is not None:
                work.passes.keep_result(last.id, result_of(LinesResult, last).without(channel, other))
            work.logbook.add(
                job_id,
                f"Outputs of {channel} and {other} exchanged: {two.output} and {first.output}.",
                at=self._context.now(),
            )
            work.jobs.touch(job_id, self._context.now())


def _checked(job: Job, channel: str, progress: Progress, stopped: Stopped) -> CheckedLine:
    """Play and read one line."""
    speaker, rate = job.speaker(channel), job.rig.sample_rate_hz
    low, high = SUB_BAND_HZ if speaker.is_sub else LINE_BAND_HZ
    sweep = Sweep(
        start_hz=low,
        stop_hz=min(high, 0.45 * rate),
        duration_s=SWEEP_S,
        sample_rate_hz=rate,
        level_dbfs=max(-60.0, job.rig.levels.sweep_level_dbfs - ATTENUATION_DB),
    )
    quiet, tail = round(QUIET_S * rate), round(TAIL_S * rate)
    stimulus = np.concatenate([np.zeros(quiet), sweep.samples(), np.zeros(tail)])
    device = audio_of(job, spot_id=job.first_spot.id, round_name="line check", attempt=1)
    recording, *_ = device.play_and_record(
        {speaker.output: stimulus}, sample_rate_hz=rate, progress=progress, stopped=stopped
    )
    reading = line_reading(
        recording,
        deconvolver=deconvolver_of(sweep, recording.size - quiet),
        quiet_samples=quiet,
        sample_rate_hz=rate,
        is_sub=speaker.is_sub,
    )
    really = device.sounding_on(speaker.output) if reading.sounds else ""
    return CheckedLine(reading=reading, really=really)


def lines_view(job: Job, last: PassRecord | None) -> LinesView:
    """What a line check found of a job's lines as they are planned now."""
    kept = {c: line for c, line in result_of(LinesResult, last).lines.items() if c in job.channels}
    readings = {c: line.reading for c, line in kept.items()}
    plan = job.plan
    expected = _expected_m(plan)
    verdicts = line_verdicts(
        readings,
        expected_m=expected,
        subs=[s.channel for s in plan.subs],
        low_limit_hz={s.channel: s.low_limit_hz for s in plan.speakers},
        speed_m_s=plan.speed_m_s,
        one_clock=not job.rig.interface.own_clock,
    )
    lines = tuple(
        Line(
            channel=s.channel,
            output=s.output,
            is_sub=s.is_sub,
            expected_m=expected[s.channel],
            reading=readings.get(s.channel),
            verdict=verdicts.get(s.channel),
            really=kept[s.channel].really if s.channel in kept else "",
            heard=kept[s.channel].heard if s.channel in kept else "",
            for_processor=s.channel in kept and kept[s.channel].for_processor,
        )
        for s in plan.speakers
    )
    running = last is not None and last.state == "running"
    asked = (
        ""
        if running
        else next((line.channel for line in lines if line.reading and line.reading.sounds and not line.heard), "")
    )
    return LinesView(job=job, lines=lines, last_pass=last, asked=asked)


def _expected_m(plan: RoomPlan) -> dict[str, float]:
    """Distance of every speaker to the microphone where lines are checked, by the plan."""
    spot = plan.centre_spot or next(iter(plan.spots), None)
    microphone = spot.place if spot else plan.main_seat.place
    return {s.channel: distance_m(s.place, microphone) for s in plan.speakers}
