"""One file that plays a whole spot, all rows in turn; and its recording, cut up again."""

import tempfile
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from typing import IO

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import Feed, Job
from dolce.core.response import Caution, RecordedPart, SweepDrowned, recorded_parts, resampled
from dolce.core.signals import SyncedSignal
from dolce.errors import Conflict, InvalidValue
from dolce.formats.audio_file import read_audio, write_flac, write_wav_parts
from dolce.services.takes.found_take import FoundTake, found_take
from dolce.services.takes.take_making import TAIL_S, Playing, signal_of

LONGEST_S = 600.0
_DIFFER_S = 0.015  # in the distance of their sync chirps: what tells two rows apart


@dataclass(frozen=True, slots=True, kw_only=True)
class SpotPart:
    """One row's part of the file: what plays it, and on which outputs."""

    feed: Feed
    synced: SyncedSignal
    outputs: tuple[int, ...]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PartFound:
    """One row's part of a recording; `take` is None where nothing was found in it, and `fault` says why."""

    feed: Feed
    take: FoundTake | None
    flac: bytes = b""
    fault: str = ""


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SpotFound:
    """What a recording of a whole spot holds.

    Attributes
    ----------
    parts : tuple of PartFound
        In the order of the board, the last one of each row.
    missing, twice : tuple of Feed
        Rows that are not in it, and those that are there more than once.
    cut_off_s : tuple of float
        Moments at which something is heard that is no whole part.
    """

    spot_id: int
    parts: tuple[PartFound, ...]
    missing: tuple[Feed, ...]
    twice: tuple[Feed, ...]
    cut_off_s: tuple[float, ...]


def spot_parts(job: Job) -> tuple[SpotPart, ...]:
    """The parts of a job's file, in the order of the board: the distances of their sync chirps all differ."""
    parts: list[SpotPart] = []
    distances: list[int] = []
    rate = job.rig.sample_rate_hz
    for feed in job.feeds:
        synced = SyncedSignal(signal=signal_of(job, feed), sync_dbfs=job.rig.levels.sweep_level_dbfs)
        while any(abs(synced.silent_until - distance) < _DIFFER_S * rate for distance in distances):
            synced = replace(synced, code=synced.code + 1)
        distances.append(synced.silent_until)
        fed, _ = job.routed(feed.channels)
        parts.append(SpotPart(feed=feed, synced=synced, outputs=tuple(job.speaker(c).output for c in fed)))
    return tuple(parts)


def spot_file(job: Job) -> tuple[IO[bytes], str]:
    """The file as multichannel WAV of 24 bits, one channel for each output, open at its beginning; and its name.

    Raises
    ------
    Conflict
        If a sample would be above the ceiling.
    """
    parts, rate = spot_parts(job), job.rig.sample_rate_hz
    outputs = max(speaker.output for speaker in job.speakers)
    sync_output = job.speaker(job.sync_channel).output

    def played() -> Iterator[NDArray]:
        for part in parts:
            block = np.zeros((part.synced.size + round(TAIL_S * rate), outputs))
            block[: part.synced.size, sync_output - 1] += part.synced.sync_chirps()
            for output in part.outputs:
                block[: part.synced.size, output - 1] += part.synced.samples()
            job.ceiling.allows(block)
            yield block

    file = tempfile.TemporaryFile()  # noqa: SIM115 (the page that sends it closes it)
    try:
        write_wav_parts(file, played(), channels=outputs, sample_rate_hz=rate)
    except Conflict:
        file.close()
        raise
    file.seek(0)
    return file, f"dolce-whole-spot-{outputs}-channels-{rate}Hz.wav"


def cut_up(
    job: Job, spot_id: int, data: bytes, *, file_name: str, on_progress: Callable[[int, int], None]
) -> SpotFound:
    """Find every row in the recording of a whole spot and analyse it.

    `on_progress` hears how many of how many parts are done.

    Raises
    ------
    FormatError, InvalidValue
        If the file can't be read, or no sync chirp is heard in it.
    """
    audio = read_audio(data, name=file_name, longest_s=LONGEST_S)
    samples = resampled(audio.sample, from_hz=audio.sample_rate_hz, to_hz=job.rig.sample_rate_hz)
    parts = spot_parts(job)
    try:
        found_parts = recorded_parts(samples, [part.synced for part in parts])
    except InvalidValue as error:
        raise InvalidValue(error.problem, where=file_name, remedy=error.remedy) from error
    last = {part.index: part for part in found_parts.parts}
    found = []
    for number, index in enumerate(sorted(last)):
        on_progress(number, len(last))
        found.append(_part(job, spot_id, parts[index], last[index], samples, audio.channels_in_file))
    count = [sum(part.index == index for part in found_parts.parts) for index in range(len(parts))]
    return SpotFound(
        spot_id=spot_id,
        parts=tuple(found),
        cut_off_s=found_parts.cut_off_s,
        missing=tuple(part.feed for part, n in zip(parts, count, strict=True) if n == 0),
        twice=tuple(part.feed for part, n in zip(parts, count, strict=True) if n > 1),
    )


def _part(job: Job, spot_id: int, part: SpotPart, recorded: RecordedPart, samples: NDArray, channels: int) -> PartFound:
    rate = job.rig.sample_rate_hz
    recording = samples[recorded.start : recorded.start + part.synced.size + round(TAIL_S * rate)]
    playing = Playing(signal=part.synced.signal, outputs=part.outputs, synced=part.synced)
    cautions = [Caution(kind="loudest of channels", value=channels)] if channels > 1 else []
    try:
        take = found_take(job, part.feed, playing, spot_id, recording[None], row=0, lost=0, through_rig=False)
    except InvalidValue as error:
        return PartFound(feed=part.feed, take=None, fault=_why(error, part.feed))
    return PartFound(
        feed=part.feed,
        take=replace(take, cautions=[*take.cautions, *cautions]),
        flac=write_flac(recording, sample_rate_hz=rate),
    )


def _why(error: InvalidValue, feed: Feed) -> str:
    if isinstance(error, SweepDrowned):
        return f"{feed.label} is not heard between its sync chirps: did it play, and loud enough?"
    return str(error)


def words_of(found: SpotFound) -> tuple[str, ...]:
    """What a person should know of the whole recording, in sentences."""

    def names(feeds: Sequence[Feed]) -> str:
        return ", ".join(feed.label for feed in feeds)

    cautions = []
    if found.missing:
        cautions.append(f"Not in it: {names(found.missing)}. Play and record those again, or take them one by one.")
    if found.twice:
        cautions.append(f"More than once in it: {names(found.twice)}; the last is used.")
    cautions += [
        f"At {int(moment // 60)}:{moment % 60:04.1f} something is heard that is no whole part: cut off?"
        for moment in found.cut_off_s[:3]
    ]
    return tuple(cautions)
