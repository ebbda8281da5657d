"""What a processor's settings do with sound."""

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import delayed
from dolce.core.filters import chain_samples
from dolce.core.processor.settings import ChannelSettings


def processed(samples: NDArray[np.float64], settings: ChannelSettings, *, sample_rate_hz: int) -> NDArray[np.float64]:
    """`samples` after crossovers, all-passes, bands or convolution, trim, polarity and delay.

    As long as before; what is delayed beyond the end is lost.
    """
    out = chain_samples(settings.filters, samples, sample_rate_hz=sample_rate_hz)
    for side, crossover in settings.crossovers():
        out = scipy.signal.sosfilt(crossover.sections(side, sample_rate_hz=sample_rate_hz), out)
    for all_pass in settings.all_pass:
        out = scipy.signal.sosfilt(all_pass.sos(sample_rate_hz=sample_rate_hz), out)
    if settings.convolution is not None and settings.convolution.sample_rate_hz == sample_rate_hz:
        out = scipy.signal.oaconvolve(out, settings.convolution.impulse)[: samples.size]
    gain = 10 ** (settings.trim_db / 20) * (-1 if settings.polarity == "inverted" else 1)
    return gain * delayed(out, settings.delay_s * sample_rate_hz)
