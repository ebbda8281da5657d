"""Whether a level sits well between noise and clipping."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import dbfs_rms, peak_dbfs

# Common practice: noise at least 24 dB below full scale, peaks clear of it. What matters are the two distances.
ENOUGH_ABOVE_NOISE_DB = 40.0
LEAST_ABOVE_NOISE_DB = 25.0
MARGIN_TO_CLIPPING_DB = 6.0
_AFTER_CLIPPING_DB = 12.0  # how far a clipped peak went over is not known
_CLEAR_OF_IT_DB = 2.0  # a peak that is turned down by just enough comes back at the next take


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelReading:
    """Noise, signal and peak at the microphone input, dBFS as AES17 counts, and the verdict in words.

    `over_db` is how much louder the sweep is than suits the room; None where sound pressure is not known.
    """

    noise_dbfs: float
    signal_dbfs: float
    peak_dbfs: float
    over_db: float | None = None

    @property
    def above_noise_db(self) -> float:
        return self.signal_dbfs - self.noise_dbfs

    @property
    def to_clipping_db(self) -> float:
        return -self.peak_dbfs

    @property
    def verdict(self) -> Literal["good", "usable", "too soft", "too loud", "clipped"]:
        if self.to_clipping_db < 0.05:
            return "clipped"
        if self.to_clipping_db < MARGIN_TO_CLIPPING_DB:
            return "too loud"
        if self.over_db is not None and self.over_db > 0:
            return "too loud"
        if self.above_noise_db >= ENOUGH_ABOVE_NOISE_DB:
            return "good"
        return "usable" if self.above_noise_db >= LEAST_ABOVE_NOISE_DB else "too soft"

    @property
    def over_margin_db(self) -> float:
        """By how many whole dB sweep or microphone gain has to come down to stay clear of clipping; 0 where it does."""
        if self.to_clipping_db >= MARGIN_TO_CLIPPING_DB:
            return 0.0
        if self.verdict == "clipped":
            return _AFTER_CLIPPING_DB
        return float(np.ceil(MARGIN_TO_CLIPPING_DB + _CLEAR_OF_IT_DB - self.to_clipping_db))

    @property
    def remedy(self) -> tuple[Literal["none", "microphone gain", "sweep level"], float]:
        """What to change, and by how many dB; above 0 for louder."""
        match self.verdict:
            case "too loud" if self.over_db is not None and not self.over_margin_db:
                return "sweep level", -max(1.0, self.over_db)
            case "clipped" | "too loud":
                return "microphone gain", -self.over_margin_db
            case "good":
                return "none", 0.0
            case "usable" | "too soft":
                return "sweep level", max(1.0, ENOUGH_ABOVE_NOISE_DB - self.above_noise_db)

    @property
    def good_dbfs(self) -> tuple[float, float]:
        """Between which levels the signal is good, as far above the noise and clear of clipping; the first may be above
        the second in a loud room.
        """
        return self.noise_dbfs + ENOUGH_ABOVE_NOISE_DB, -MARGIN_TO_CLIPPING_DB


def level_reading(recording: NDArray[np.float64], *, quiet_samples: int) -> LevelReading:
    """Read noise from the first `quiet_samples`, signal and peak from the rest."""
    return LevelReading(
        noise_dbfs=dbfs_rms(recording[:quiet_samples]),
        signal_dbfs=dbfs_rms(recording[quiet_samples:]),
        peak_dbfs=peak_dbfs(recording[quiet_samples:]),
    )
