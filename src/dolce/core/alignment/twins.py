"""Two sounds that should be alike at a seat, band by band: left against right, centre against the phantom centre."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import in_band, mid_bands
from dolce.core.response import ImpulseResponse, from_emission, level_on_grid
from dolce.errors import InvalidValue

TWIN_HZ = mid_bands(per_octave=3, from_hz=100.0, to_hz=10_000.0)
_WHEN_FROM_HZ = 250.0  # below, a band's own length hides when it arrives
_WITHIN_S, _HEARD_S = 0.002, 0.03
_BEFORE_S = 0.002


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Twins:
    """First against second at `TWIN_HZ`.

    Attributes
    ----------
    level_db : ndarray, shape (bands,)
        How much louder the first is, mean over the spots, without what they differ by on the whole.
    later_s : ndarray, shape (bands,)
        How much later the first arrives, median over the spots, without what they differ by on the whole; NaN below
        250 Hz.
    whole_db, whole_later_s : float
        By what they differ on the whole: medians over the bands.
    """

    level_db: NDArray[np.float64]
    later_s: NDArray[np.float64]
    whole_db: float
    whole_later_s: float


def together(parts: Sequence[ImpulseResponse]) -> ImpulseResponse:
    """Several sounds of one signal at one spot, from the moment of emission.

    Raises
    ------
    InvalidValue
        If they have different rates.
    """
    rates = {part.sample_rate_hz for part in parts}
    if len(rates) != 1:
        raise InvalidValue("takes have other rates.", where="takes", remedy="Take them with one clock.")
    return ImpulseResponse(sample=from_emission(parts).sum(axis=0), sample_rate_hz=rates.pop(), start_s=0.0)


def twins(pairs: Sequence[tuple[ImpulseResponse, ImpulseResponse]], *, arrival_s: Sequence[float]) -> Twins:
    """Two sounds at the same spots, one pair for each; `arrival_s` is that of the second at each spot.

    Level: energy in 1/3 octave of the whole response. Arrival: where the envelope of the cross-correlation of both
    within the band, of their first 30 ms, is highest (C. H. Knapp and G. C. Carter, IEEE Trans. ASSP 24, 320-327,
    1976), no more than 2 ms away.
    """
    levels, lags = [], []
    for (first, second), arrival in zip(pairs, arrival_s, strict=True):
        levels.append(
            level_on_grid(first, at_hz=TWIN_HZ, per_octave=3) - level_on_grid(second, at_hz=TWIN_HZ, per_octave=3)
        )
        lags.append(_lags(first, second, arrival))
    level, later = np.mean(levels, axis=0), np.median(lags, axis=0)
    whole_db, whole_later_s = float(np.median(level)), float(np.nanmedian(later))
    return Twins(
        level_db=level - whole_db, later_s=later - whole_later_s, whole_db=whole_db, whole_later_s=whole_later_s
    )


def _lags(first: ImpulseResponse, second: ImpulseResponse, arrival_s: float) -> NDArray[np.float64]:
    """How much later the first is in each band; NaN where that is not told."""
    rate = first.sample_rate_hz
    rows = from_emission([first, second])
    begin = max(0, round((arrival_s - _BEFORE_S) * rate))
    part = rows[:, begin : begin + round(_HEARD_S * rate)]
    size = scipy.fft.next_fast_len(2 * part.shape[1], real=True)
    spectra = scipy.fft.rfft(part, size)
    cross, bins = spectra[0] * np.conj(spectra[1]), scipy.fft.rfftfreq(size, 1 / rate)
    reach, finer = round(_WITHIN_S * rate), 4
    found = np.full(TWIN_HZ.size, np.nan)
    for k, mid in enumerate(TWIN_HZ):
        if mid < _WHEN_FROM_HZ:
            continue
        inside = in_band(bins, (mid / 2 ** (1 / 3), mid * 2 ** (1 / 3)))
        # One-sided and longer: the envelope of the correlation, between the samples.
        analytic = np.zeros(finer * size, dtype=complex)
        analytic[: bins.size] = np.where(inside, cross, 0)
        envelope = np.abs(scipy.fft.ifft(analytic))
        near = np.arange(-reach * finer, reach * finer + 1)
        found[k] = near[np.argmax(envelope[near])] / (finer * rate)
    return found
