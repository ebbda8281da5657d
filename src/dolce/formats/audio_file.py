"""WAV and FLAC: reading what any recorder makes, writing what any player takes."""

import io
from dataclasses import dataclass

import numpy as np
import soundfile
from numpy.typing import NDArray

from dolce.errors import FormatError

_LONGEST_S = 180.0
_TYPES = ("WAV", "WAVEX", "RF64", "FLAC")


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Audio:
    """One channel of sound: samples with full scale 1, shape (samples,), and its rate."""

    sample: NDArray[np.float64]
    sample_rate_hz: int
    channels_in_file: int


def read_audio(data: bytes, *, name: str) -> Audio:
    """The loudest channel of a WAV or FLAC file of any common rate and bit depth.

    Raises
    ------
    FormatError
        If the file is empty, not WAV or FLAC, holds no sound, or lasts longer than three minutes.
    """
    if not data:
        raise FormatError("the file is empty.", where=name, remedy="Export the recording again.")
    try:
        with soundfile.SoundFile(io.BytesIO(data)) as file:
            if file.format not in _TYPES:
                raise FormatError(f"this is {file.format}, not WAV or FLAC.", where=name,
                                  remedy="Export the recording as WAV or FLAC.")
            if file.frames > _LONGEST_S * file.samplerate:
                raise FormatError(f"the recording lasts {file.frames / file.samplerate:.0f} s.", where=name,
                                  remedy=f"Cut it to less than {_LONGEST_S:.0f} s around one sweep.")
            if not 8_000 <= file.samplerate <= 192_000:
                raise FormatError(f"a sample rate of {file.samplerate} Hz.", where=name,
                                  remedy="Use 44.1, 48, 88.2 or 96 kHz.")
            sample = file.read(dtype="float64", always_2d=True)
            rate = file.samplerate
    except (soundfile.LibsndfileError, RuntimeError, ValueError, TypeError) as error:
        if isinstance(error, FormatError):
            raise
        raise FormatError("this is not a WAV or FLAC file, or it is damaged.", where=name,
                          remedy="Export the recording as WAV or FLAC.") from error
    if not sample.shape[0]:
        raise FormatError("the file holds no samples.", where=name, remedy="Export the recording again.")
    if not np.all(np.isfinite(sample)):
        raise FormatError("the file holds samples that are not numbers.", where=name, remedy="Export it again.")
    loudest = int(np.argmax(np.sum(sample**2, axis=0)))
    return Audio(sample=sample[:, loudest].copy(), sample_rate_hz=rate, channels_in_file=sample.shape[1])


def write_wav(sample: NDArray[np.float64], *, sample_rate_hz: int) -> bytes:
    """Mono 32-bit float WAV."""
    return _written(sample, sample_rate_hz, format="WAV", subtype="FLOAT")


def write_wav_24(sample: NDArray[np.float64], *, sample_rate_hz: int) -> bytes:
    """Mono 24-bit WAV, for players that do not take floating point."""
    return _written(sample, sample_rate_hz, format="WAV", subtype="PCM_24")


def write_flac(sample: NDArray[np.float64], *, sample_rate_hz: int) -> bytes:
    """Mono 24-bit FLAC: lossless for what a 24-bit converter gave."""
    return _written(sample, sample_rate_hz, format="FLAC", subtype="PCM_24")


def _written(sample: NDArray, sample_rate_hz: int, **kind: str) -> bytes:
    out = io.BytesIO()
    soundfile.write(out, sample, sample_rate_hz, **kind)
    return out.getvalue()
