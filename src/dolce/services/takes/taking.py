"""Passes over the spots of a job: which takes, in which order, at which level."""

from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Job, PassOptions, PassRecord, PassResult, label_of, placement_of, steps_of, waits_of
from dolce.core.response import Caution, Quality, SweepDrowned
from dolce.core.response.outliers import Outlier
from dolce.core.signals import kind_of
from dolce.devices.interface import Progress, SoundStopped, Stopped
from dolce.devices.opening import audio_of
from dolce.errors import Conflict
from dolce.formats.audio_file import write_flac
from dolce.services.context import Context
from dolce.services.rig.processor_access import ProcessorAccess
from dolce.services.sound.sound_work import Keep, SoundWork
from dolce.services.takes.board import Board, begin_round, board_of, is_settled, require_seen
from dolce.services.takes.found_take import FoundTake, found_take, places_of
from dolce.services.takes.outliers import OutliersOfRounds
from dolce.services.takes.take_making import Playing, playing_of, require_open, signal_of
from dolce.store import UnitOfWork

ATTENUATION_DB = 6.0  # of a second take that tells whether something distorts
RISING_DB, RISING_BELOW_DB = 4.0, 16.0  # steps of takes at rising level, and how far under the ceiling they begin
ATTEMPTS_IN_NOISE = 3  # at one channel and spot, before the pass ends for it


class Taking:
    """Takes of one job."""

    def __init__(self, context: Context, sound: SoundWork, access: ProcessorAccess) -> None:
        self._context = context
        self._sound = sound
        self._access = access
        self.outliers = OutliersOfRounds(context)
        self._options_kept: dict[int, PassOptions] = {}

    def board(self, job_id: int) -> Board:
        return board_of(self._context, job_id)

    def odd(self, board: Board) -> list[Outlier]:
        """Takes that do not fit the others of a board."""
        return self.outliers.of(board.job, board.round)

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
        require_seen(board, {spot_id, *spots}, seen)
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
        require_seen(board, {spot_id}, seen, channel)
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
        board.require_state()
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
            again = all(is_settled(board.takes, channel, number) for number in wanted)
            return self._take(
                board,
                channel,
                spot,
                [n for n in wanted if again or not is_settled(board.takes, channel, n)],
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
        board.require_state()
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


def _plain(text: str) -> str:
    """Letters and digits of a name, for file names."""
    return "".join(c if c.isalnum() and c.isascii() else "_" for c in text).strip("_")[:40] or "job"
