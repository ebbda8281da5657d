"""How far each output of a processor is driven: what its filters, trims and all that feed it add up to."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from dolce.core.levels import mid_bands
from dolce.core.tuning.outputs import Outputs
from dolce.core.tuning.prediction import level_of

# Even steps of pitch, over which pink noise has the same power everywhere.
_EVEN_HZ = mid_bands(per_octave=48, from_hz=20, to_hz=20_000)


@dataclass(frozen=True, slots=True, kw_only=True)
class OutputLoad:
    """One output.

    Attributes
    ----------
    channels : those that feed it
    gain_db, at_hz : largest gain of the whole chain for all of them playing the same in phase, and where
    tone_dbfs : what a full-scale tone there, in every channel, would reach after the common cut
    noise_dbfs : RMS of pink noise of full-scale RMS in each channel, none alike, 20 Hz to 20 kHz, after the cut
    """

    output: str
    channels: tuple[str, ...]
    gain_db: float
    at_hz: float
    tone_dbfs: float
    noise_dbfs: float

    @property
    def is_beyond(self) -> bool:
        """Whether such a tone would run out of range."""
        return self.tone_dbfs > 0.05


def output_loads(
    outputs: Outputs, channels: Sequence[str], *, sample_rate_hz: float, cut_db: float
) -> list[OutputLoad]:
    """Every output that something feeds, in the order of the channels.

    Two coherent channels add up to 6.02 dB, two incoherent ones to 3.01 dB; a crossover takes its part. The largest
    gain is looked for at the centre of every band too, however narrow.
    """
    centres = [band.frequency_hz for settings in outputs.settings.values() for band in settings.filters]
    at_hz = np.union1d(_EVEN_HZ, [hz for hz in centres if _EVEN_HZ[0] <= hz <= _EVEN_HZ[-1]])
    even = np.isin(at_hz, _EVEN_HZ)
    amplitude: dict[str, np.ndarray] = {}
    power: dict[str, np.ndarray] = {}
    feeds: dict[str, list[str]] = {}
    for channel in channels:
        for way in outputs.routes(channel):
            level = way.gain_db + level_of(outputs.of_output(way.output), at_hz=at_hz, sample_rate_hz=sample_rate_hz)
            if way.crossover is not None:
                level = level + way.crossover.level_db(way.side, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
            amplitude[way.output] = amplitude.get(way.output, 0.0) + 10 ** (level / 20)
            power[way.output] = power.get(way.output, 0.0) + 10 ** (level / 10)
            feeds.setdefault(way.output, []).append(channel)
    found = []
    for output, total in amplitude.items():
        k = int(np.argmax(total))
        gain = 20 * float(np.log10(total[k]))
        found.append(OutputLoad(output=output, channels=tuple(feeds[output]), gain_db=gain, at_hz=float(at_hz[k]),
                                tone_dbfs=gain - cut_db,
                                noise_dbfs=10 * float(np.log10(power[output][even].mean())) - cut_db))
    return found
