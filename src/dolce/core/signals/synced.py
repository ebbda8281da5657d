"""A test signal for two clocks: on its own speaker, between two sync chirps from a speaker that is always the same.

Where what plays and what records are two devices, nobody knows when a recording began, nor how far the clocks differ.
The first sync chirp is the zero that arrivals count from, and the distance of both tells the drift, whatever plays
between.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.signals.excitation import Excitation
from dolce.core.signals.sync_chirps import CHIRP_S, GAP_S, sync_chirp

CODE_S = 0.02  # by which the distance of the sync chirps tells the feed; clocks change it by 3 ms at most


@dataclass(frozen=True, slots=True, kw_only=True)
class SyncedSignal:
    """One feed's part.

    Attributes
    ----------
    sync_dbfs : float
        Level of the sync chirps, as loud as a sweep of that level.
    code : int
        Number of the feed: the second sync chirp comes so many times 20 ms later.
    """

    signal: Excitation
    sync_dbfs: float
    code: int = 0

    @property
    def sample_rate_hz(self) -> int:
        return self.signal.sample_rate_hz

    @property
    def signal_at(self) -> int:
        """Where the test signal begins, in samples; the first sync chirp begins at 0."""
        return round((CHIRP_S + GAP_S) * self.sample_rate_hz)

    @property
    def silent_until(self) -> int:
        """Where the second sync chirp begins, in samples."""
        return self.signal_at + self.signal.size + round((GAP_S + self.code * CODE_S) * self.sample_rate_hz)

    @property
    def size(self) -> int:
        """How many samples it has."""
        return self.silent_until + round(CHIRP_S * self.sample_rate_hz)

    def sync_chirps(self) -> NDArray[np.float64]:
        """What the sync chirps' speaker plays, shape (size,)."""
        chirp = sync_chirp(self.sample_rate_hz) * 10 ** (self.sync_dbfs / 20)
        return np.concatenate([chirp, np.zeros(self.silent_until - chirp.size), chirp])

    def samples(self) -> NDArray[np.float64]:
        """What the feed plays, shape (size,)."""
        signal = self.signal.samples()
        return np.pad(signal, (self.signal_at, self.size - self.signal_at - signal.size))
