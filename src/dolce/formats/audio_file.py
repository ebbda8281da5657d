"""WAV and FLAC: reading what any recorder makes, writing what any player takes."""

import io
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from typing import IO, TypeVar

import numpy as np
import scipy
import soundfile
from numpy.typing import NDArray

from dolce.errors import FormatError

LONGEST_S = 180.0
_MOST_CHANNELS, _BLOCK_VALUES = 64, 2**20
_LARGEST = 1e3  # of a sample; floating point may well go beyond full scale
# Distance of neighbouring values near full scale: A-law and mu-law have 16 of them in the upper half (ITU-T G.711).
_STEPS = {
    "PCM_U8": 2.0**-7,
    "PCM_S8": 2.0**-7,
    "ALAW": 2.0**-5,
    "ULAW": 2.0**-5,
    "PCM_16": 2.0**-15,
    "PCM_24": 2.0**-23,
    "PCM_32": 2.0**-31,
}
Read = TypeVar("Read")
_TYPES = ("WAV", "WAVEX", "RF64", "FLAC")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Audio:
    """One channel of sound: samples with full scale 1, shape (samples,), and its rate.

    `step` is the distance between neighbouring values near full scale; 0 for floating point.
    """

    sample: NDArray[np.float64]
    sample_rate_hz: int
    channels_in_file: int
    step: float = 0.0


def read_audio(data: bytes, *, name: str, longest_s: float = LONGEST_S) -> Audio:
    """The loudest channel of a WAV or FLAC file of any common rate and bit depth.

    Files of many channels are read block by block: the memory needed is that of one channel.

    Raises
    ------
    FormatError
        If the file is empty, not WAV or FLAC, holds no sound, lasts longer than `longest_s`, or holds values that no
        recorder gives.
    """

    def loudest(file: soundfile.SoundFile) -> Audio:
        return Audio(
            sample=_loudest(file, name),
            sample_rate_hz=file.samplerate,
            channels_in_file=file.channels,
            step=_STEPS.get(file.subtype, 0.0),
        )

    audio = _opened(data, name, longest_s, loudest)
    if not audio.sample.size:
        raise FormatError("the file holds no samples.", where=name, remedy="Export the recording again.")
    return audio


def read_channels(data: bytes, *, name: str, longest_s: float = LONGEST_S) -> NDArray[np.float64]:
    """All channels of a WAV or FLAC file, shape (samples, channels); errors as for `read_audio`."""
    return _opened(data, name, longest_s, lambda file: file.read(dtype="float64", always_2d=True))


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Passage:
    """Part of a recording: shape (channels, samples), its rate, and how long the whole of it lasts."""

    sample: NDArray[np.float32]
    sample_rate_hz: int
    whole_s: float


def read_passage(data: bytes, *, name: str, start_s: float, duration_s: float) -> Passage:
    """A part of a WAV or FLAC recording of any length; the rest of it is not decoded.

    Raises
    ------
    FormatError
        As for `read_audio`, or if the recording ends before the part begins.
    """

    def part(file: soundfile.SoundFile) -> Passage:
        whole_s, first = file.frames / file.samplerate, round(start_s * file.samplerate)
        if first >= file.frames:
            raise FormatError(
                f"the recording lasts {whole_s:.1f} s; nothing begins at {start_s:g} s.",
                where=name,
                remedy="Choose an earlier beginning.",
            )
        file.seek(first)
        found = file.read(round(duration_s * file.samplerate), dtype="float32", always_2d=True).T
        if not np.all(np.abs(found) <= _LARGEST):
            raise FormatError(
                "the file holds samples that no recorder gives: not numbers, or far above full scale.",
                where=name,
                remedy="Export it again.",
            )
        return Passage(sample=found, sample_rate_hz=file.samplerate, whole_s=whole_s)

    return _opened(data, name, float("inf"), part)


def _opened(data: bytes, name: str, longest_s: float, read: Callable[[soundfile.SoundFile], Read]) -> Read:
    """What `read` makes of a file that is what it says."""
    if not data:
        raise FormatError("the file is empty.", where=name, remedy="Export the recording again.")
    try:
        with soundfile.SoundFile(io.BytesIO(data)) as file:
            if file.format not in _TYPES:
                raise FormatError(
                    f"this is {file.format}, not WAV or FLAC.",
                    where=name,
                    remedy="Export the recording as WAV or FLAC.",
                )
            if not 8_000 <= file.samplerate <= 192_000:
                raise FormatError(
                    f"a sample rate of {file.samplerate} Hz.", where=name, remedy="Use 44.1, 48, 88.2 or 96 kHz."
                )
            if file.frames > longest_s * file.samplerate:
                raise FormatError(
                    f"the recording lasts {file.frames / file.samplerate:.0f} s.",
                    where=name,
                    remedy=f"Cut it to less than {longest_s:.0f} s around one sweep.",
                )
            if file.channels > _MOST_CHANNELS:
                raise FormatError(
                    f"the file has {file.channels} channels.",
                    where=name,
                    remedy=f"Export the microphone's channel alone, or at most {_MOST_CHANNELS}.",
                )
            return read(file)
    except (soundfile.LibsndfileError, RuntimeError, ValueError, TypeError) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError(
            "this is not a WAV or FLAC file, or it is damaged.",
            where=name,
            remedy="Export the recording as WAV or FLAC.",
        ) from error


def _loudest(file: soundfile.SoundFile, name: str) -> NDArray[np.float64]:
    """The channel with the most energy."""
    energy = np.zeros(file.channels)
    block_frames = max(1, _BLOCK_VALUES // file.channels)

    def blocks() -> Iterator[NDArray[np.float64]]:
        return file.blocks(blocksize=block_frames, dtype="float64", always_2d=True)

    for block in blocks():
        if not np.all(np.abs(block) <= _LARGEST):  # also false for what is not a number
            raise FormatError(
                "the file holds samples that no recorder gives: not numbers, or far above full scale.",
                where=name,
                remedy="Export it again.",
            )
        energy += np.sum(block**2, axis=0)
    loudest, filled = int(np.argmax(energy)), 0
    # One array, filled as it is read: the header may claim more frames than there are.
    sample = np.empty(file.frames)
    file.seek(0)
    for block in blocks():
        sample[filled : filled + len(block)] = block[:, loudest]
        filled += len(block)
    return sample if filled == sample.size else sample[:filled].copy()


def write_wav(sample: NDArray[np.float64], *, sample_rate_hz: int) -> bytes:
    """Mono 32-bit float WAV; equal samples give equal bytes, whenever they are written."""
    # libsndfile would put the present time into a float WAV.
    out = io.BytesIO()
    scipy.io.wavfile.write(out, sample_rate_hz, np.asarray(sample, dtype=np.float32))
    return out.getvalue()


def write_wav_24(sample: NDArray[np.float64], *, sample_rate_hz: int) -> bytes:
    """Mono 24-bit WAV, for players that do not take floating point."""
    return _written(sample, sample_rate_hz, format="WAV", subtype="PCM_24")


def write_wav_parts(
    file: IO[bytes], parts: Iterable[NDArray[np.float64]], *, channels: int, sample_rate_hz: int
) -> None:
    """24-bit WAV of many channels into an open file, part after part, each of shape (samples, channels)."""
    with soundfile.SoundFile(file, "w", sample_rate_hz, channels, subtype="PCM_24", format="WAVEX") as out:
        for part in parts:
            out.write(part)


def write_flac(sample: NDArray[np.float64], *, sample_rate_hz: int) -> bytes:
    """24-bit FLAC of samples, shape (samples,) or (samples, channels): lossless for what a 24-bit converter gave."""
    return _written(sample, sample_rate_hz, format="FLAC", subtype="PCM_24")


def _written(sample: NDArray, sample_rate_hz: int, **kind: str) -> bytes:
    out = io.BytesIO()
    soundfile.write(out, sample, sample_rate_hz, **kind)
    return out.getvalue()
