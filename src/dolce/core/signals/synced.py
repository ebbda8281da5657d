"""A test signal for two clocks: on its own speaker, between two cues from a speaker that is always the same.

Where what plays and what records are two devices, nobody knows when a recording began, nor how far the clocks differ.
The first cue is the zero that arrivals count from, and the distance of both tells the drift, whatever plays between.
"""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.signals.excitation import Excitation
from dolce.core.signals.sync_chirps import GAP_S, MARK_S, mark

CODE_S = 0.02  # by which the distance of the cues tells the feed; clocks change it by 3 ms at most


@dataclass(frozen=True, slots=True, kw_only=True)
class CuedSignal:
    """One feed's part.

    Attributes
    ----------
    cue_dbfs : float
        Level of the cues, as loud as a sweep of that level.
    code : int
        Number of the feed: the second cue comes so many times 20 ms later.
    """

    signal: Excitation
    cue_dbfs: float
    code: int = 0

    @property
    def sample_rate_hz(self) -> int:
        return self.signal.sample_rate_hz

    @property
    def signal_at(self) -> int:
        """Where the test signal begins, in samples; the first cue begins at 0."""
        return round((MARK_S + GAP_S) * self.sample_rate_hz)

    @property
    def silent_until(self) -> int:
        """Where the second cue begins, in samples."""
        return self.signal_at + self.signal.size + round((GAP_S + self.code * CODE_S) * self.sample_rate_hz)

    @property
    def size(self) -> int:
        """How many samples it has."""
        return self.silent_until + round(MARK_S * self.sample_rate_hz)

    def cues(self) -> NDArray[np.float64]:
        """What the cues' speaker plays, shape (size,)."""
        one = mark(self.sample_rate_hz) * 10 ** (self.cue_dbfs / 20)
        return np.concatenate([one, np.zeros(self.silent_until - one.size), one])

    def samples(self) -> NDArray[np.float64]:
        """What the feed plays, shape (size,)."""
        signal = self.signal.samples()
        return np.pad(signal, (self.signal_at, self.size - self.signal_at - signal.size))
