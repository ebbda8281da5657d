"""What was made elsewhere, as takes: recordings of the test signal, impulse responses, and curves of text."""

import re
from collections.abc import Callable
from datetime import datetime

import numpy as np

from dolce.core import checked
from dolce.core.geometry import Point
from dolce.core.job import Rig, TakeRecord
from dolce.core.response import (
    TELLS_NOISE_FROM_S,
    Capture,
    Caution,
    FrequencyResponse,
    Quality,
    curve_on_grid,
    find_arrival,
    find_chirps,
    grid_levels,
    is_impulse_response,
    resampled,
    response_of_file,
)
from dolce.errors import FormatError, InvalidValue
from dolce.formats.audio_file import Audio, read_audio
from dolce.formats.microphone_text import read_microphone_curve
from dolce.formats.sofa_file import is_sofa, read_sofa
from dolce.services.context import Context
from dolce.services.takes.board import Board, begin_round, board_of
from dolce.services.takes.found_take import places_of
from dolce.services.takes.recordings import LONGEST_RECORDING_S, Recordings
from dolce.services.takes.take_making import chirps_of, sweep_of
from dolce.store import UnitOfWork

_TWO_NUMBERS = re.compile(rb"^\s*[+-]?[\d.,]+[\s;,]+[+-]?[\d.,]", re.MULTILINE)
_SAME_PLACE_M = 0.25  # of a microphone in a SOFA file and a spot
_UNKNOWN_DB = 99.0  # stands where a take tells no noise; never shown (`TakeRecord.tells_noise`)


Keep = Callable[[UnitOfWork, Board, datetime, tuple[Point | None, Point]], int]


class Elsewhere:
    """Takes that no rig of ours has made."""

    def __init__(self, context: Context, recordings: Recordings) -> None:
        self._context = context
        self._recordings = recordings

    def add(
        self, job_id: int, channel: str, spot_id: int, data: bytes, *, file_name: str, recorder: str = ""
    ) -> TakeRecord:
        """Keep a file as the take of a channel at a spot; what it is is found from what is in it.

        Raises
        ------
        FormatError, InvalidValue
            Saying what is wrong with the file, where, and what to do; nothing is kept then.
        """
        recorder = checked.text(recorder.strip(), longest=40, where="recorder")
        if is_text(data):
            return self._add_curve(job_id, channel, spot_id, data, file_name=file_name, recorder=recorder)
        if is_sofa(data):
            return self._add_impulse(
                job_id,
                channel,
                spot_id,
                self._of_sofa(job_id, spot_id, data, file_name),
                data,
                file_name=file_name,
                recorder=recorder,
            )
        audio = read_audio(data, name=file_name, longest_s=LONGEST_RECORDING_S)
        with self._context.look() as work:
            rig = work.jobs.get(job_id).rig
        if holds_impulse_response(audio, rig):
            return self._add_impulse(job_id, channel, spot_id, audio, data, file_name=file_name, recorder=recorder)
        return self._recordings.add(job_id, channel, spot_id, data, file_name=file_name, recorder=recorder)

    def _of_sofa(self, job_id: int, spot_id: int, data: bytes, file_name: str) -> Audio:
        """The response of a SOFA file whose microphone stood nearest to a spot; the only one of a file that holds one.

        Raises
        ------
        FormatError
            Where none stood there.
        """
        read = read_sofa(data, name=file_name)
        with self._context.look() as work:
            place = work.jobs.get(job_id).spot(spot_id).place.as_array()
        away = np.linalg.norm(read.microphones_m - place, axis=1)
        nearest = int(np.argmin(away))
        if len(read.samples) > 1 and away[nearest] > _SAME_PLACE_M:
            raise FormatError(
                f"none of its {len(read.samples)} microphones stood here: the nearest is {away[nearest]:.2f} m away.",
                where=file_name,
                remedy="Choose the spot where it stood, or save that response alone.",
            )
        return Audio(sample=read.samples[nearest], sample_rate_hz=read.sample_rate_hz, channels_in_file=1)

    def _add_impulse(
        self, job_id: int, channel: str, spot_id: int, audio: Audio, data: bytes, *, file_name: str, recorder: str
    ) -> TakeRecord:
        try:
            response = response_of_file(audio.sample, sample_rate_hz=audio.sample_rate_hz)
        except InvalidValue as error:
            raise InvalidValue(error.problem, where=file_name, remedy=error.remedy) from error
        arrival = find_arrival(response)
        cautions = [Caution(kind="impulse response"), Caution(kind="delay unknown")]
        if arrival.time_s < TELLS_NOISE_FROM_S:
            cautions.append(Caution(kind="begins at arrival", value=1000 * arrival.time_s))
        if audio.channels_in_file > 1:
            cautions.append(Caution(kind="loudest of channels", value=audio.channels_in_file))
        quality = Quality(
            signal_to_noise_db=_UNKNOWN_DB,
            peak_dbfs=float(20 * np.log10(np.abs(audio.sample).max())),
            clipped_samples=0,
        )
        capture = Capture(response=response, arrival=arrival, quality=quality)

        def keep(work: UnitOfWork, board: Board, at: datetime, places: tuple[Point | None, Point]) -> int:
            return work.takes.add(
                round_id=board.round.id,
                channel=channel,
                spot_id=spot_id,
                at=at,
                source="impulse",
                capture=capture,
                levels=grid_levels(response),
                arrival_known=False,
                recording=data,
                recording_name=file_name,
                played=None,
                cautions=cautions,
                recorder=recorder,
                places=places,
            )

        return self._keep(job_id, channel, spot_id, f"Impulse response {file_name}", keep)

    def _add_curve(
        self, job_id: int, channel: str, spot_id: int, data: bytes, *, file_name: str, recorder: str
    ) -> TakeRecord:
        read = read_microphone_curve(data, name=file_name)
        curve = FrequencyResponse(frequency_hz=read.frequency_hz, level_db=read.level_db)
        try:
            level = curve_on_grid(curve)
        except InvalidValue as error:
            raise FormatError(error.problem, where=file_name, remedy=error.remedy) from error
        quality = Quality(signal_to_noise_db=_UNKNOWN_DB, peak_dbfs=0.0, clipped_samples=0)
        span = f"{read.frequency_hz[0]:.0f} to {read.frequency_hz[-1]:.0f} Hz"

        def keep(work: UnitOfWork, board: Board, at: datetime, places: tuple[Point | None, Point]) -> int:
            return work.takes.add_level(
                round_id=board.round.id,
                channel=channel,
                spot_id=spot_id,
                at=at,
                source="curve",
                quality=quality,
                level_db=level,
                sample_rate_hz=board.job.rig.sample_rate_hz,
                places=places,
                cautions=[Caution(kind="curve of text", text=span)],
                recorder=recorder,
            )

        return self._keep(job_id, channel, spot_id, f"Curve {file_name}", keep)

    def _keep(self, job_id: int, channel: str, spot_id: int, what: str, keep: Keep) -> TakeRecord:
        board = board_of(self._context, job_id)
        board.require_state()
        feed = board.job.feed(channel)
        places = places_of(board.job, feed, spot_id)
        now = self._context.now()
        with self._context.change() as work:
            begin_round(work, board)
            take_id = keep(work, board, now, places)
            work.logbook.add(job_id, f"{what} used for {feed.label} at {board.job.at_spot(spot_id)}.", at=now)
            return work.takes.get(take_id)


def holds_impulse_response(audio: Audio, rig: Rig) -> bool:
    """Whether a file is an impulse response, and not the recording of a rig's own test signal.

    A sub plays so little of a sweep that its recording may be as short as a response: the marks tell.
    """
    if not is_impulse_response(audio.sample, sample_rate_hz=audio.sample_rate_hz):
        return False
    first, second = chirps_of(sweep_of(rig))
    rate = rig.sample_rate_hz
    samples = resampled(audio.sample, from_hz=audio.sample_rate_hz, to_hz=rate)
    return find_chirps(samples, apart=second - first, sample_rate_hz=rate) is None


def is_text(data: bytes) -> bool:
    """Whether a file has lines that begin with two numbers, and is no sound."""
    head = data[:4000]
    return b"\x00" not in head and _TWO_NUMBERS.search(head) is not None
