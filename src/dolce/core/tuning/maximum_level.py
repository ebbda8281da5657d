"""How loud a loudspeaker plays cleanly, band by band, and how loud its correction lets it play."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core import checked
from dolce.core.dsp import energy_mean_db, in_band
from dolce.errors import InvalidValue

# Octaves of IEC 61260-1 in which loudspeakers run into their limits.
OCTAVES_HZ = (31.5, 63.0, 125.0, 250.0, 500.0, 1000.0, 2000.0, 4000.0, 8000.0)
# Common practice: 10 % of harmonics are borne in the bass, 3 % above.
BASS_TO_HZ, CLEAN_BASS_DB, CLEAN_DB = 200.0, -20.0, -30.5
# Common practice (SMPTE RP 200, from memory): full scale lies 20 dB above the noise that the reference is set with.
PEAKS_ABOVE_DB = 20.0
_TOLD_ABOVE_NOISE_DB = 3.0  # harmonics nearer to the noise than that are not told
_LEAST_SHARE = 0.5  # of the points of a band that must tell


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class PlayedOnce:
    """One sweep of a channel at the main seat.

    Attributes
    ----------
    frequency_hz, spl_db, harmonics_db, noise_db : ndarray, shape (points,)
        Sound pressure level of the tone as the sweep passes it; its harmonics against it; what noise alone would read
        as such.
    level_dbfs : float
        How loud it was played.
    """

    frequency_hz: NDArray[np.float64]
    spl_db: NDArray[np.float64]
    harmonics_db: NDArray[np.float64]
    noise_db: NDArray[np.float64]
    level_dbfs: float


@dataclass(frozen=True, slots=True, kw_only=True)
class MaximumLevelBand:
    """One octave of one channel.

    Attributes
    ----------
    maximum_levels_db : float or None
        The loudest level that was clean, dB SPL at the main seat; None where none was, or nothing is known.
    at_least : bool
        Nothing louder was tried, so it may play louder.
    below_db : float or None
        The softest level that was not clean.
    typed : bool
        As the calibrator said.
    needed_db : float or None
        What a full-scale tone reaches there with the correction at the reference level; None where that is not known.
    """

    mid_hz: float
    maximum_levels_db: float | None = None
    at_least: bool = False
    below_db: float | None = None
    typed: bool = False
    needed_db: float | None = None

    @property
    def margin_db(self) -> float | None:
        """How much stays; below 0 for what does not suffice."""
        return (
            None
            if self.maximum_levels_db is None or self.needed_db is None
            else self.maximum_levels_db - self.needed_db
        )

    @property
    def word(self) -> str:
        """ "enough", "too little", "not tried that loud", "not clean", or "not known"."""
        if self.needed_db is None or (self.maximum_levels_db is None and self.below_db is None):
            return "not known"
        if self.maximum_levels_db is not None and self.maximum_levels_db >= self.needed_db:
            return "enough"
        if self.below_db is not None and self.below_db <= self.needed_db:
            return "too little" if self.maximum_levels_db is not None else "not clean"
        if self.typed:
            return "too little"
        return "not tried that loud"


def maximum_level_bands(
    takes: Sequence[PlayedOnce],
    *,
    typed: Mapping[float, float] | None = None,
    needed_db: Mapping[float, float] | None = None,
) -> tuple[MaximumLevelBand, ...]:
    """Every octave, from takes at rising level, or as typed: that goes first.

    Notes
    -----
    A band of a take is clean where its harmonics, mean energy over the points that stand 3 dB above what noise alone
    would read, lie under 3 % (10 % below 200 Hz), or where noise alone reads no more than that at all of them. What was
    softer than a take that was not clean counts; what was louder does not.
    """
    typed, needed_db = typed or {}, needed_db or {}
    found = []
    for mid in OCTAVES_HZ:
        if mid in typed:
            found.append(
                MaximumLevelBand(mid_hz=mid, maximum_levels_db=typed[mid], typed=True, needed_db=needed_db.get(mid))
            )
            continue
        tried = sorted(filter(None, (_level_and_cleanness(take, mid) for take in takes)))
        dirty = [spl for spl, clean in tried if not clean]
        below = min(dirty, default=None)
        clean = [spl for spl, is_clean in tried if is_clean and (below is None or spl < below)]
        found.append(
            MaximumLevelBand(
                mid_hz=mid,
                maximum_levels_db=max(clean, default=None),
                below_db=below,
                at_least=bool(clean) and below is None,
                needed_db=needed_db.get(mid),
            )
        )
    return tuple(found)


def needed_levels_db(at_hz: NDArray, corrected_db: NDArray, *, reference_db: float) -> dict[float, float]:
    """What a full-scale tone reaches in each octave, dB SPL.

    Parameters
    ----------
    corrected_db : ndarray, shape (points,)
        As it will be, relative to its own level.
    reference_db : float
        What pink noise 20 dB under full scale reads.
    """
    return {
        mid: reference_db + PEAKS_ABOVE_DB + float(corrected_db[_of_band(at_hz, mid)].max())
        for mid in OCTAVES_HZ
        if _of_band(at_hz, mid).any()
    }


def typed_levels(frequency_hz: Sequence[float], level_db: Sequence[float]) -> dict[float, float]:
    """Clean levels that a calibrator typed, by octave: those between the first and the last point, straight between.

    Raises
    ------
    InvalidValue
        Where frequencies don't rise, or a level lies outside 60 to 140 dB SPL.
    """
    at = checked.rising(frequency_hz, where="clean levels")
    for level in checked.finite(level_db, where="clean levels", shape=at.shape):
        checked.within(float(level), low=60, high=140, where="clean levels", unit="dB SPL")
    found = {
        mid: round(float(np.interp(np.log(mid), np.log(at), level_db)), 1)
        for mid in OCTAVES_HZ
        if at[0] <= mid * 1.01 and mid <= at[-1] * 1.01
    }
    if not found:
        raise InvalidValue(
            "no octave lies between these points.",
            where="clean levels",
            remedy=f"Type points between {OCTAVES_HZ[0]:g} Hz and {OCTAVES_HZ[-1] / 1000:g} kHz.",
        )
    return found


def _level_and_cleanness(take: PlayedOnce, mid_hz: float) -> tuple[float, bool] | None:
    """Level of a band and whether it was clean; None where that can't be told."""
    in_band_ = _of_band(take.frequency_hz, mid_hz) & np.isfinite(take.harmonics_db)
    if not in_band_.any():
        return None
    most = CLEAN_BASS_DB if mid_hz < BASS_TO_HZ else CLEAN_DB
    above = in_band_ & (take.harmonics_db > take.noise_db + _TOLD_ABOVE_NOISE_DB)
    spl = float(energy_mean_db(take.spl_db[in_band_]))
    if above.sum() >= _LEAST_SHARE * in_band_.sum():
        return spl, float(energy_mean_db(take.harmonics_db[above])) <= most
    if (take.noise_db[in_band_] <= most).mean() >= _LEAST_SHARE:
        return spl, True
    return None


def _of_band(at_hz: NDArray, mid_hz: float) -> NDArray[np.bool_]:
    return in_band(at_hz, (mid_hz, mid_hz), octaves=0.5)
