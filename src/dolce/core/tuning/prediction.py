"""What an alignment and a correction make of measured responses."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.filters import chain_level_db, peaking_biquad, playable
from dolce.core.levels import power_db
from dolce.core.processor import ChannelSettings
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.correction import Correction
from dolce.errors import InvalidValue


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Responses:
    """Complex responses at the same spots.

    Attributes
    ----------
    frequency_hz : ndarray, shape (points,)
    sample_rate_hz : float
        Of the processor that plays them.
    spots : tuple of int
        Ids, in the order of the rows.
    channels : mapping of channel to complex ndarray, shape (spots, points)
    """

    frequency_hz: NDArray[np.float64]
    sample_rate_hz: float
    spots: tuple[int, ...]
    channels: Mapping[str, NDArray[np.complex128]]

    def __post_init__(self) -> None:
        for channel, response in self.channels.items():
            if response.shape != (len(self.spots), self.frequency_hz.size):
                raise InvalidValue(f"{channel} has the shape {response.shape}.", where="responses",
                                   remedy="Give one row per spot and one value per frequency.")

    def together(self, channels: Sequence[str]) -> NDArray[np.complex128]:
        """What several channels that play the same make together, shape (spots, points)."""
        return np.sum([self.channels[channel] for channel in channels], axis=0)

    def level_db(self, channels: Sequence[str]) -> NDArray[np.float64]:
        """Level of channels together, shape (spots, points)."""
        return power_db(np.abs(self.together(channels)) ** 2)

    def seat_level_db(self, channels: Sequence[str], weights: Mapping[int, float]) -> NDArray[np.float64]:
        """Energy average of channels together over the spots of a seat or of a blend, shape (points,)."""
        rows = [k for k, spot in enumerate(self.spots) if weights.get(spot, 0) > 0]
        weight = np.array([weights[self.spots[k]] for k in rows])
        return power_db(np.average(np.abs(self.together(channels)[rows]) ** 2, axis=0, weights=weight))


def settings_of(alignment: Alignment, correction: Correction | None, channel: str) -> ChannelSettings:
    """What an output gets: its alignment, and of the correction the bands and the trim that makes up for them."""
    base = alignment.settings(channel)
    if correction is None:
        return base
    trim_db = round(base.trim_db + correction.trims_db.get(channel, 0.0), 3)
    return replace(base, trim_db=max(-40.0, trim_db), filters=correction.filters(channel))


def response_of(settings: ChannelSettings, *, at_hz: NDArray, sample_rate_hz: float) -> NDArray[np.complex128]:
    """Complex response of one output's settings, shape (points,): trim, delay, polarity, crossovers, bands, taps."""
    phase = np.exp(-2j * np.pi * at_hz * settings.delay_s)
    total = phase * 10 ** (settings.trim_db / 20) * (-1 if settings.polarity == "inverted" else 1)
    sections = [peaking_biquad(frequency_hz=f.frequency_hz, gain_db=f.gain_db, q=f.q,
                               sample_rate_hz=sample_rate_hz).sos()
                for f in playable(settings.filters, sample_rate_hz=sample_rate_hz)]
    for side, crossover in (("high", settings.high_pass), ("low", settings.low_pass)):
        if crossover is not None:
            sections.extend(crossover.sections(side, sample_rate_hz=sample_rate_hz))
    for one in settings.all_pass:
        sections.extend(one.sos(sample_rate_hz=sample_rate_hz))
    if sections:
        total = total * scipy.signal.freqz_sos(np.array(sections), worN=at_hz, fs=sample_rate_hz)[1]
    taps = settings.convolution
    if taps is not None and taps.sample_rate_hz == sample_rate_hz:
        size = scipy.fft.next_fast_len(4 * taps.taps, real=True)
        spectrum = scipy.fft.rfft(taps.impulse, size)
        grid = scipy.fft.rfftfreq(size, 1 / sample_rate_hz)
        total = total * (np.interp(at_hz, grid, spectrum.real) + 1j * np.interp(at_hz, grid, spectrum.imag))
    return total


def level_of(settings: ChannelSettings, *, at_hz: NDArray, sample_rate_hz: float) -> NDArray[np.float64]:
    """Level in dB of one output's settings without its delay and polarity, shape (points,); for levels alone."""
    if settings.high_pass is None and settings.low_pass is None and settings.convolution is None:
        return settings.trim_db + chain_level_db(settings.filters, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
    return power_db(np.abs(response_of(settings, at_hz=at_hz, sample_rate_hz=sample_rate_hz)) ** 2)


def predict(alignment: Alignment, correction: Correction | None, responses: Responses) -> Responses:
    """The responses as they will be, of every channel at every spot.

    Combinations follow from `Responses.together`, seats from `Responses.seat_level_db`.
    """
    return Responses(
        frequency_hz=responses.frequency_hz, sample_rate_hz=responses.sample_rate_hz, spots=responses.spots,
        channels={channel: response * response_of(
            settings_of(alignment, correction, channel), at_hz=responses.frequency_hz,
            sample_rate_hz=responses.sample_rate_hz) for channel, response in responses.channels.items()})
