"""Where a main channel may be crossed over to the subs, and from where loudspeakers are protected."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import energy_mean_db, in_band

CORNERS_HZ = (40, 50, 60, 70, 80, 90, 100, 110, 120, 140, 160, 180, 200)  # as receivers and processors offer them
_MIDDLE_HZ = (200.0, 800.0)
_FALLS_DB = 6.0
_ABOVE = 1.3  # a third of an octave and more of room for the slope
_LOOKED_HZ = (25.0, 300.0)
_MOST_BELOW = 0.7
_MUCH_DB, _OVER_NOISE_DB = -30.5, 6.0  # 3 %


def falls_off_hz(frequency_hz: NDArray, level_db: NDArray) -> float:
    """The frequency above which a main stays within 6 dB of its middle; the lowest that is looked at where it does.

    `level_db` over a third of an octave, averaged over spots, so that a dip of the room is not taken for its end.
    """
    middle = in_band(frequency_hz, _MIDDLE_HZ)
    reference = float(energy_mean_db(level_db[middle]))
    looked = in_band(frequency_hz, _LOOKED_HZ)
    soft = level_db < reference - _FALLS_DB
    # Its end, not a dip further up: most of what lies below must be soft, too.
    ends = [
        k
        for k in np.flatnonzero(looked & soft)
        if np.mean(soft[looked & (frequency_hz <= frequency_hz[k])]) > _MOST_BELOW
    ]
    return float(frequency_hz[ends[-1]]) if ends else _LOOKED_HZ[0]


def distorts_below_hz(frequency_hz: NDArray, total_db: NDArray, noise_db: NDArray) -> float | None:
    """The frequency below which a main's harmonics pass 3 %, as far as noise lets it be seen; None where nowhere."""
    above = (
        (frequency_hz >= _LOOKED_HZ[0])
        & (frequency_hz <= _LOOKED_HZ[1])
        & (total_db > _MUCH_DB)
        & (total_db > noise_db + _OVER_NOISE_DB)
    )
    return float(frequency_hz[np.flatnonzero(above)[-1]]) if above.any() else None


def proposed_crossover_hz(falls_off: float, distorts_below: float | None = None) -> int:
    """The lowest usual crossover frequency that leaves a main room for its slope.

    Never below 60 Hz, where subs are better, nor where it distorts.
    """
    lowest = max(60.0, _ABOVE * falls_off, distorts_below or 0.0)
    return next((crossover_hz for crossover_hz in CORNERS_HZ if crossover_hz >= lowest), CORNERS_HZ[-1])


def protective_high_pass_hz(extension_hz: float) -> float:
    """Frequency of a high-pass of 24 dB per octave that keeps excursion down below a loudspeaker's end, in whole Hz.

    A third of an octave below its -10 dB point: there it plays next to nothing, and a vented box moves most (L. L.
    Beranek, "Acoustics", on vented boxes below their tuning; the distance is our own). Not below 20 Hz.
    """
    return max(20.0, float(round(extension_hz / 2 ** (1 / 3))))
