"""How long single modes ring and how loud they are, against what listeners notice."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.reading.decay import decays_at, shortest_decay_s
from dolce.core.response import ImpulseResponse, level_on_grid

# Decay times above which listeners hear a mode in music, and below 63 Hz with artificial sounds.
_HEARD_HZ = np.array([32.0, 63.0, 250.0])
_HEARD_S = np.array([0.9, 0.51, 0.12])
_LONGER, _LEAST_LONGER_S = 1.05, 0.02  # what repeated takes differ by (our trials)


@dataclass(frozen=True, slots=True, kw_only=True)
class ModeDecay:
    """One frequency at one spot: T20 in 1/3 octave around it, None where it can't be told, and level in 1/12 octave.

    `under_s` is set where it rings shorter than the band's own filter lets tell.
    """

    frequency_hz: float
    seconds: float | None
    level_db: float
    under_s: float | None = None

    @property
    def heard(self) -> bool:
        """Whether it rings longer than listeners leave unnoticed."""
        return self.seconds is not None and self.seconds > longest_decay_s(self.frequency_hz)

    def lengthened(self, before: "ModeDecay") -> bool:
        """Whether it rings longer than before, by more than takes differ."""
        if self.seconds is None or before.seconds is None:
            return False
        return self.seconds > max(_LONGER * before.seconds, before.seconds + _LEAST_LONGER_S)


def longest_decay_s(frequency_hz: float) -> float:
    """Decay time of a mode from which on listeners notice it, between the published ones over log frequency.

    References
    ----------
    B. M. Fazenda, M. Stephenson and A. Goldberg, "Perceptual thresholds for the effects of room modes as a function of
    modal decay", J. Acoust. Soc. Am. 137, 1088-1098 (2015): with music from 0.51 s at 63 Hz to 0.12 s at 250 Hz; with
    artificial sounds 0.9 s at 32 Hz (the figures of its abstract, from memory).
    """
    return float(np.exp(np.interp(np.log(frequency_hz), np.log(_HEARD_HZ), np.log(_HEARD_S))))


def mode_decays(response: ImpulseResponse, frequencies_hz: Sequence[float], *, arrival_s: float) -> list[ModeDecay]:
    """Decay and level at some frequencies.

    Raises
    ------
    InvalidValue
        As `decays_at`.
    """
    at: NDArray = np.array(frequencies_hz, dtype=float)
    levels = level_on_grid(response, at_hz=at, per_octave=12)
    times = (band["T20"] for band in decays_at(response, frequencies_hz, arrival_s=arrival_s))
    return [
        ModeDecay(
            frequency_hz=float(hz),
            seconds=time.seconds if time.why_not in ("", "bent") else None,
            level_db=float(level),
            under_s=shortest_decay_s(hz, per_octave=3) if time.why_not == "filter" else None,
        )
        for hz, level, time in zip(at, levels, times, strict=True)
    ]
