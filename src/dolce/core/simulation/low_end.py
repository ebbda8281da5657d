"""How a loudspeaker ends at the bottom, and how drivers share the range."""

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import NDArray


@dataclass(frozen=True, slots=True, kw_only=True)
class LowEnd:
    """Bottom end of a box.

    Attributes
    ----------
    kind : "closed" or "vented"
    corner_hz : float
        Resonance of the closed box; tuning of the vented one, whose driver then resonates there too.
    q : float
        Total Q of the closed box; 0.707 is flattest. The vented one is aligned as a Butterworth of fourth order.
    """

    kind: Literal["closed", "vented"]
    corner_hz: float
    q: float = 0.707


def low_end_response(low_end: LowEnd, frequency_hz: NDArray) -> NDArray[np.complex128]:
    """Response of the bottom end, 1 far above it.

    References
    ----------
    R. H. Small, "Closed-box loudspeaker systems", J. Audio Eng. Soc. 20 (1972), eq. (9): second order with Q of the
    system; "Vented-box loudspeaker systems", J. Audio Eng. Soc. 21 (1973), table I: B4, a Butterworth of fourth order.
    """
    s = 1j * np.maximum(np.asarray(frequency_hz, dtype=float), 1e-3) / low_end.corner_hz
    if low_end.kind == "closed":
        return s**2 / (s**2 + s / low_end.q + 1)
    first, second = 2 * np.sin(np.pi / 8), 2 * np.sin(3 * np.pi / 8)
    return s**4 / ((s**2 + first * s + 1) * (s**2 + second * s + 1))
