"""What several subs make at every spot with any delays, polarities, gains and all-passes, and how even that is."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import all_pass_response, band_edges, delay_response, in_band
from dolce.core.response import ImpulseResponse
from dolce.core.seat_weights import spot_weights_of
from dolce.errors import InvalidValue

BAND_HZ = (20.0, 120.0)
_PER_OCTAVE, _POINTS_PER_OCTAVE = 12.0, 24.0
_BIN_HZ = 1.0  # finer bins than a twelfth of an octave at 20 Hz needs
_LEAST = 1e-20
_NEPER = np.log(10) / 10  # powers of ten are exponentials, and faster so


@dataclass(frozen=True, slots=True, kw_only=True)
class SubSetting:
    """What one sub gets.

    Attributes
    ----------
    all_pass : tuple of (float, float)
        Frequency in Hz and Q of second-order sections.
    """

    delay_s: float = 0.0
    polarity: Literal[1, -1] = 1
    gain_db: float = 0.0
    all_pass: tuple[tuple[float, float], ...] = ()

    def response(self, at_hz: NDArray) -> NDArray[np.complex128]:
        """What it does to the sub's response, shape (points,)."""
        response = self.polarity * 10 ** (self.gain_db / 20) * delay_response(at_hz, self.delay_s)
        for frequency_hz, q in self.all_pass:
            response = response * all_pass_response(frequency_hz, q, at_hz)
        return response


def neutral(count: int) -> tuple[SubSetting, ...]:
    """Subs as they are."""
    return (SubSetting(),) * count


class BassField:
    """Complex responses of subs at spots, ready to be summed with any settings.

    Parameters
    ----------
    spectra : complex, shape (subs, spots, frequencies)
        Phases from the moment the stimulus left.
    frequency_hz : ndarray
        In even steps of about 1 Hz, a little further than the band to both sides.
    seat_of : seat of each spot, any hashable
    weights : of each seat by name; missing seats weigh 1. The spots of a seat share its weight.

    Raises
    ------
    InvalidValue
        If no seat weighs anything.
    """

    def __init__(
        self,
        spectra: NDArray,
        frequency_hz: NDArray,
        *,
        seat_of: Sequence[Any],
        weights: Mapping[Any, float] | None = None,
        band_hz: tuple[float, float] = BAND_HZ,
    ) -> None:
        self.seats, self._seat_of, self._band_hz = tuple(dict.fromkeys(seat_of)), tuple(seat_of), band_hz
        weight = np.array([1.0 if weights is None else weights.get(seat, 1.0) for seat in self.seats])
        if not np.any(weight > 0):
            raise InvalidValue("no seat has a weight.", where="weights", remedy="Give one seat more than 0.")
        self._weight = weight / weight.sum()
        share = spot_weights_of(seat_of, weights, others=1.0)
        self._spot_weight = share / share.sum()
        self._members = np.array([[number == seat for number in seat_of] for seat in self.seats], dtype=float)
        self._members /= self._members.sum(axis=1, keepdims=True)
        low, high = band_hz
        self.frequency_hz, self.spectra = frequency_hz, spectra
        self.grid_hz = low * 2 ** (np.arange(int(_POINTS_PER_OCTAVE * np.log2(high / low)) + 1) / _POINTS_PER_OCTAVE)
        self._smooth = smoothing(self.frequency_hz, self.grid_hz)
        # In single precision: the search asks for thousands of sums.
        self._by_frequency = np.ascontiguousarray(self.spectra.transpose(2, 0, 1)).astype(np.complex64)
        # Few frequencies lie within a twelfth of an octave: mostly nothing, and so it is kept.
        self._smooth_fast = scipy.sparse.csr_array(self._smooth.T.astype(np.float32))
        self._alone = _db((np.abs(self.spectra) ** 2).sum(axis=0) @ self._smooth)

    @classmethod
    def of(
        cls,
        responses: Sequence[Sequence[ImpulseResponse]],
        *,
        seat_of: Sequence[Any],
        weights: Mapping[Any, float] | None = None,
        band_hz: tuple[float, float] = BAND_HZ,
    ) -> "BassField":
        """Of the responses of each sub at each spot.

        Raises
        ------
        InvalidValue
            If a sub lacks a spot, or no seat weighs anything.
        """
        if not responses or any(len(row) != len(seat_of) for row in responses):
            raise InvalidValue("every sub is needed at every spot.", where="subs", remedy="Take what is missing.")
        low, high = band_hz
        frequency = np.arange(low / 1.1, high * 1.1 + _BIN_HZ, _BIN_HZ)
        return cls(
            np.array([[spectrum_at(response, frequency) for response in row] for row in responses]),
            frequency,
            seat_of=seat_of,
            weights=weights,
            band_hz=band_hz,
        )

    def at_spots(self, rows: NDArray[np.int64]) -> "BassField | None":
        """The same at some of the spots, by their numbers; None at none."""
        if not rows.size:
            return None
        return BassField(
            self.spectra[:, rows],
            self.frequency_hz,
            seat_of=[self._seat_of[row] for row in rows],
            weights=dict(zip(self.seats, self._weight, strict=True)),
            band_hz=self._band_hz,
        )

    @property
    def count(self) -> int:
        """How many subs there are."""
        return self.spectra.shape[0]

    def weights_of(self, settings: Sequence[SubSetting]) -> NDArray[np.complex128]:
        """What settings multiply each sub's response with, shape (subs, frequencies)."""
        return np.array([setting.response(self.frequency_hz) for setting in settings])

    def levels_db(self, weights: NDArray, *, fast: bool = False) -> NDArray[np.floating]:
        """Levels of the sum over 1/12 octave, shape (..., spots, points), of weights (..., subs, frequencies).

        In single precision throughout where they need be `fast`: to about a thousandth of a decibel.
        """
        many = weights.reshape(-1, *weights.shape[-2:]).astype(np.complex64)
        # By frequency: small matrices of subs, then one product that smooths.
        total = np.matmul(many.transpose(2, 0, 1), self._by_frequency)
        power = total.real**2 + total.imag**2
        smoothed = self._smooth_fast @ power.reshape(power.shape[0], -1)
        level = _db(smoothed if fast else smoothed.astype(np.float64))
        level = level.reshape(-1, *power.shape[1:]).transpose(1, 2, 0)
        return level.reshape(*weights.shape[:-2], *level.shape[1:])

    def by_seat_db(self, levels_db: NDArray) -> NDArray[np.float64]:
        """Energy means over the spots of each seat, shape (..., seats, points)."""
        return _db(self._members.astype(levels_db.dtype) @ np.exp(levels_db * _NEPER))

    def seat_mean_db(self, by_seat_db: NDArray) -> NDArray[np.float64]:
        """Weighted mean over the seats, shape (points,), of levels of shape (seats, points)."""
        return self._weight @ by_seat_db

    def spread_db(self, levels_db: NDArray) -> NDArray[np.float64]:
        """Weighted standard deviation over the seats, mean over the band; of one seat that over its spots.

        Source: T. Welti and A. Devantier, "Low-frequency optimization using multiple subwoofers", JAES 54, 347-364
        (2006), with the deviation in place of the variance.
        """
        seats = self.by_seat_db(levels_db) if len(self.seats) > 1 else levels_db
        weight = self._weight[:, None] if len(self.seats) > 1 else np.full((seats.shape[-2], 1), 1 / seats.shape[-2])
        weight = weight.astype(seats.dtype)
        mean = (weight * seats).sum(axis=-2, keepdims=True)
        return np.sqrt((weight * (seats - mean) ** 2).sum(axis=-2)).mean(axis=-1)

    def spot_spread_db(self, levels_db: NDArray) -> NDArray[np.float64]:
        """Weighted standard deviation over all spots, mean over the band."""
        weight = self._weights_like(levels_db)
        mean = np.tensordot(levels_db, weight, axes=(-2, 0))[..., None, :]
        return np.sqrt(np.tensordot((levels_db - mean) ** 2, weight, axes=(-2, 0))).mean(axis=-1)

    def output_db(self, levels_db: NDArray) -> NDArray[np.float64]:
        """Weighted mean level against the subs' incoherent sum at 0 dB each."""
        return levels_db.mean(axis=-1) @ self._weights_like(levels_db) - self._alone.mean(axis=-1) @ self._spot_weight

    def unevenness_db(self, levels_db: NDArray, *, boost_db: float = 3.0) -> NDArray[np.float64]:
        """What one equaliser for all spots would leave: RMS over the band, weighted mean over the spots.

        It cuts what it will, and boosts by no more than `boost_db`.
        """
        weight = self._weights_like(levels_db)
        off = levels_db - levels_db.mean(axis=-1, keepdims=True)
        residual = off + np.minimum(-np.tensordot(off, weight, axes=(-2, 0)), boost_db)[..., None, :]
        residual = residual - residual.mean(axis=-1, keepdims=True)
        return np.sqrt((residual**2).mean(axis=-1)) @ weight

    def _weights_like(self, levels_db: NDArray) -> NDArray:
        """Weights of the spots in the precision of levels."""
        return self._spot_weight.astype(levels_db.dtype)


def spectrum_at(response: ImpulseResponse, at_hz: NDArray) -> NDArray[np.complex128]:
    """At frequencies, phases from the moment the stimulus left."""
    size = scipy.fft.next_fast_len(max(response.sample.size, 2 * response.sample_rate_hz), real=True)
    bins = scipy.fft.rfftfreq(size, 1 / response.sample_rate_hz)
    inside = in_band(bins, (at_hz[0] - 5, at_hz[-1] + 5))
    spectrum = scipy.fft.rfft(response.sample, size)[inside]
    # Straight between bins once the flight is taken out, so that the phase turns slowly.
    late = response.start_s + float(np.argmax(np.abs(response.sample))) / response.sample_rate_hz
    turned = spectrum * delay_response(bins[inside], response.start_s - late)
    straight = np.interp(at_hz, bins[inside], turned.real) + 1j * np.interp(at_hz, bins[inside], turned.imag)
    return straight * delay_response(at_hz, late)


def smoothing(frequency_hz: NDArray, grid_hz: NDArray) -> NDArray[np.float64]:
    """Makes means of power over 1/12 octave around points, shape (frequencies, points)."""
    half = (frequency_hz[1] - frequency_hz[0]) / 2
    low, high = band_edges(grid_hz, per_octave=_PER_OCTAVE)
    upper, lower = np.minimum(high, frequency_hz[:, None] + half), np.maximum(low, frequency_hz[:, None] - half)
    return np.clip(upper - lower, 0, None) / (high - low)


def _db(power: NDArray) -> NDArray[np.float64]:
    return 10 * np.log10(np.maximum(power, _LEAST))
