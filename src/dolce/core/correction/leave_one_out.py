"""What a correction is worth at spots that were not measured: every spot left out in turn."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction.evidence import Needs
from dolce.core.dsp import in_band
from dolce.core.uncertainty import mean_error

_SHARE = 0.8  # four of five


@dataclass(frozen=True, slots=True, kw_only=True)
class Expected:
    """RMS deviation over the range, mean over the spots by weight, in dB.

    Attributes
    ----------
    before_db, after_db : at the spots that were used
    after_at_new_spots_db : what to expect at others around the same seats; None where there is one spot only
    after_at_new_spots_low_db, after_at_new_spots_high_db : holds the truth in about four of five cases
    spots : int
        How many were left out in turn.
    """

    before_db: float
    after_db: float
    after_at_new_spots_db: float | None = None
    after_at_new_spots_low_db: float | None = None
    after_at_new_spots_high_db: float | None = None
    spots: int = 0

    @property
    def gains(self) -> bool:
        """Whether anything is gained at new spots; True where that can't be known."""
        return self.after_at_new_spots_db is None or self.after_at_new_spots_db < self.before_db - 0.05


def deviations_db(
    error_db: NDArray,
    corrected_db: NDArray,
    *,
    at_hz: NDArray,
    range_hz: tuple[float, float],
    level_band_hz: tuple[float, float],
) -> NDArray[np.float64]:
    """RMS deviation of each spot over a range after a correction, shape (spots,).

    Parameters
    ----------
    error_db : what each spot lacks, shape (spots, points)
    corrected_db : what the correction adds, shape (points,) or one row per spot
    level_band_hz : by whose mean each spot is brought to the target again
    """
    residual = error_db - corrected_db
    band = in_band(at_hz, level_band_hz)
    inside = in_band(at_hz, range_hz)
    was = error_db[:, band].mean(axis=1, keepdims=True)
    residual = residual - residual[:, band].mean(axis=1, keepdims=True) + was
    return np.sqrt(np.mean(residual[:, inside] ** 2, axis=1))


def expected(
    needs: Needs,
    corrected_db: NDArray,
    left_out_db: NDArray,
    *,
    at_hz: NDArray,
    range_hz: tuple[float, float],
    level_band_hz: tuple[float, float],
) -> Expected:
    """Figures of a correction.

    Parameters
    ----------
    corrected_db : what it adds, shape (points,)
    left_out_db : what it would add had each spot been left out, shape (spots, points); no rows for one spot

    Notes
    -----
    Cross-validation with one left out (M. Stone, Journal of the Royal Statistical Society B 36, 111-147, 1974). The
    interval is that of the mean over the spots, each taken as one of many around its seat (`mean_error`).
    """

    def figures(added: NDArray) -> NDArray:
        return deviations_db(needs.error_db, added, at_hz=at_hz, range_hz=range_hz, level_band_hz=level_band_hz)

    before, after = (float(needs.weight @ figures(added)) for added in (np.zeros(at_hz.size), corrected_db))
    if not len(left_out_db):
        return Expected(before_db=before, after_db=after)
    at_new = figures(left_out_db)
    middle = float(needs.weight @ at_new)
    reach = mean_error(at_new, needs.weight, seat_of=needs.seat_of, share=_SHARE)
    return Expected(
        before_db=before,
        after_db=after,
        after_at_new_spots_db=middle,
        spots=needs.spots,
        after_at_new_spots_low_db=max(0.0, middle - reach),
        after_at_new_spots_high_db=middle + reach,
    )
