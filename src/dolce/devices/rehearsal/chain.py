"""What a simulated processor, cables and amplifiers feed to each speaker."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.filters import BandFilter, chain_samples
from dolce.core.processor import DIM_DB, ChannelSettings, ProcessorInUse, ProcessorState, processed
from dolce.core.rig import Fault

_FAULT_GAIN_DB, _FAULT_SOFT_DB, _FAULT_CROSSOVER_HZ = 8.0, -3.0, 200.0
_COVERED, _COVERED_FROM_HZ = 0.5, 3000.0
_FAULT_EQUALISER = BandFilter(frequency_hz=2000.0, gain_db=8.0, q=1.0)
# What a processor that corrects by itself thinks of this room.
_OWN_PREFERENCE = (
    BandFilter(frequency_hz=70.0, gain_db=3.0, q=0.8),
    BandFilter(frequency_hz=3000.0, gain_db=-2.0, q=0.7),
)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Chain:
    """Everything between an output of the interface and the speakers.

    Attributes
    ----------
    connected : tuple of str
        Channels that have a speaker.
    others : tuple of ProcessorInUse
        Processors behind the one that is loaded; those that are on change the sound to their own preference.
    knobs_db : mapping of str to float
        What the hand did to the gain at each speaker; "volume" to all of them.
    """

    processor: ProcessorState
    connected: tuple[str, ...]
    others: tuple[ProcessorInUse, ...] = ()
    knobs_db: Mapping[str, float] = field(default_factory=dict)
    faults: Sequence[Fault] = ()

    def fed(self, stimulus: NDArray, channel: str, sample_rate_hz: int) -> list[tuple[str, NDArray[np.float64]]]:
        """Every speaker that sounds when a channel is fed, and what arrives at it."""
        at_output: dict[str, NDArray[np.float64]] = {}
        for route in self.processor.routes(channel) if channel else ():
            if self.processor.is_open(route.output) and route.output in self.connected:
                part = 10 ** (route.gain_db / 20) * route.played(stimulus, sample_rate_hz=sample_rate_hz)
                at_output[route.output] = at_output.get(route.output, 0.0) + part
        fed = []
        for code, samples in at_output.items():
            samples = processed(samples, self.processor.settings_for(code), sample_rate_hz=sample_rate_hz)
            for other in (processor for processor in self.others if processor.passes(code)):
                samples = self._behind(samples, other, sample_rate_hz)
            gain_db = self.knobs_db.get(code, 0.0) + self.knobs_db.get("volume", 0.0)
            gain_db -= DIM_DB if self.processor.dimmed else 0.0
            fed.append((code, self._with_faults(samples * 10 ** (gain_db / 20), code, sample_rate_hz)))
        return fed

    def _behind(self, samples: NDArray, other: ProcessorInUse, sample_rate_hz: int) -> NDArray:
        """After a processor that corrects by itself: late, and where it is on, to its own preference."""
        preference = _OWN_PREFERENCE if other.name in self.processor.by_themselves else ()
        return processed(
            samples, ChannelSettings(delay_s=other.latency_s, filters=preference), sample_rate_hz=sample_rate_hz
        )

    def _with_faults(self, fed: NDArray, channel: str, sample_rate_hz: int) -> NDArray:
        """What cables, amplifiers and forgotten settings make of the sound on its way to a speaker."""
        kinds = {fault.kind for fault in self.faults if fault.channels == (channel,)}
        if "dead" in kinds:
            return np.zeros_like(fed)
        if "inverted" in kinds:
            fed = -fed
        if "gain" in kinds:
            fed = fed * 10 ** (_FAULT_GAIN_DB / 20)
        if "soft" in kinds:
            fed = fed * 10 ** (_FAULT_SOFT_DB / 20)
        if "crossover" in kinds:
            cut = scipy.signal.butter(4, _FAULT_CROSSOVER_HZ, "high", fs=sample_rate_hz, output="sos")
            fed = scipy.signal.sosfilt(cut, fed)
        if "covered" in kinds:
            # What a cloth lets pass at the top, and all of the rest.
            slow = scipy.signal.butter(1, _COVERED_FROM_HZ, "low", fs=sample_rate_hz, output="sos")
            fed = _COVERED * fed + (1 - _COVERED) * scipy.signal.sosfilt(slow, fed)
        if "equaliser" in kinds:
            fed = chain_samples((_FAULT_EQUALISER,), fed, sample_rate_hz=sample_rate_hz)
        return fed
