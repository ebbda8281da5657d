"""What a microphone adds, to be taken out."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MicrophoneCurve:
    """Response of a microphone as its maker measured it.

    Attributes
    ----------
    frequency_hz, level_db, phase_deg : ndarray, shape (points,)
        At least two points, rising; the phase is zero where none was given.
    """

    frequency_hz: NDArray[np.float64]
    level_db: NDArray[np.float64]
    phase_deg: NDArray[np.float64]

    def __post_init__(self) -> None:
        frequency = checked.rising(self.frequency_hz, where="frequency")
        object.__setattr__(self, "frequency_hz", frequency)
        for name in ("level_db", "phase_deg"):
            object.__setattr__(self, name, checked.finite(getattr(self, name), shape=frequency.shape, where=name))

    def on(self, frequency_hz: NDArray) -> NDArray:
        """Complex response at other frequencies (0 Hz allowed), held level beyond the ends of the curve."""
        at = np.log(np.maximum(frequency_hz, 1e-3))
        log_hz = np.log(self.frequency_hz)
        level = np.interp(at, log_hz, self.level_db)
        phase = np.interp(at, log_hz, np.degrees(np.unwrap(np.radians(self.phase_deg))))
        return 10 ** (level / 20) * np.exp(1j * np.radians(phase))
