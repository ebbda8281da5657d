"""What arrives at a microphone when programme plays: measured responses, with what the outputs do to it."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import delay_response
from dolce.core.listening.programme import Programme
from dolce.core.response import ImpulseResponse
from dolce.core.tuning import Outputs, Responses, signal_paths_of
from dolce.errors import InvalidValue

_RINGS_S = 1.0  # room behind a response for what filters and delays add
_ONSET = 0.25  # of the highest sample: where a path begins


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Paths:
    """The way from each channel's input to one microphone, shape (samples,) each."""

    sample: Mapping[str, NDArray[np.float64]]
    sample_rate_hz: int

    @property
    def onset(self) -> int:
        """Sample at which the strongest path begins."""
        strongest = max(self.sample.values(), key=lambda sample: float(np.abs(sample).max()))
        size = np.abs(strongest)
        return int(np.argmax(size >= _ONSET * size.max()))


def paths_of(outputs: Outputs, responses: Mapping[str, ImpulseResponse], channels: Sequence[str]) -> Paths | None:
    """Impulse responses from channels to one microphone through what outputs get; None where none of them was taken.

    Parameters
    ----------
    responses : mapping of output to ImpulseResponse
        All at one rate, as measured with nothing in between.

    Raises
    ------
    InvalidValue
        If rates differ.

    Notes
    -----
    Levels are as measured: 1 is what was played. Programme that goes round may go through them in a circle.
    """
    rates = {response.sample_rate_hz for response in responses.values()}
    if len(rates) > 1:
        raise InvalidValue(
            f"takes at {' and '.join(f'{rate} Hz' for rate in sorted(rates))}.",
            where="takes",
            remedy="Take the channels again at one rate.",
        )
    if not responses:
        return None
    rate = rates.pop()
    first_s = min(response.start_s for response in responses.values())
    last_s = max(response.start_s + response.sample.size / rate for response in responses.values())
    size = scipy.fft.next_fast_len(round((last_s - first_s + _RINGS_S) * rate), real=True)
    at_hz = scipy.fft.rfftfreq(size, 1 / rate)
    at_hz[0] = at_hz[1] / 2  # filters over log frequency know no 0 Hz
    spectra = {
        code: (scipy.fft.rfft(response.sample, size) * delay_response(at_hz, response.start_s - first_s))[None, :]
        for code, response in responses.items()
    }
    measured = Responses(frequency_hz=at_hz, sample_rate_hz=rate, spots=(0,), channels=spectra)
    found = {}
    for channel in channels:
        parts = [spectrum[0] for _, spectrum in signal_paths_of(outputs, measured, channel)]
        if parts:
            found[channel] = scipy.fft.irfft(np.sum(parts, axis=0), size)
    return Paths(sample=found, sample_rate_hz=rate) if found else None


class Rendering:
    """A programme whose spectra are kept while it is sent through one set of paths after another."""

    def __init__(self, programme: Programme) -> None:
        self.programme = programme
        self._size = programme.sample.shape[1]
        self._spectra = scipy.fft.rfft(programme.sample, axis=1)

    def through(self, paths: Paths, *, gain_db: float = 0.0, onset: int | None = None) -> NDArray[np.float32]:
        """What the microphone hears while the passage goes round, shape (samples,).

        Parameters
        ----------
        onset : to which sample the beginning of the paths is moved, so that sets of paths can be switched in place;
            None for where it is

        Raises
        ------
        InvalidValue
            If the rates differ, or no channel of the programme has a path.
        """
        if paths.sample_rate_hz != self.programme.sample_rate_hz:
            raise InvalidValue(
                f"{paths.sample_rate_hz} Hz and {self.programme.sample_rate_hz} Hz.",
                where="programme",
                remedy="Bring the programme to the rate of the takes first.",
            )
        total = np.zeros(self._spectra.shape[1], dtype=np.complex64)
        processed = [channel for channel in self.programme.channels if channel in paths.sample]
        if not processed:
            raise InvalidValue(
                "none of its channels was taken at this seat.",
                where="programme",
                remedy="Choose other material, or take the channels it needs.",
            )
        for channel, spectrum in zip(self.programme.channels, self._spectra, strict=True):
            if channel in paths.sample:
                total += spectrum * scipy.fft.rfft(self._wrapped(paths.sample[channel]))
        later = 0 if onset is None else onset - paths.onset
        return 10 ** np.float32(gain_db / 20) * np.roll(scipy.fft.irfft(total, self._size), later)

    def _wrapped(self, path: NDArray) -> NDArray[np.float32]:
        """A path as long as the passage: what is longer comes in again at the beginning."""
        padded = np.zeros(-(-path.size // self._size) * self._size, dtype=np.float32)
        padded[: path.size] = path
        return padded.reshape(-1, self._size).sum(axis=0)


def retuned(levels: NDArray, level_db: NDArray, at_hz: NDArray, *, sample_rate_hz: int) -> NDArray[np.float32]:
    """What was rendered with a curve on top, in zero phase and in a circle, shape as given.

    Parameters
    ----------
    heard : ndarray, shape (..., samples)
    level_db, at_hz : the curve in dB over rising frequencies, held beyond its ends
    """
    spectrum = scipy.fft.rfft(levels, axis=-1)
    grid = scipy.fft.rfftfreq(levels.shape[-1], 1 / sample_rate_hz)
    gain = np.interp(np.log(np.maximum(grid, at_hz[0])), np.log(at_hz), level_db)
    return scipy.fft.irfft(spectrum * 10 ** (gain / 20).astype(np.float32), levels.shape[-1], axis=-1)
