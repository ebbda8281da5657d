"""Early reflections in a box whose surfaces absorb by frequency, from a speaker that beams."""

from collections.abc import Callable

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.acoustics import Images
from dolce.core.simulation.bands import weights_of_transform
from dolce.core.simulation.surfaces import RoomSurfaces

_OVERSAMPLING = 8  # images fall on a grid this much finer than a sample, then are filtered down
_BEFORE_S = 0.004  # a band-limited impulse also rings before its time; what is left by then goes unheard
_TOP_FADE = 0.04  # share of the range that is faded, so that impulses do not ring on and on

# Level of the sound toward directions of a given cosine to the speaker's axis, shape (bands, directions).
Beam = Callable[[NDArray[np.float64]], NDArray[np.float64]]


def early_response(
    images: Images,
    surfaces: RoomSurfaces,
    *,
    axis: NDArray,
    beam: Beam,
    fade_s: tuple[float, float],
    speed_m_s: float,
    sample_rate_hz: int,
) -> NDArray[np.float64]:
    """Impulse response of all images but the source itself; 1 is the direct sound at 1 m.

    Each image is placed at its own time, to an eighth of a sample, in each octave with its own strength; octaves add
    up without phase of their own. Images fade out over `fade_s`.

    Parameters
    ----------
    axis : ndarray, shape (3,)
        Unit vector along which the speaker looks.

    Returns
    -------
    ndarray, shape (samples,)
        Sample 0 is the moment of emission.

    References
    ----------
    Allen and Berkley (1979), with a reflection factor sqrt(1 - absorption) per surface and octave.
    """
    begin_s, end_s = fade_s
    time_s = images.distance_m[1:] / speed_m_s
    fading = np.cos(np.pi / 2 * np.clip((time_s - begin_s) / (end_s - begin_s), 0, 1)) / images.distance_m[1:]
    lost = np.exp(-0.5 * images.hits[1:] @ surfaces.exponents)  # (images, bands)
    strength = lost.T * fading * beam(images.leaving[1:] @ axis)

    before = int(np.ceil(_BEFORE_S * sample_rate_hz))
    samples = scipy.fft.next_fast_len(round(end_s * sample_rate_hz) + 2 * before, real=True)
    fine = samples * _OVERSAMPLING
    at = np.rint((time_s * sample_rate_hz + before) * _OVERSAMPLING).astype(np.int64)
    trains = np.stack([np.bincount(at, weights=row, minlength=fine)[:fine] for row in strength])
    lines = scipy.fft.rfft(trains, axis=1)[:, : samples // 2 + 1]
    spectrum = np.einsum("bf,bf->f", lines, weights_of_transform(samples, sample_rate_hz))
    top = sample_rate_hz / 2
    spectrum *= np.clip((top - scipy.fft.rfftfreq(samples, 1 / sample_rate_hz)) / (_TOP_FADE * top), 0, 1)
    return scipy.fft.irfft(spectrum, samples)[before:]
