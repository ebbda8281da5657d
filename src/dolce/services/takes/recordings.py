"""Recordings of the test signal made elsewhere, and the raw recordings of all takes."""

import numpy as np

from dolce.core import checked
from dolce.core.job import TakeRecord
from dolce.core.response import (
    DRIFT_WORTH_PPM,
    Caution,
    clipped_samples,
    drift_between_chirps_ppm,
    resampled,
    stretched,
    without_drift,
)
from dolce.core.signals import excitation_values
from dolce.errors import InvalidValue
from dolce.formats.audio_file import read_audio, write_wav_24
from dolce.services.context import Context
from dolce.services.takes.board import begin_round, board_of
from dolce.services.takes.found_take import places_of
from dolce.services.takes.take_making import (
    TAIL_S,
    captured,
    chirps_of,
    deconvolver_with_chirps,
    new_deconvolver,
    sweep_of,
    with_sync_chirps,
)

LONGEST_RECORDING_S = 60.0


class Recordings:
    """The test signal as a file, and what was recorded of it."""

    def __init__(self, context: Context) -> None:
        self._context = context

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

    def add(
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
        board = board_of(self._context, job_id)
        feed = board.job.feed(channel)
        board.job.spot(spot_id)
        board.require_state()
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

    def original(self, job_id: int, take_id: int) -> tuple[bytes, str]:
        """The raw recording of a take, and its file name."""
        with self._context.look() as work:
            if work.takes.job_of(take_id) != job_id:
                raise InvalidValue("that take is not of this job.", where="takes", remedy="Reload the page.")
            return work.takes.recording(take_id)
