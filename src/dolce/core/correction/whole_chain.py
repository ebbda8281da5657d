"""How much louder a chain of bands can make anything."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from dolce.core.filters import BandFilter, chain_level_db

_GRID_HZ = np.geomspace(5, 22_000, 1200)


@dataclass(frozen=True, slots=True, kw_only=True)
class Headroom:
    """The largest gain of all bands together and where it is: the whole must be turned down by so much."""

    gain_db: float
    at_hz: float


def headroom_of(filters: Sequence[BandFilter], *, sample_rate_hz: float) -> Headroom:
    """Largest gain over 5 Hz to 22 kHz, at least 0 dB."""
    centres = np.array([f.frequency_hz for f in filters])
    at_hz = np.union1d(_GRID_HZ, centres)
    level = chain_level_db(filters, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
    k = int(np.argmax(level))
    return Headroom(gain_db=max(0.0, float(level[k])), at_hz=float(at_hz[k]))
