"""The quiet room: noise by 1/3-octave bands, its rating, and where it will drown the measurement."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import energy_sum_db
from dolce.core.levels import NOMINAL_HZ, band_levels_db, exact_mid_hz, noise_rating, weighting_db

NOISE_THIRD_OCTAVES_HZ = tuple(f for f in NOMINAL_HZ if 25 <= f <= 10_000)  # the thirds of the octaves 31.5 Hz to 8 kHz
TRUSTED_ABOVE_NOISE_DB = 20.0
# A quiet room with its microphone: below is softer than any capsule, above louder than anybody works in.
PLAUSIBLE_NOISE_DBA = (8.0, 50.0)
AGREES_WITH_BEFORE_DB = 6.0


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RoomNoise:
    """Noise at the microphone.

    Attributes
    ----------
    third_octave_dbfs : ndarray, shape (27,)
        In the bands of NOISE_THIRDS_HZ.
    rating : (float, float) or None
        NR and the octave that decides it; None while the sound pressure level of full scale is not known.
    octaves_spl_db : ndarray, shape (9,), or None
    doubtful_hz : tuple of float
        Bands in which the sweep stands less than 20 dB above the noise; empty where the level is not known.
    """

    third_octave_dbfs: NDArray[np.float64]
    rating: tuple[float, float] | None
    octaves_spl_db: NDArray[np.float64] | None
    doubtful_hz: tuple[float, ...]


def noise_third_octave_dbfs(quiet: NDArray[np.float64], *, sample_rate_hz: int) -> NDArray[np.float64]:
    """Noise of a quiet moment in 1/3-octave bands, dBFS; several seconds are needed for steady figures."""
    return band_levels_db(quiet, exact_mid_hz(NOISE_THIRD_OCTAVES_HZ), per_octave=3, sample_rate_hz=sample_rate_hz)


def room_noise(
    third_octave_dbfs: NDArray[np.float64],
    *,
    full_scale_spl_db: float | None,
    signal_third_octave_dbfs: NDArray[np.float64] | None = None,
) -> RoomNoise:
    """What follows from the noise in 1/3-octave bands.

    Parameters
    ----------
    signal_third_octave_dbfs : ndarray, shape (27,), optional
        What a sweep leaves in the same bands, after the gain of its deconvolution.
    """
    third_octaves = np.asarray(third_octave_dbfs, dtype=float)
    octaves = rating = None
    if full_scale_spl_db is not None:
        octaves = energy_sum_db(third_octaves.reshape(-1, 3).T) + full_scale_spl_db
        rating = noise_rating(octaves)
    doubtful: tuple[float, ...] = ()
    if signal_third_octave_dbfs is not None:
        near = np.asarray(signal_third_octave_dbfs) - third_octaves < TRUSTED_ABOVE_NOISE_DB
        doubtful = tuple(float(f) for f, bad in zip(NOISE_THIRD_OCTAVES_HZ, near, strict=True) if bad)
    return RoomNoise(third_octave_dbfs=third_octaves, rating=rating, octaves_spl_db=octaves, doubtful_hz=doubtful)


def implausible_full_scale(
    full_scale_spl_db: float, *, third_octave_dbfs: NDArray[np.float64] | None, before_spl_db: float | None
) -> tuple[str, float] | None:
    """Why a level of full scale can hardly be right, and the figure that says so; None where nothing is against it.

    A calibrator of 114 dB taken for 94 dB is wrong by 20 dB: the quiet room then seems softer than any capsule hears,
    or the level jumps against the one known before at the same gain.

    Returns
    -------
    ("noise", dBA), ("before", difference in dB) or None
    """
    if before_spl_db is not None and abs(full_scale_spl_db - before_spl_db) > AGREES_WITH_BEFORE_DB:
        return "before", full_scale_spl_db - before_spl_db
    if third_octave_dbfs is not None:
        weighted = np.asarray(third_octave_dbfs) + weighting_db(exact_mid_hz(NOISE_THIRD_OCTAVES_HZ), "A")
        level = float(energy_sum_db(weighted)) + full_scale_spl_db
        if not PLAUSIBLE_NOISE_DBA[0] <= level <= PLAUSIBLE_NOISE_DBA[1]:
            return "noise", level
    return None
