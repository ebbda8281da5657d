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
    def advice(self) -> str:
        """What to change, by how much, in plain words."""
        verdict = self.verdict
        match verdict:
            case "clipped":
                return "The input runs out of range. Turn the microphone gain down by 12 dB and check again."
            case "too loud" if self.over_db is not None and self.to_clipping_db >= MARGIN_TO_CLIPPING_DB:
                return (
                    f"That is {self.over_db:.0f} dB louder than suits this room, for ears and speakers. "
                    f"Turn the sweep level down by about {max(1.0, self.over_db):.0f} dB."
                )
            case "too loud":
                down = MARGIN_TO_CLIPPING_DB + 2 - self.to_clipping_db
                return f"Turn the microphone gain down by about {down:.0f} dB."
            case "good":
                return "Leave it as it is."
            case _:
                up = max(1.0, ENOUGH_ABOVE_NOISE_DB - self.above_noise_db)
                return f"Play about {up:.0f} dB louder. More microphone gain lifts the room noise as well."


def level_reading(recording: NDArray[np.float64], *, quiet_samples: int) -> LevelReading:
    """Read noise from the first `quiet_samples`, signal and peak from the rest."""
    return LevelReading(
        noise_dbfs=dbfs_rms(recording[:quiet_samples]),
        signal_dbfs=dbfs_rms(recording[quiet_samples:]),
        peak_dbfs=peak_dbfs(recording[quiet_samples:]),
    )
