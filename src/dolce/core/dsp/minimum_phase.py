"""The phase that belongs to a level."""

import numpy as np
import scipy
from numpy.typing import NDArray


def minimum_phase_spectrum(log_level: NDArray[np.float64]) -> NDArray[np.complex128]:
    """Spectrum of minimum phase with a given level, shape (..., bins).

    Parameters
    ----------
    log_level : ndarray, shape (..., bins)
        Natural logarithm of the magnitude at the bins of a real Fourier transform of 2 (bins - 1) samples.

    References
    ----------
    A. V. Oppenheim and R. W. Schafer, "Discrete-Time Signal Processing", homomorphic systems: the real cepstrum, folded
    onto positive times. The grid has to be fine enough for the cepstrum to have died away at its middle.
    """
    return np.exp(_folded(log_level))


def minimum_phase_rad(log_level: NDArray[np.float64]) -> NDArray[np.float64]:
    """Its phase in radians, not wrapped, shape (..., bins); parameters and reference as above."""
    return _folded(log_level).imag


def _folded(log_level: NDArray[np.float64]) -> NDArray[np.complex128]:
    """Complex logarithm of the spectrum."""
    middle = log_level.shape[-1] - 1
    cepstrum = scipy.fft.irfft(log_level, 2 * middle, axis=-1)
    cepstrum[..., 1:middle] *= 2
    cepstrum[..., middle + 1 :] = 0
    return scipy.fft.rfft(cepstrum, axis=-1)
