"""What an alignment and a correction make of measured responses."""

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.correction import FoundConvolution
from dolce.core.dsp import delay_response, power_db
from dolce.core.filters import chain_level_db, chain_sections
from dolce.core.processor import ChannelSettings, Convolution, ProcessorLimits
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.correction import Correction
from dolce.core.tuning.steps import on_step
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
                raise InvalidValue(
                    f"{channel} has the shape {response.shape}.",
                    where="responses",
                    remedy="Give one row per spot and one value per frequency.",
                )

    def complete(self, channels: Collection[str]) -> NDArray[np.int64]:
        """Numbers of the spots that have all of some channels, shape (any,)."""
        if any(channel not in self.channels for channel in channels):
            return np.zeros(0, dtype=np.int64)
        absent = [np.isnan(self.channels[channel][:, 0]) for channel in channels]
        return np.flatnonzero(~np.any(absent, axis=0)) if absent else np.arange(len(self.spots))

    def at(self, rows: NDArray[np.int64], channels: Collection[str]) -> "Responses":
        """Some channels at some spots, by their numbers."""
        return replace(
            self,
            spots=tuple(self.spots[row] for row in rows),
            channels={channel: self.channels[channel][rows] for channel in channels},
        )

    def together(self, channels: Sequence[str]) -> NDArray[np.complex128]:
        """What several channels that play the same make together, shape (spots, points)."""
        return np.sum([self.channels[channel] for channel in channels], axis=0)

    def level_db(self, channels: Sequence[str]) -> NDArray[np.float64]:
        """Level of channels together, shape (spots, points)."""
        return power_db(np.abs(self.together(channels)) ** 2)

    def seat_level_db(self, channels: Sequence[str], weights: Mapping[int, float]) -> NDArray[np.float64]:
        """Energy average of channels together over the spots of a seat or of a seat weighting, shape (points,)."""
        rows = [k for k, spot in enumerate(self.spots) if weights.get(spot, 0) > 0]
        weight = np.array([weights[self.spots[k]] for k in rows])
        return power_db(np.average(np.abs(self.together(channels)[rows]) ** 2, axis=0, weights=weight))


def settings_of(
    alignment: Alignment,
    correction: Correction | None,
    channel: str,
    *,
    sample_rate_hz: int,
    device: ProcessorLimits | None = None,
) -> ChannelSettings:
    """What an output gets: its alignment, and of the correction the bands or the convolution at a rate, the trim that
    makes up for them, and the wait for others whose convolution makes them later. With a device, convolutions are no
    longer than it holds and delays are multiples of its step.
    """
    base = alignment.settings(channel)
    if correction is None:
        return base
    most_taps = (device.taps or None) if device else None
    delay_s = base.delay_s + correction.wait_s(channel, sample_rate_hz=sample_rate_hz, most_taps=most_taps)
    if device is not None and device.delay_step_s:
        delay_s = on_step(delay_s, device.delay_step_s)
    return replace(
        base,
        trim_db=max(-40.0, round(base.trim_db + correction.trims_db.get(channel, 0.0), 3)),
        delay_s=round(delay_s, 9),
        filters=correction.filters(channel),
        convolution=taps_of(correction.convolutions.get(channel), sample_rate_hz=sample_rate_hz, most_taps=most_taps),
    )


@cache(96)
def taps_of(found: FoundConvolution | None, *, sample_rate_hz: int, most_taps: int | None = None) -> Convolution | None:
    """A found convolution as a processor takes it at one rate."""
    if found is None:
        return None
    impulse = found.impulse(sample_rate_hz=sample_rate_hz, most_samples=most_taps)
    return Convolution.of(impulse, sample_rate_hz=sample_rate_hz)


def response_of(settings: ChannelSettings, *, at_hz: NDArray, sample_rate_hz: float) -> NDArray[np.complex128]:
    """Complex response of one output's settings, shape (points,): trim, delay, polarity, crossovers, bands, taps."""
    return _response_of(settings, np.asarray(at_hz, dtype=np.float64).tobytes(), sample_rate_hz)


@cache(256)
def _response_of(settings: ChannelSettings, frequencies: bytes, sample_rate_hz: float) -> NDArray[np.complex128]:
    """Kept, since every channel whose bass an output plays asks for it on the same few grids."""
    at_hz = np.frombuffer(frequencies)
    phase = delay_response(at_hz, settings.delay_s)
    total = phase * 10 ** (settings.trim_db / 20) * (-1 if settings.polarity == "inverted" else 1)
    sections = list(chain_sections(settings.filters, sample_rate_hz=sample_rate_hz))
    for side, crossover in settings.crossovers():
        sections.extend(crossover.sections(side, sample_rate_hz=sample_rate_hz))
    for all_pass in settings.all_pass:
        sections.extend(all_pass.sos(sample_rate_hz=sample_rate_hz))
    if sections:
        total = total * scipy.signal.freqz_sos(np.array(sections), worN=at_hz, fs=sample_rate_hz)[1]
    taps = settings.convolution
    if taps is not None and taps.sample_rate_hz == sample_rate_hz:
        total = total * taps.response(at_hz)
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
        frequency_hz=responses.frequency_hz,
        sample_rate_hz=responses.sample_rate_hz,
        spots=responses.spots,
        channels={
            channel: response
            * response_of(
                settings_of(alignment, correction, channel, sample_rate_hz=round(responses.sample_rate_hz)),
                at_hz=responses.frequency_hz,
                sample_rate_hz=responses.sample_rate_hz,
            )
            for channel, response in responses.channels.items()
        },
    )
