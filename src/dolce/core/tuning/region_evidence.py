"""What speaks for the verdict on one region of a channel."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import Region, excess_delay_s, ringing_s
from dolce.core.tuning.bass_sums import SUM_HZ
from dolce.core.tuning.shape import ChannelShape

_NEAR_OCTAVES = 1 / 12  # to both sides of where a region is furthest off


@dataclass(frozen=True, slots=True, kw_only=True)
class RegionEvidence:
    """A region and what is known of it.

    Attributes
    ----------
    excess_delay_s : float or None
        Group delay beyond that of the minimum phase, mean over a sixth of an octave where the region is furthest off,
        middle of the spots; None where no phase is known.
    rings_s : float or None
        How long a hill rings, from its width.
    least_above_noise_db : float or None
        The noisiest take.
    seats, of_seats : how many seats are off to the same side
    """

    channel: str
    region: Region
    excess_delay_s: float | None
    rings_s: float | None
    least_above_noise_db: float | None
    seats: int
    of_seats: int

    @property
    def is_minimum_phase(self) -> bool | None:
        """Whether what filters do to the level undoes the sound in time too: less than a quarter of a period off."""
        return None if self.excess_delay_s is None else abs(self.excess_delay_s) < 0.25 / abs(self.region.size_hz)


def evidence_of(
    shape: ChannelShape,
    region: Region,
    *,
    responses: NDArray[np.complex128] | None,
    noise_db: Sequence[float],
    seats: Sequence[int | None],
) -> RegionEvidence:
    """Delay, ringing, noise and seats of a region.

    Parameters
    ----------
    responses : ndarray, shape (spots, `SUM_HZ`), or None
        NaN where a spot has none.
    noise_db : signal to noise of the takes that tell it
    seats : of each spot of the shape, in its order
    """
    in_region = region.covers(shape.plan.frequency_hz)
    off: dict[int | None, list[float]] = {}
    for seat, value in zip(seats, -shape.needs.error_db[:, in_region].mean(axis=1), strict=True):
        off.setdefault(seat, []).append(float(value))
    return RegionEvidence(
        channel=shape.channel,
        region=region,
        excess_delay_s=None if responses is None else _delay_s(region, responses),
        rings_s=ringing_s(shape.plan.frequency_hz[in_region], shape.before_db[in_region] - shape.target_db[in_region])
        if region.size_db > 0
        else None,
        least_above_noise_db=min(noise_db, default=None),
        seats=sum(bool(np.mean(values) * region.size_db > 0) for values in off.values()),
        of_seats=len(off),
    )


def _delay_s(region: Region, responses: NDArray) -> float | None:
    """Middle of the spots that have a response, where the region is furthest off; None where none has."""
    inside = region.covers(SUM_HZ) & (np.abs(np.log2(SUM_HZ / region.size_hz)) <= _NEAR_OCTAVES)
    known = responses[~np.isnan(responses).any(axis=1)]
    if not inside.any() or not len(known):
        return None
    return float(np.median(excess_delay_s(SUM_HZ, known), axis=0)[inside].mean())
