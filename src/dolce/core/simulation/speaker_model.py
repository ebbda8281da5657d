"""A simulated loudspeaker: its drivers, what it does to the sound, and where it sends it."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.dsp import crossover_sides
from dolce.core.filters import BandFilter
from dolce.core.simulation.directivity import BeamTable, beam_table, mean_power
from dolce.core.simulation.low_end import LowEnd, low_end_response
from dolce.core.simulation.surfaces import BANDS_HZ


@dataclass(frozen=True, slots=True, kw_only=True)
class Driver:
    """One cone or dome.

    Attributes
    ----------
    radius_m : float
    above_m : float
        Height over the place that the plan gives the speaker.
    behind_m : float
        How far its acoustic centre lies behind that place, seen from the listener.
    """

    radius_m: float
    above_m: float = 0.0
    behind_m: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class SpeakerModel:
    """How a simulated speaker differs from a perfect point.

    Attributes
    ----------
    drivers : tuple of Driver
        From the lowest to the highest.
    crossovers_hz : tuple of float
        Between neighbouring drivers, 24 dB per octave.
    box_radius_m : float
        Of a sphere about as large as the box.
    low_end : LowEnd
    high_limit_hz : float or None
        Corner of the 24 dB per octave that end a subwoofer; None for ordinary speakers.
    ripple : tuple of BandFilter
        What is left uneven on its axis.
    gain_db, latency_s : float
        Its sensitivity, and the delay of its own electronics.
    """

    drivers: tuple[Driver, ...]
    box_radius_m: float
    low_end: LowEnd
    crossovers_hz: tuple[float, ...] = ()
    high_limit_hz: float | None = None
    ripple: tuple[BandFilter, ...] = ()
    gain_db: float = 0.0
    latency_s: float = 0.0

    @property
    def tables(self) -> tuple[BeamTable, ...]:
        return tuple(
            beam_table(driver_radius_m=driver.radius_m, box_radius_m=self.box_radius_m) for driver in self.drivers
        )


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SpeakerSound:
    """A speaker's response at the lines of a transform.

    Attributes
    ----------
    shares : ndarray of complex, shape (drivers, points)
        What the crossovers give each driver, times all that they have in common.
    together : ndarray of complex, shape (points,)
        The sum of the shares: on the axis, far away.
    beam : ndarray, shape (bands, angles)
        Pressure by octave and direction of all drivers together against that on the axis, in steps of `angle_deg`.
    power : ndarray, shape (bands,)
        Over all directions, against as much in every one.
    """

    shares: NDArray[np.complex128]
    together: NDArray[np.complex128]
    beam: NDArray[np.float64]
    angle_deg: NDArray[np.float64]
    power: NDArray[np.float64]

    def toward(self, cosine: NDArray) -> NDArray[np.float64]:
        """Pressure toward directions by the cosine of their angle to the axis, shape (bands, directions)."""
        angle = np.degrees(np.arccos(np.clip(cosine, -1, 1)))
        return np.stack([np.interp(angle, self.angle_deg, row) for row in self.beam])


@cache(64)
def speaker_sound(model: SpeakerModel, *, samples: int, sample_rate_hz: int) -> SpeakerSound:
    """The response of a model at the lines of a real transform of so many samples."""
    frequency = np.fft.rfftfreq(samples, 1 / sample_rate_hz)
    common = low_end_response(model.low_end, frequency) * 10 ** (model.gain_db / 20)
    common *= np.exp(-2j * np.pi * frequency * model.latency_s)
    for band in model.ripple:
        common *= _bell(band, frequency)
    if model.high_limit_hz is not None:
        common *= crossover_sides(model.high_limit_hz, frequency)[1]
    shares = _shares(model, frequency)
    tables = model.tables
    at_bands = np.abs(_shares(model, BANDS_HZ)) ** 2  # (drivers, bands)
    angle = tables[0].angle_deg
    power = np.sum(
        [share[:, None] * table.around(BANDS_HZ) ** 2 for share, table in zip(at_bands, tables, strict=True)], axis=0
    )
    beam = np.sqrt(power / np.sum(at_bands, axis=0)[:, None])
    return SpeakerSound(
        shares=shares * common,
        together=shares.sum(axis=0) * common,
        beam=beam,
        angle_deg=angle,
        power=mean_power(beam, angle),
    )


def _shares(model: SpeakerModel, frequency: NDArray) -> NDArray[np.complex128]:
    """What the crossovers give each driver, shape (drivers, points)."""
    shares, rest = [], np.ones(frequency.size, dtype=complex)
    for corner in model.crossovers_hz:
        high, low = crossover_sides(corner, frequency)
        shares.append(rest * low)
        rest = rest * high
    return np.stack([*shares, rest])


def _bell(band: BandFilter, frequency: NDArray) -> NDArray[np.complex128]:
    """Response of a resonance of the cabinet or a driver: the bell of an analogue equaliser, minimum phase."""
    s = 1j * frequency / band.frequency_hz
    lift = 10 ** (band.gain_db / 40)
    return (s**2 + s * lift / band.q + 1) / (s**2 + s / (lift * band.q) + 1)
