"""How far each output of a processor is driven: what its filters, trims and all that feed it add up to."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import energy_mean_db, mid_bands, power_db
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
    single_db, single, single_hz : largest gain of the whole chain for one of them alone, which one, and where
    single_dbfs : what a full-scale tone there in that channel alone reaches after the common headroom cut
    gain_db, at_hz : largest gain for all of them playing the same in phase, and where
    tone_dbfs : what a full-scale tone there, in every channel, would reach after that cut
    noise_dbfs : RMS of pink noise of full-scale RMS in each channel, none alike, 20 Hz to 20 kHz, after the cut
    """

    output: str
    channels: tuple[str, ...]
    single_db: float
    single: str
    single_hz: float
    single_dbfs: float
    gain_db: float
    at_hz: float
    tone_dbfs: float
    noise_dbfs: float

    @property
    def is_beyond(self) -> bool:
        """Whether such a tone would run out of range."""
        return self.tone_dbfs > 0.05


def headroom_cut_db(loads: Sequence[OutputLoad]) -> float:
    """By how much all outputs are turned down alike, so that no single input at full scale exceeds full scale at any.

    In 0.1 dB up, at least 0. Every input counts alone, the effects channel with its gain too.
    """
    most = max((load.single_db for load in loads), default=0.0)
    return max(0.0, -(-round(most * 1000) // 100) / 10)


def seat_levels_db(
    outputs: Outputs,
    channel: str,
    heard_db: Mapping[str, NDArray],
    *,
    at_hz: NDArray,
    sample_rate_hz: float,
    cut_db: float,
) -> tuple[float, float] | None:
    """Level of full-scale pink noise in a channel at a seat: without processing, and with it and its headroom cut.

    Parameters
    ----------
    heard_db : mapping of output to its measured level, shape (points,)
        At `at_hz`, equally many points in each octave.

    Returns
    -------
    (float, float) or None
        None where an output that plays it was not measured.
    """
    routes = outputs.routes(channel)
    if channel not in heard_db or any(path.output not in heard_db for path in routes):
        return None
    power = np.zeros(at_hz.size)
    for path in routes:
        level = (
            heard_db[path.output]
            + path.level_db(at_hz, sample_rate_hz=sample_rate_hz)
            + level_of(outputs.of_output(path.output), at_hz=at_hz, sample_rate_hz=sample_rate_hz)
        )
        power += 10 ** (level / 10)
    return (float(energy_mean_db(heard_db[channel])), float(power_db(np.mean(power))) - cut_db)


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
    single: dict[str, tuple[float, str, float]] = {}
    for channel in channels:
        alone: dict[str, np.ndarray] = {}
        for path in outputs.routes(channel):
            settings = outputs.of_output(path.output)
            level = path.level_db(at_hz, sample_rate_hz=sample_rate_hz) + level_of(
                settings, at_hz=at_hz, sample_rate_hz=sample_rate_hz
            )
            amplitude[path.output] = amplitude.get(path.output, 0.0) + 10 ** (level / 20)
            power[path.output] = power.get(path.output, 0.0) + 10 ** (level / 10)
            alone[path.output] = alone.get(path.output, 0.0) + 10 ** (level / 20)
        for output, total in alone.items():
            feeds.setdefault(output, []).append(channel)
            k = int(np.argmax(total))
            single[output] = max(
                single.get(output, (-np.inf, "", 0.0)), (20 * float(np.log10(total[k])), channel, float(at_hz[k]))
            )
    found = []
    for output, total in amplitude.items():
        k = int(np.argmax(total))
        gain = 20 * float(np.log10(total[k]))
        most, which, where = single[output]
        found.append(
            OutputLoad(
                output=output,
                channels=tuple(feeds[output]),
                gain_db=gain,
                at_hz=float(at_hz[k]),
                single_db=most,
                single=which,
                single_hz=where,
                single_dbfs=most - cut_db,
                tone_dbfs=gain - cut_db,
                noise_dbfs=10 * float(np.log10(power[output][even].mean())) - cut_db,
            )
        )
    return found
