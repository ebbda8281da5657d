"""One sheet of paper of what is read: the figures of every row shown, beside its plot and its findings."""

from dataclasses import dataclass

from dolce.core.alignment import level_band_hz, mid_level_db
from dolce.core.job import bass_alone, label_of
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.services.read.reading import ReadView


@dataclass(frozen=True, slots=True, kw_only=True)
class ResultRow:
    """One row.

    Attributes
    ----------
    level_db : float
        Mean of its average in the band that levels are compared in, as on Read.
    spread_db : float or None
        Over the spots, 20 to 120 Hz; None for one spot.
    noise_db : float or None
        The least that any of its takes stands above noise; None where none tells.
    """

    code: str
    label: str
    spots: int
    level_db: float
    spread_db: float | None
    polarity: str
    arrival_ms: float | None
    noise_db: float | None
    cautions: int


def result_rows(view: ReadView) -> list[ResultRow]:
    """The rows that are shown and have takes, in the order of Read."""
    shift = view.job.rig.levels.response_spl_db or 0.0
    rows = []
    for curves in view.curves:
        band = level_band_hz(is_sub=bass_alone(curves.channel))
        first = min(curves.takes, key=lambda take: [s.id for s in view.job.spots].index(take.spot_id))
        signal_to_noise_db = [take.quality.signal_to_noise_db for take in curves.takes if take.tells_noise]
        polarities = {take.polarity for take in curves.takes if take.has_response}
        rows.append(
            ResultRow(
                code=curves.channel,
                label=label_of(curves.channel),
                spots=len(curves.takes),
                level_db=mid_level_db(ANALYSIS_GRID_HZ, curves.average.level_db, band_hz=band) + shift,
                spread_db=view.bass_spread_db(curves) if len(curves.takes) > 1 else None,
                polarity=polarities.pop() if len(polarities) == 1 else "differs" if polarities else "not known",
                arrival_ms=1000 * first.arrival_s if first.arrival_known else None,
                noise_db=min(signal_to_noise_db, default=None),
                cautions=sum(len(take.cautions) for take in curves.takes),
            )
        )
    return rows
