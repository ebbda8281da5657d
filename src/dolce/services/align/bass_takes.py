"""Complex responses of the bass, by take: computed once, kept for all that sums channels."""

from collections.abc import Collection, Mapping, Sequence

import numpy as np
from numpy.typing import NDArray

from dolce.core.cache import Cache
from dolce.core.job import Job, TakeRecord
from dolce.core.subs import spectrum_at
from dolce.core.tuning import SUM_HZ, Responses
from dolce.store import UnitOfWork

_MOST = 8000  # takes: 5 kB each


class BassTakes:
    """Spectra at `SUM_HZ`, phases from the moment the stimulus left. Takes never change."""

    def __init__(self) -> None:
        self._kept: Cache[int, NDArray[np.complex64]] = Cache(_MOST)

    def spectra(self, work: UnitOfWork, takes: Collection[TakeRecord]) -> dict[int, NDArray[np.complex64]]:
        """By take; those that are new are read together."""
        found = {take.id: known for take in takes if (known := self._kept.get(take.id)) is not None}
        fresh = [take.id for take in takes if take.id not in found]
        for take_id, response in work.takes.responses(fresh) if fresh else ():
            found[take_id] = spectrum_at(response, SUM_HZ).astype(np.complex64)
            self._kept.add(take_id, found[take_id])
        return found


def summable(work: UnitOfWork, round_id: int, channels: Collection[str]) -> list[TakeRecord]:
    """Takes of single channels whose sound can be added up: usable, with a response, on one clock."""
    return [
        take
        for take in work.takes.latest(round_id)
        if take.usable and take.has_response and take.arrival_known and not take.sounded and take.channel in channels
    ]


def bass_responses(
    kept: BassTakes, work: UnitOfWork, job: Job, round_id: int, channels: Sequence[str], *, spots: Sequence[int]
) -> Responses:
    """Responses of channels at spots, in their order; NaN where a take is missing."""
    takes = [take for take in summable(work, round_id, channels) if take.spot_id in set(spots)]
    spectra = kept.spectra(work, takes)
    by_cell: Mapping[tuple[str, int], NDArray] = {
        (take.channel, take.spot_id): spectra[take.id] for take in takes if take.id in spectra
    }
    nothing = np.full(SUM_HZ.size, np.nan, dtype=np.complex64)
    return Responses(
        frequency_hz=SUM_HZ,
        sample_rate_hz=job.rig.sample_rate_hz,
        spots=tuple(spots),
        channels={
            channel: np.array([by_cell.get((channel, spot), nothing) for spot in spots])
            for channel in channels
            if any(name == channel for name, _ in by_cell)
        },
    )
