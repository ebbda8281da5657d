"""What one simulated loudspeaker does at one place of a simulated room."""

from collections.abc import Sequence

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.acoustics import images_of, schroeder_hz
from dolce.core.cache import cache
from dolce.core.dsp import faded, raised_cosine
from dolce.core.simulation.desk_top import DeskTop
from dolce.core.simulation.diffuse_tail import diffuse_tail
from dolce.core.simulation.image_sources import early_response
from dolce.core.simulation.modal_field import modal_field
from dolce.core.simulation.speaker_model import SpeakerModel, SpeakerSound, speaker_sound
from dolce.core.simulation.surfaces import RoomSurfaces

_MIXED_S = (0.045, 0.08)  # single reflections give way to a diffuse tail
_SHORTEST_S, _LONGEST_S = 0.6, 2.5
_SPLIT = (1.25, 1.9)  # of Schroeder's frequency: modes below, reflections above
_SPLIT_WITHIN_HZ = (90.0, 330.0)
_FADE_OUT_S = 0.05


def response_samples(surfaces: RoomSurfaces, sample_rate_hz: int) -> int:
    """Samples that hold the longest decay of the room; modes along hard walls take up to twice as long as the mean."""
    longest = float(surfaces.reverberation_s[1:5].max())
    return scipy.fft.next_fast_len(round(np.clip(2.0 * longest, _SHORTEST_S, _LONGEST_S) * sample_rate_hz), real=True)


def field_spectrum(
    model: SpeakerModel,
    place_m: NDArray,
    axis: NDArray,
    receiver_m: NDArray,
    *,
    surfaces: RoomSurfaces,
    speed_m_s: float,
    sample_rate_hz: int,
    rng: np.random.Generator,
    desks: Sequence[DeskTop] = (),
) -> NDArray[np.complex128]:
    """Spectrum of the response from a speaker's input to a place, at the lines of a transform of `response_samples`.

    Modes rule at the bottom; above, the direct sound of each driver, single reflections up to about 60 ms, then a
    diffuse tail. Both parts are the same Green's function, so they meet without being fitted to each other.

    Parameters
    ----------
    axis : ndarray, shape (3,)
        Unit vector along which the speaker looks.
    rng : Generator
        Decides the tail.
    desks : sequence of DeskTop
        Boards that reflect between the speaker and the place.

    Returns
    -------
    ndarray of complex, shape (samples // 2 + 1,)
        1 is the direct sound at 1 m in the open, before the speaker's own response.
    """
    samples = response_samples(surfaces, sample_rate_hz)
    sound = speaker_sound(model, samples=samples, sample_rate_hz=sample_rate_hz)
    frequency = _lines(samples, sample_rate_hz)
    woofer = _at(model, 0, place_m, axis)
    images = images_of(woofer, receiver_m, size_m=surfaces.size_m, within_m=_MIXED_S[1] * speed_m_s)
    reflected = np.zeros(samples)
    early = early_response(
        images,
        surfaces,
        axis=axis,
        beam=sound.toward,
        fade_s=_MIXED_S,
        speed_m_s=speed_m_s,
        sample_rate_hz=sample_rate_hz,
    )
    reflected[: early.size] = early[:samples]
    reflected += diffuse_tail(
        surfaces,
        power=sound.power,
        rise_s=_MIXED_S,
        samples=samples,
        speed_m_s=speed_m_s,
        sample_rate_hz=sample_rate_hz,
        rng=rng,
    )
    reflected = faded(reflected, falling=round(_FADE_OUT_S * sample_rate_hz))

    high = scipy.fft.rfft(reflected) * sound.together
    high += _direct(model, sound, place_m, axis, receiver_m, frequency, speed_m_s)
    begin, end = split_hz(surfaces)
    low = modal_field(surfaces, up_to_hz=end, step_hz=sample_rate_hz / samples, speed_m_s=speed_m_s)
    count = low.frequency_hz.size
    at = np.log(np.maximum(frequency[:count], 1.0) / begin) / np.log(end / begin)
    upper = raised_cosine(at)
    high[:count] = high[:count] * upper + low.transfer(woofer, receiver_m) * sound.together[:count] * (1 - upper)
    for desk in desks:
        high += desk.reflection(woofer, receiver_m, frequency, speed_m_s=speed_m_s) * sound.together
    return high


def split_hz(surfaces: RoomSurfaces) -> tuple[float, float]:
    """Between these, modes give way to reflections."""
    middle = schroeder_hz(float(np.mean(surfaces.reverberation_s[2:5])), surfaces.volume_m3)
    low, high = _SPLIT_WITHIN_HZ
    return (float(np.clip(_SPLIT[0] * middle, low, high / 1.5)), float(np.clip(_SPLIT[1] * middle, low * 1.5, high)))


def _direct(
    model: SpeakerModel,
    sound: SpeakerSound,
    place_m: NDArray,
    axis: NDArray,
    receiver_m: NDArray,
    frequency: NDArray,
    speed_m_s: float,
) -> NDArray[np.complex128]:
    """The direct sound: every driver on its own way."""
    direct = np.zeros(frequency.size, dtype=complex)
    for number, (share, table) in enumerate(zip(sound.shares, model.tables, strict=True)):
        direction = receiver_m - _at(model, number, place_m, axis)
        distance = max(float(np.linalg.norm(direction)), 1e-3)
        angle = np.degrees(np.arccos(np.clip(direction @ axis / distance, -1, 1)))
        late = np.exp(-2j * np.pi * frequency * distance / speed_m_s)
        direct += share * table.toward(angle, frequency) * late / distance
    return direct


def _at(model: SpeakerModel, number: int, place_m: NDArray, axis: NDArray) -> NDArray[np.float64]:
    """Acoustic centre of a driver."""
    driver = model.drivers[number]
    return place_m - driver.behind_m * axis + np.array([0.0, 0.0, driver.above_m])


@cache(4)
def _lines(samples: int, sample_rate_hz: int) -> NDArray[np.float64]:
    return scipy.fft.rfftfreq(samples, 1 / sample_rate_hz)
