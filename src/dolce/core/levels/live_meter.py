"""Everything a live meter shows at once: three weightings, levels of the last seconds and of a chosen time."""

from collections import deque
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.dsp import power_db
from dolce.core.levels.sound_level import MeterReading, SoundLevelMeter
from dolce.core.levels.weighting import WEIGHTINGS, Weighting

MEANING_TIMES_S = (10.0, 30.0, 60.0, 300.0)
CLIPS_AT = 0.9995  # of full scale: a converter's end value, a few steps of 16 bits below 1


@dataclass(frozen=True, slots=True, kw_only=True)
class LiveReading:
    """One look at the meter, dB of full scale (AES17) plus the meter's offset.

    Attributes
    ----------
    by_weighting : mapping of "A", "C", "Z" to MeterReading
        Since the start or the last reset.
    recent_db : mapping of "A", "C", "Z" to float
        Equivalent level of the last `recent_s` seconds.
    recent_s : float
        How much of the chosen time has passed already.
    clipped : bool
        Whether the last block reached the end of the converter's range.
    """

    by_weighting: Mapping[Weighting, MeterReading]
    recent_db: Mapping[Weighting, float]
    recent_s: float
    clipped: bool


class LiveMeter:
    """Takes in blocks of one microphone.

    Parameters
    ----------
    meaning_time_s : float
        The time over which the recent equivalent level is taken: 1 s to an hour.

    References
    ----------
    IEC 61672-1:2013, 3.9: time-averaged (equivalent continuous) sound level.
    """

    def __init__(self, *, sample_rate_hz: float, offset_db: float = 0.0, meaning_time_s: float = 10.0) -> None:
        self._rate, self._offset_db = sample_rate_hz, offset_db
        self._clipped = False
        self.meaning_time_s = meaning_time_s
        self.reset()

    @property
    def meaning_time_s(self) -> float:
        return self._meaning_time_s

    @meaning_time_s.setter
    def meaning_time_s(self, seconds: float) -> None:
        self._meaning_time_s = checked.within(seconds, low=1, high=3600, where="time of the mean", unit="s")

    def reset(self) -> None:
        """Begin anew: highest values and equivalent levels forget what was."""
        self._meters = {w: SoundLevelMeter(w, sample_rate_hz=self._rate, offset_db=self._offset_db) for w in WEIGHTINGS}
        self._blocks: deque[tuple[int, dict[Weighting, float]]] = deque()
        self._recent_samples = 0
        self._recent = dict.fromkeys(WEIGHTINGS, 0.0)

    def hear(self, samples: NDArray[np.float64]) -> LiveReading:
        """The reading after these samples too; they follow the ones before without a gap."""
        energies = {}
        for weighting, meter in self._meters.items():
            before = meter.energy
            meter.hear(samples)
            energies[weighting] = meter.energy - before
        self._clipped = bool(samples.size) and float(np.abs(samples).max()) >= CLIPS_AT
        self._blocks.append((samples.size, energies))
        self._recent_samples += samples.size
        for weighting, energy in energies.items():
            self._recent[weighting] += energy
        while self._blocks and self._recent_samples - self._blocks[0][0] >= self._meaning_time_s * self._rate:
            count, old = self._blocks.popleft()
            self._recent_samples -= count
            for weighting, energy in old.items():
                self._recent[weighting] -= energy
        return self.reading

    @property
    def reading(self) -> LiveReading:
        count = max(self._recent_samples, 1)
        return LiveReading(
            by_weighting={w: meter.reading for w, meter in self._meters.items()},
            recent_db={w: float(power_db(2 * max(e, 0.0) / count)) + self._offset_db for w, e in self._recent.items()},
            recent_s=self._recent_samples / self._rate,
            clipped=self._clipped,
        )
