"""One side of a crossover."""

from dataclasses import dataclass
from functools import lru_cache
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.checked import limited, ranges
from dolce.core.dsp import CrossoverKind
from dolce.errors import InvalidValue

Order = Literal[2, 4, 8]
ORDERS: tuple[Order, ...] = (2, 4, 8)


@dataclass(frozen=True, slots=True, kw_only=True)
class Crossover:
    """One side of a crossover: 12, 24 or 48 dB per octave, 20 Hz to 20 kHz.

    Attributes
    ----------
    kind : "linkwitz-riley" or "butterworth"
    order : 2, 4 or 8
    """

    frequency_hz: float = limited(20, 20_000, where="crossover", unit="Hz")
    kind: CrossoverKind = "linkwitz-riley"
    order: Order = 4

    def __post_init__(self) -> None:
        ranges(self)
        if self.kind not in ("linkwitz-riley", "butterworth") or self.order not in (2, 4, 8):
            raise InvalidValue(
                f"{self.kind} of order {self.order} is not offered.",
                where="crossover",
                remedy="Choose linkwitz-riley or butterworth, order 2, 4 or 8.",
            )

    @property
    def slope_db(self) -> int:
        """How steep it is, in dB per octave."""
        return 6 * self.order

    def sections(self, side: Literal["high", "low"], *, sample_rate_hz: float) -> NDArray[np.float64]:
        """Second-order sections, shape (sections, 6). A Linkwitz-Riley is a Butterworth of half its order, twice.

        At order 2 both halves are 180 degrees apart at the crossover frequency: the high side is inverted, so that they
        add up.

        References
        ----------
        S. H. Linkwitz, "Active crossover networks for noncoincident drivers", JAES 24, 2-8 (1976).
        """
        return _sections(self, side, sample_rate_hz).copy()

    def response(
        self, side: Literal["high", "low"], *, at_hz: NDArray, sample_rate_hz: float
    ) -> NDArray[np.complex128]:
        """Complex response of one side, shape (points,)."""
        return _response(self, side, np.asarray(at_hz, dtype=np.float64).tobytes(), sample_rate_hz)

    def level_db(self, side: Literal["high", "low"], *, at_hz: NDArray, sample_rate_hz: float) -> NDArray[np.float64]:
        """Level of one side in dB, shape (points,)."""
        response = self.response(side, at_hz=at_hz, sample_rate_hz=sample_rate_hz)
        return 20 * np.log10(np.maximum(np.abs(response), 1e-10))


@cache(256)
def _response(
    crossover: Crossover, side: Literal["high", "low"], frequencies: bytes, sample_rate_hz: float
) -> NDArray[np.complex128]:
    """Every channel of a group asks for it on the same few grids."""
    sections = _sections(crossover, side, sample_rate_hz)
    return scipy.signal.freqz_sos(sections, worN=np.frombuffer(frequencies), fs=sample_rate_hz)[1]


@lru_cache(maxsize=128)
def _sections(crossover: Crossover, side: Literal["high", "low"], sample_rate_hz: float) -> NDArray[np.float64]:
    """Designed once."""
    order = crossover.order if crossover.kind == "butterworth" else crossover.order // 2
    half = scipy.signal.butter(order, crossover.frequency_hz, side, fs=sample_rate_hz, output="sos")
    sections = half if crossover.kind == "butterworth" else np.concatenate([half, half])
    if crossover.order == 2 and side == "high":
        sections[0, :3] *= -1
    return sections
