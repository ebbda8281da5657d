"""The Takes stop: the board, passes over spots, and recordings made elsewhere."""

import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.job import (
    Job,
    PassOptions,
    PassRecord,
    PassResult,
    Round,
    TakeRecord,
    label_of,
    placement_of,
    steps_of,
    waits_of,
)
from dolce.core.processor import BYPASS, ProcessorState
from dolce.core.response import (
    DRIFT_WORTH_PPM,
    Caution,
    Quality,
    SweepDrowned,
    clipped_samples,
    drift_between_chirps_ppm,
    resampled,
    stretched,
    without_drift,
)
from dolce.core.response.outliers import Outlier
from dolce.core.rig import slate_missing
from dolce.core.signals import excitation_values, kind_of
from dolce.devices.interface import Progress, SoundStopped, Stopped
from dolce.devices.opening import audio_of
from dolce.errors import Conflict, InvalidValue
from dolce.formats.audio_file import read_audio, write_flac, write_wav_24
from dolce.services.context import Context
from dolce.services.rig.processor_access import ProcessorAccess
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.services.takes.found_take import FoundTake, found_take, places_of
from dolce.services.takes.outliers import OutliersOfRounds
from dolce.services.takes.take_making import (
    TAIL_S,
    Playing,
    captured,
    chirps_of,
    deconvolver_with_chirps,
    new_deconvolver,
    playing_of,
    require_open,
    signal_of,
    sweep_of,
    with_sync_chirps,
)
from dolce.store import UnitOfWork

LONGEST_RECORDING_S = 60.0
ATTENUATION_DB = 6.0  # of a second take that tells whether something distorts
RISING_DB, RISING_BELOW_DB = 4.0, 16.0  # steps of takes at rising level, and how far under the ceiling they begin
ATTEMPTS_IN_NOISE = 3  # at one channel and spot, before the pass ends for it


@dataclass(frozen=True, slots=True, kw_only=True)
class Board:
    """All takes of the present round by channel and spot id, and what comes next.

    `away` counts takes of the round on spots and rows that are no longer there: they are kept, and count nowhere.
    `sketches` are small curves by number of the take.
    `moved` names what stands elsewhere now than for takes of the round: takes from now on would mix with them.
    """

    job: Job
    rounds: tuple[Round, ...]
    round: Round
    takes: dict[tuple[str, int], TakeRecord]
    next_spot: int | None
    away: int
    last_pass: PassRecord | None
    state_fits: bool
    moved: tuple[str, ...]
    sketches: dict[int, NDArray[np.float64]]

    @property
    def placement(self) -> list[int]:
        """Where the microphones go next: the leading one first; empty when nothing is missing."""
        return [] if self.next_spot is None else placement_of(self.job, self.next_spot)

    @property
    def slate_left(self) -> int:
        """Points of the blank slate not ticked yet, before the first take through devices that can't be read."""
        if self.job.rig.processor.can.readable or self.round.state is not None:
            return 0
        return len(slate_missing(self.job.processor.slate))

    @property
    def last_recorder(self) -> str:
        """Recorder and gain of the last recording from elsewhere, as the person called them."""
        files = [take for take in self.takes.values() if take.source in ("file", "impulse", "curve")]
        return max(files, key=lambda take: take.id).recorder if files else ""

    @property
    def seconds(self) -> dict[str, float]:
        """How long a take of each row sounds, its repeats included."""
        return {
            feed.code: playing_of(self.job, feed).seconds * self.job.rows.how(feed).repeats for feed in self.job.feeds
        }

    def settled(self, channel: str, spot_id: int) -> bool:
        """Whether a cell asks for nothing more."""
        return _settled(self.takes, channel, spot_id)

    @property
    def taken(self) -> int:
        return sum(self.settled(*cell) for cell in self.job.asked)

    @property
    def wanted(self) -> int:
        return len(self.job.asked)

    @property
    def last_take(self) -> int:
        """Number of the take that came in last, 0 before the first: by it a page shows how much it has seen."""
        return max((take.id for take in self.takes.values()), default=0)

    @property
    def to_repeat(self) -> list[TakeRecord]:
        return [take for take in self.takes.values() if not take.settled or take.word == "noisy"]


class Taking:
    """Takes of one job."""

    def __init__(self, context: Context, sound: SoundWork, access: ProcessorAccess) -> None:
        self._context = context
        self._sound = sound
        self._access = access
        self._odd = OutliersOfRounds(context)
        self._options_kept: dict[int, PassOptions] = {}

    def board(self, job_id: int) -> Board:
        with self._context.look() as work:
            job = work.jobs.get(job_id)
            rounds = tuple(work.takes.rounds(job_id))
            present = next(r for r in rounds if r.id == job.round_id)
            latest = work.takes.latest(present.id)
            last_pass = work.passes.latest(job_id, "takes")
        there = {spot.id for spot in job.spots}
        rows = {feed.code for feed in job.feeds}
        takes = {(t.channel, t.spot_id): t for t in latest if t.spot_id in there and t.channel in rows}
        fits = present.state is None or present.state.sounds_like(job.processor, job.channels)
        return Board(
            job=job,
            moved=_moved_since(job, takes),
            sketches=self._context.sketches.of(takes.values()),
            rounds=rounds,
            round=present,
            takes=takes,
            last_pass=last_pass,
            state_fits=fits,
            next_spot=_next_spot(job, takes),
            away=len(latest) - len(takes),
        )

    def odd(self, board: Board) -> list[Outlier]:
        """Takes that do not fit the others of a board."""
        return self._odd.of(board.job, board.round)

    def run(self, job_id: int, options: PassOptions) -> PassRecord:
        """A pass over what is asked for and missing.

        Raises
        ------
        Conflict
            Where nothing is missing, the processor is not as the page showed it, or sound plays already.
        """
        board = self.board(job_id)
        steps = steps_of(board.job, options, board.settled)
        if not steps:
            raise Conflict(
                "every take that was chosen is there.",
                where="takes",
                remedy="Choose others, take these again too, or start a new round.",
            )
        self._options_kept[job_id] = options
        return self._start(board, steps, options=options)

    def run_spot(self, job_id: int, spot_id: int, *, seen: int | None = None) -> PassRecord:
        """Every channel in turn at one placement of the microphones, leaving out those that are taken and usable.

        `seen` is the last take that the page knew which asks; Conflict where others came in at this spot since.
        """
        board = self.board(job_id)
        spots = tuple(placement_of(board.job, spot_id))
        _require_seen(board, {spot_id, *spots}, seen)
        options = replace(self._options_kept.get(job_id, PassOptions()), channels=(), spots=spots, taken_too=False)
        steps = steps_of(board.job, options, board.settled) or steps_of(
            board.job, replace(options, taken_too=True), board.settled
        )
        if not steps:
            raise Conflict(
                "no row is taken at this spot.",
                where=board.job.at_spot(spot_id),
                remedy="Say under What is taken, and how, which rows are, or choose another spot.",
            )
        return self._start(board, steps, options=options)

    def run_rest(self, job_id: int) -> PassRecord:
        """All that is missing, spot by spot; for rigs that move the microphone themselves."""
        return self.run(job_id, PassOptions())

    def options_of(self, job_id: int) -> PassOptions:
        """How the last pass of a job was asked for since the start: order, wait and repeats."""
        return self._options_kept.get(job_id, PassOptions())

    def rehearse(self, job_id: int, *, on_progress: Callable[[int, int], None], stopped: Stopped) -> None:
        """All that is missing of a rehearsed job, without sound and beside any pass: for sample jobs.

        `on_progress` is called with how many takes of how many are there. Ends without a word as soon as somebody
        works on the job.

        Raises
        ------
        Conflict
            If the rig is a real one.
        SoundStopped
        """
        board = self.board(job_id)
        if not board.job.rig.interface.simulated:
            raise Conflict("only the rehearsal rig can be heard without sound.", where="hardware")
        order = [spot.id for spot in board.job.spots]
        steps = sorted((cell for cell in board.job.asked if not board.settled(*cell)), key=lambda c: order.index(c[1]))
        with self._context.change() as work:
            begin_round(work, board)
        for number, (channel, spot) in enumerate(steps):
            on_progress(board.wanted - len(steps) + number, board.wanted)
            if stopped():
                raise SoundStopped
            with self._context.look() as work:
                now = work.jobs.get(job_id)
            present = self._context.sounding.present
            worked_on = present is not None and present.record.job_id == job_id
            if worked_on or (now.round_id, now.processor, now.plan) != (
                board.job.round_id,
                board.job.processor,
                board.job.plan,
            ):
                return
            keep = self._take(board, channel, spot, [spot], lambda _: None, stopped, options=PassOptions())
            with self._context.change() as work:
                keep(work, None)

    def repeat(self, job_id: int, channel: str, spot_id: int, *, seen: int | None = None) -> PassRecord:
        """One cell again; the earlier attempt is kept below it. `seen` as with a whole spot."""
        board = self.board(job_id)
        _require_seen(board, {spot_id}, seen, channel)
        board.job.feed(channel)
        board.job.spot(spot_id)
        options = PassOptions(signal=self.options_of(job_id).signal)
        return self._start(board, [(channel, spot_id)], options=options, only=spot_id)

    def softer(self, job_id: int, channel: str, spot_id: int) -> PassRecord:
        """One cell once more, 6 dB softer: where both differ, something in the chain distorts. The other one counts."""
        board = self.board(job_id)
        board.job.feed(channel)
        if not board.settled(channel, spot_id):
            raise Conflict(
                "there is no take yet to hold a softer one against.",
                where=f"{label_of(channel)}",
                remedy="Take it first.",
            )
        options = PassOptions(signal=board.takes[channel, spot_id].signal, attenuation_db=ATTENUATION_DB)
        return self._start(board, [(channel, spot_id)], options=options, only=spot_id)

    def rising(self, job_id: int, channel: str, spot_id: int) -> PassRecord:
        """One cell at rising level up to the ceiling, to tell how loud it plays cleanly. The take that is there counts
        as before; a step that passes the ceiling at the microphone ends the pass, and those before it stay.
        """
        board = self.board(job_id)
        board.job.feed(channel)
        if not board.settled(channel, spot_id):
            raise Conflict(
                "there is no take yet beside which others can stand.",
                where=f"{label_of(channel)}",
                remedy="Take it first.",
            )
        rig = board.job.rig
        usual_dbfs = signal_of(board.job, board.job.feed(channel)).level_dbfs
        highest = min(rig.levels.ceiling_dbfs, -3.0)
        levels = np.arange(highest - RISING_BELOW_DB, highest + 0.01, RISING_DB)
        options = PassOptions(signal="sweep")
        return self._start(
            board,
            [(channel, spot_id)] * len(levels),
            options=options,
            only=spot_id,
            attenuation_db=[round(float(usual_dbfs - level), 2) or 0.01 for level in levels],
        )

    def _start(
        self,
        board: Board,
        steps: list[tuple[str, int]],
        *,
        options: PassOptions,
        only: int | None = None,
        attenuation_db: Sequence[float] = (),
    ) -> PassRecord:
        """Begin a pass; each step serves all microphones, or `only` the one at a spot.

        `attenuation_db` is for passes whose steps differ in level, one for each step.
        """
        self._require_as_known(board.job)
        self.require_state(board)
        job = board.job
        rows = {code: job.feed(code) for code, _ in steps}
        require_open(job, {channel for feed in rows.values() for channel in job.routed(feed.channels)[1]})
        seconds = {
            code: playing_of(job, feed, options.signal).seconds * job.rows.how(feed).repeats
            for code, feed in rows.items()
        }
        with self._context.change() as work:
            begin_round(work, board)

        softer = iter(attenuation_db)

        def step(channel: str, spot: int, progress: Progress, stopped: Stopped) -> Keep:
            attempt = (
                replace(options, attenuation_db=next(softer, options.attenuation_db)) if attenuation_db else options
            )
            wanted = placement_of(board.job, spot) if only is None else [only]
            again = all(_settled(board.takes, channel, number) for number in wanted)
            return self._take(
                board,
                channel,
                spot,
                [n for n in wanted if again or not _settled(board.takes, channel, n)],
                progress,
                stopped,
                options=attempt,
            )

        return self._sound.start(
            job.id,
            kind="takes",
            steps=steps,
            step=step,
            waits_s=waits_of(steps, options.wait_s),
            seconds_per_step=sum(seconds[code] for code, _ in steps) / len(steps),
        )

    def _require_as_known(self, job: Job) -> None:
        """Conflict where the processor holds something else than the page showed: nobody measures that unknowingly."""
        held = self._access.read(job.id).processor
        if held != job.processor:
            raise Conflict(
                f"the processor was changed from elsewhere: it is {held.full_description} now, and was "
                f"{job.processor.full_description}.",
                where="processor",
                remedy="Look at it on the Rig page, under Processor; then run again.",
            )

    @staticmethod
    def require_state(board: Board) -> None:
        """Conflict where the processor is not as it was for the takes of the round."""
        taken = board.round.state
        if not board.state_fits and taken is not None:
            raise Conflict(
                f"the processor is {board.job.processor.full_description}, but the takes of round {board.round.name} "
                f"were made while it was {taken.full_description}.",
                where="round",
                remedy="Start a new round, or switch the processor back.",
            )

    def _take(
        self,
        board: Board,
        code: str,
        spot: int,
        wanted: list[int],
        progress: Progress,
        stopped: Stopped,
        *,
        options: PassOptions,
    ) -> Keep:
        """Play and record one row, analyse the spots that are wanted; returns what keeps them.

        A take that is spoiled (clipped, noisy, with drop-outs) is played again up to the number of times asked for,
        and the last one kept; one that drowned, such as by a door, at least twice.
        """
        job = board.job
        feed = job.feed(code)
        playing = playing_of(job, feed, options.signal, attenuation_db=options.attenuation_db)
        repeats = job.rows.how(feed).repeats
        placement = placement_of(job, spot)
        with self._context.look() as work:
            attempts = {n: work.takes.attempts(board.round.id, code, n) + 1 for n in wanted}
        found: list[FoundTake] = []
        for again in range(max(ATTEMPTS_IN_NOISE, options.repeats + 1)):
            recordings, lost = _heard(board, playing, spot, repeats, max(attempts.values()) + again, progress, stopped)
            try:
                found = [
                    found_take(
                        job,
                        feed,
                        playing,
                        number,
                        recordings[:, placement.index(number)],
                        row=placement.index(number),
                        lost=lost,
                    )
                    for number in wanted
                ]
                if again >= options.repeats or not any(take.spoiled for take in found):
                    break
            except SweepDrowned as error:
                # Such as by a door: it is played again, and the pass does not end for it.
                if again + 1 >= ATTEMPTS_IN_NOISE and not found:
                    raise Conflict(
                        f"its sweep was not heard in {ATTEMPTS_IN_NOISE} attempts.",
                        where=f"{feed.label} at {job.at_spot(spot)}",
                        remedy="Check that it plays (Line check), wait for quiet or come up in level, then go on.",
                    ) from error
        flac = [write_flac(take.recordings, sample_rate_hz=playing.signal.sample_rate_hz) for take in found]
        _, sounding = job.routed(feed.channels)

        def keep(work: UnitOfWork, _found: PassResult) -> None:
            now = self._context.now()
            for new_take, data in zip(found, flac, strict=True):
                name = (
                    f"{_plain(job.name)}-{_plain(board.round.name)}-{code}-spot{job.spot(new_take.spot_id).number}-"
                    f"take{attempts[new_take.spot_id]}.flac"
                )
                work.takes.add(
                    round_id=board.round.id,
                    channel=code,
                    spot_id=new_take.spot_id,
                    at=now,
                    source="rig",
                    capture=new_take.capture,
                    levels=new_take.levels,
                    arrival_known=new_take.arrival_known,
                    recording=data,
                    recording_name=name,
                    played=new_take.played,
                    signal=kind_of(playing.signal),
                    sounded=sounding if sounding != (code,) else (),
                    repeats=repeats,
                    repeats_db=new_take.repeats_db,
                    places=places_of(job, feed, new_take.spot_id),
                    cautions=new_take.cautions,
                    softer=options.attenuation_db != 0,
                )
                work.logbook.add(
                    job.id,
                    f"Take of {feed.label} at {job.at_spot(new_take.spot_id)}, round "
                    f"{board.round.name}: {new_take.capture.quality.word}.",
                    at=now,
                )
            work.jobs.touch(job.id, now)

        return keep

    def keep_moving(
        self,
        job_id: int,
        channel: str,
        spot_id: int,
        *,
        level_db: NDArray[np.float64],
        quality: Quality,
        cautions: Sequence[Caution],
    ) -> None:
        """Keep a moving-microphone average as the take of a channel around a spot."""
        board = self.board(job_id)
        self.require_state(board)
        now = self._context.now()
        with self._context.change() as work:
            begin_round(work, board)
            work.takes.add_level(
                source="moving",
                round_id=board.round.id,
                channel=channel,
                spot_id=spot_id,
                at=now,
                quality=quality,
                level_db=level_db,
                cautions=cautions,
                sample_rate_hz=board.job.rig.sample_rate_hz,
                places=places_of(board.job, board.job.feed(channel), spot_id),
            )
            work.logbook.add(
                job_id,
                f"Moving average of {channel} kept around {board.job.at_spot(spot_id)}, round {board.round.name}.",
                at=now,
            )
            work.jobs.touch(job_id, now)

    def test_signal(self, job_id: int) -> tuple[bytes, str]:
        """The sweep as 24-bit WAV for any player, between two marks, a second of silence behind; and its file name."""
        with self._context.look() as work:
            rig = work.jobs.get(job_id).rig
        sweep = sweep_of(rig)
        silence = np.zeros(round(TAIL_S * sweep.sample_rate_hz))
        return (
            write_wav_24(np.concatenate([with_sync_chirps(sweep), silence]), sample_rate_hz=sweep.sample_rate_hz),
            f"dolce-sweep-{sweep.sample_rate_hz}Hz-{sweep.duration_s:g}s.wav",
        )

    def add_recording(
        self, job_id: int, channel: str, spot_id: int, data: bytes, *, file_name: str, recorder: str = ""
    ) -> TakeRecord:
        """A recording made elsewhere of the test signal, as a take; its absolute delay is not known.

        `recorder` names recorder and gain: levels of recordings that have the same words here are held against each
        other. Empty where the gain was changed, or isn't known.
        A difference between the clocks of player and recorder is found and taken out: by the marks around the sweep, or
        where a recording has none, of an older test signal, by what makes the direct sound most compact.
        """
        recorder = checked.text(recorder.strip(), longest=40, where="recorder")
        audio = read_audio(data, name=file_name, longest_s=LONGEST_RECORDING_S)
        board = self.board(job_id)
        feed = board.job.feed(channel)
        board.job.spot(spot_id)
        self.require_state(board)
        rig = board.job.rig
        sweep = sweep_of(rig)
        seconds = audio.sample.size / audio.sample_rate_hz
        if seconds < sweep.duration_s * 0.98:
            raise InvalidValue(
                f"the recording lasts {seconds:.1f} s.",
                where=file_name,
                remedy=f"Keep the whole sweep of {sweep.duration_s:g} s, and at most {LONGEST_RECORDING_S:.0f} s.",
            )
        cautions = [Caution(kind="delay unknown")]
        if audio.channels_in_file > 1:
            cautions.append(Caution(kind="loudest of channels", value=audio.channels_in_file))
        if audio.sample_rate_hz != sweep.sample_rate_hz:
            cautions.append(Caution(kind="resampled", value=audio.sample_rate_hz))
        samples = resampled(audio.sample, from_hz=audio.sample_rate_hz, to_hz=sweep.sample_rate_hz)
        octave_s = sweep.duration_s / np.log2(sweep.stop_hz / sweep.start_hz)
        try:
            # For this recording alone: files are of all lengths, and keeping the inverse of each takes much memory.
            drift = drift_between_chirps_ppm(samples, chirps=chirps_of(sweep), sample_rate_hz=sweep.sample_rate_hz)
            if drift is not None:
                deconvolver = deconvolver_with_chirps(sweep, samples.size)
                samples = stretched(samples, drift * 1e-6)
            else:
                deconvolver = new_deconvolver(sweep, samples.size)
                samples, drift = without_drift(samples, deconvolver=deconvolver, octave_s=octave_s)
            capture, levels = captured(
                samples,
                sweep=sweep,
                microphone=rig.curve,
                deconvolver=deconvolver,
                clipped=clipped_samples(audio.sample, step=audio.step),
                is_sub=feed.bass_alone,
            )
        except InvalidValue as error:
            raise InvalidValue(error.problem, where=file_name, remedy=error.remedy) from error
        if abs(drift) > DRIFT_WORTH_PPM:
            cautions.append(Caution(kind="clock differs", value=drift))
        now = self._context.now()
        with self._context.change() as work:
            begin_round(work, board)
            take_id = work.takes.add(
                round_id=board.round.id,
                channel=channel,
                spot_id=spot_id,
                at=now,
                source="file",
                capture=capture,
                levels=levels,
                arrival_known=False,
                recording=data,
                recording_name=file_name,
                played=excitation_values(sweep),
                cautions=cautions,
                recorder=recorder,
                sounded=feed.channels if feed.together else (),
                places=places_of(board.job, feed, spot_id),
            )
            work.logbook.add(
                job_id,
                f"Recording {file_name} used for {feed.label} at {board.job.at_spot(spot_id)}: {capture.quality.word}.",
                at=now,
            )
            return work.takes.get(take_id)

    def new_round(self, job_id: int, *, name: str = "") -> Round:
        """A round for the processor's present state, under a name or named after that state."""
        now, wanted = self._context.now(), checked.text(name.strip(), longest=40, where="round")
        with self._context.change() as work:
            job = work.jobs.get(job_id)
            present = [r.name for r in work.takes.rounds(job_id)]
            if wanted in present:
                raise Conflict(f"there is a round {wanted} already.", where="round", remedy="Choose another name.")
            name = wanted or _round_name(job.processor, present)
            made = work.takes.add_round(job_id, name=name, at=now)
            work.jobs.set_round(job_id, made.id)
            work.logbook.add(job_id, f"Round {name} begun, processor {job.processor.description}.", at=now)
        return made

    def choose_round(self, job_id: int, round_id: int) -> None:
        with self._context.change() as work:
            if round_id not in [r.id for r in work.takes.rounds(job_id)]:
                raise InvalidValue("that round is not of this job.", where="round", remedy="Reload the page.")
            work.jobs.set_round(job_id, round_id)

    def recording(self, job_id: int, take_id: int) -> tuple[bytes, str]:
        """The raw recording of a take, and its file name."""
        with self._context.look() as work:
            if work.takes.job_of(take_id) != job_id:
                raise InvalidValue("that take is not of this job.", where="takes", remedy="Reload the page.")
            return work.takes.recording(take_id)


def _require_seen(board: Board, spots: set[int], seen: int | None, channel: str = "") -> None:
    """Conflict where takes came in at spots that the page which asks does not show: from the remote, or the laptop."""
    if seen is None:
        return
    new = [
        take for (code, spot), take in board.takes.items() if take.id > seen and spot in spots and channel in ("", code)
    ]
    if new:
        raise Conflict(
            f"{len(new)} {'take' if len(new) == 1 else 'takes'} came in there since this page was shown, "
            f"the last one {new[-1].channel}: nothing was played.",
            where=board.job.at_spot(new[-1].spot_id),
            remedy="Look at them; press again to take it once more.",
        )


def begin_round(work: UnitOfWork, board: Board) -> None:
    """A round's first take fixes its state; a round that was to be untouched and isn't gets its right name."""
    if board.round.state is None:
        state = board.job.processor
        others = [r.name for r in board.rounds if r.id != board.round.id]
        name = board.round.name if not _USUAL_NAME.fullmatch(board.round.name) else _round_name(state, others)
        work.takes.set_round_state(board.round.id, state, name=name)


def _settled(takes: dict[tuple[str, int], TakeRecord], channel: str, spot: int) -> bool:
    take = takes.get((channel, spot))
    return take is not None and take.settled


def _moved_since(job: Job, takes: dict[tuple[str, int], TakeRecord]) -> tuple[str, ...]:
    """Speakers by code and spots by number that stand elsewhere now than when the round's takes were made."""
    speakers = [
        s.channel
        for s in job.speakers
        if any(
            take.speaker_place not in (None, s.place) for (channel, _), take in takes.items() if channel == s.channel
        )
    ]
    spots = [
        f"spot {s.number}"
        for s in job.spots
        if any(take.spot_place not in (None, s.place) for (_, spot), take in takes.items() if spot == s.id)
    ]
    return (*speakers, *spots)


def _heard(
    board: Board, playing: Playing, spot: int, repeats: int, attempt: int, progress: Progress, stopped: Stopped
) -> tuple[NDArray[np.float64], int]:
    """What the microphones heard, shape (repeats, inputs, samples), and how many drop-outs were reported."""
    recordings, lost = [], 0

    def part_of(number: int, part: float) -> None:
        progress((number + part) / repeats)

    for number in range(repeats):
        device = audio_of(board.job, spot_id=spot, round_name=board.round.name, attempt=attempt, repeat=number)
        recordings.append(
            device.play_and_record(
                playing.sent(),
                sample_rate_hz=playing.signal.sample_rate_hz,
                stopped=stopped,
                progress=partial(part_of, number),
            )
        )
        lost += device.dropouts
    return np.array(recordings), lost


def _next_spot(job: Job, takes: dict[tuple[str, int], TakeRecord]) -> int | None:
    """The first spot where something is missing or spoiled."""
    absent = {spot for code, spot in job.asked if not _settled(takes, code, spot)}
    return next((spot.id for spot in job.spots if spot.id in absent), None)


_USUAL_NAME = re.compile(r"(Untouched|Aligned|Corrected)( \d+)?", re.ASCII)


def _round_name(state: ProcessorState, present: list[str]) -> str:
    if state.active == BYPASS:
        base = "Untouched"
    elif not state.presets[state.active].ours:
        base = state.presets[state.active].name
    else:
        base = "Corrected" if state.corrects else "Aligned"
    if base not in present:
        return base
    return next(f"{base} {n}" for n in range(2, 1000) if f"{base} {n}" not in present)


def _plain(text: str) -> str:
    """Letters and digits of a name, for file names."""
    return "".join(c if c.isalnum() and c.isascii() else "_" for c in text).strip("_")[:40] or "job"
