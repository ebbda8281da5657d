"""Levels of channels held against each other, so that a hump of one of them decides nothing; and pairs band by band."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.alignment.table import mid_level_db
from dolce.core.dsp import energy_mean_db, in_band, third_octaves_of
from dolce.core.levels import LEVEL_BAND_HZ
from dolce.core.room import partner_of
from dolce.core.uncertainty import jackknife_error

_STANDS_OUT_DB = 4.5  # of a third of an octave against the other channels (our own bound)
_FLANK_DB = 1.0
PAIR_HZ = (300.0, 10_000.0)  # below, the room decides how left and right differ; above, the microphone does
PAIR_DB = 4.0  # a pair of one make differs less, averaged over spots (our own bound)


def matched_levels_db(
    at_hz: NDArray, levels_db: Mapping[str, NDArray], *, band_hz: tuple[float, float] = LEVEL_BAND_HZ
) -> dict[str, float]:
    """Level of each channel in a band, by what it has in common with the others.

    Parameters
    ----------
    levels_db : mapping of channel to its level at `at_hz`, shape (points,)

    Notes
    -----
    The level of pink noise in the band. Where one channel's third of an octave stands out by more than 4.5 dB against
    the median of all channels, each at its own median level, what is usual takes its place, there and at its flanks. A
    hump that is not corrected would otherwise pull the trim of the whole channel. Our own rule.
    """
    if not levels_db:
        return {}
    names = list(levels_db)
    curves = np.array([levels_db[name] for name in names])
    inside = in_band(at_hz, band_hz)
    plain = {name: mid_level_db(at_hz, curve, band_hz=band_hz) for name, curve in zip(names, curves, strict=True)}
    mids, third_octaves = third_octaves_of(at_hz, curves, from_hz=band_hz[0], to_hz=band_hz[1])
    if len(names) < 2 or mids.size < 3:
        return plain
    level = np.median(third_octaves, axis=1, keepdims=True)
    usual = np.median(third_octaves - level, axis=0)
    level += np.median(third_octaves - level - usual, axis=1, keepdims=True)
    excess = third_octaves - level - usual
    # The median of two is their mean: each seems to differ by half of what it does.
    apart = excess * (2 if len(names) == 2 else 1)
    out = np.abs(apart) > _STANDS_OUT_DB
    for _ in mids:  # with the flanks of what stands out
        beside = np.pad(out, ((0, 0), (1, 1)))
        out |= (beside[:, :-2] | beside[:, 2:]) & (np.abs(apart) > _FLANK_DB)
    edge = 2 ** (1 / 6)
    for row, name in enumerate(names):
        if out[row].any():
            curve = curves[row].copy()
            for k in np.flatnonzero(out[row]):
                curve[(at_hz >= mids[k] / edge) & (at_hz < mids[k] * edge) & inside] -= excess[row, k]
            plain[name] = mid_level_db(at_hz, curve, band_hz=band_hz)
    return plain


@dataclass(frozen=True, slots=True, kw_only=True)
class PairDifference:
    """Where the two of a pair differ most, in 1/3-octave bands.

    Attributes
    ----------
    louder, softer : str
    at_hz : float
    value_db, error_db : float
        How much louder, at equal level otherwise, and half of its interval of 95 of 100 cases; infinite for one spot.
    """

    louder: str
    softer: str
    at_hz: float
    value_db: float
    error_db: float

    @property
    def stands_out(self) -> bool:
        """Whether it is more than placing and chance explain; of one spot where it is twice the bound."""
        return self.value_db - min(self.error_db, PAIR_DB) > PAIR_DB


def pair_differences(
    at_hz: NDArray, levels_db: Mapping[str, NDArray], weights: Sequence[float]
) -> list[PairDifference]:
    """Of every left and right of a kind, the largest first.

    Parameters
    ----------
    levels_db : mapping of channel to levels at the same spots, shape (spots, points)
    weights : shape (spots,)

    Notes
    -----
    The error is Student's, of the jackknife over spots (see `jackknife_error`).
    """
    weight = np.asarray(weights, dtype=float)
    found = []
    for channel in levels_db:
        other = partner_of(channel)
        if other is None or other not in levels_db or list(levels_db).index(other) < list(levels_db).index(channel):
            continue
        mids, first = third_octaves_of(at_hz, levels_db[channel], from_hz=PAIR_HZ[0], to_hz=PAIR_HZ[1])
        _, second = third_octaves_of(at_hz, levels_db[other], from_hz=PAIR_HZ[0], to_hz=PAIR_HZ[1])

        def apart(rows: NDArray, first: NDArray = first, second: NDArray = second) -> NDArray:
            d = energy_mean_db(first[rows], weights=weight[rows]) - energy_mean_db(second[rows], weights=weight[rows])
            return d - np.median(d)

        d, error = apart(np.arange(len(weight))), jackknife_error(apart, weight)
        k = int(np.argmax(np.abs(d)))
        louder, softer = (channel, other) if d[k] > 0 else (other, channel)
        found.append(
            PairDifference(
                louder=louder, softer=softer, at_hz=float(mids[k]), value_db=float(abs(d[k])), error_db=float(error[k])
            )
        )
    return sorted(found, key=lambda difference: -difference.value_db)
