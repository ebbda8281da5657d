"""Programme that ships with the application: synthesised, so that it belongs to nobody, and the same every time."""

from collections.abc import Callable, Sequence

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.cache import cache
from dolce.core.listening.programme import Programme
from dolce.core.signals import pink_noise
from dolce.errors import InvalidValue

MATERIAL: dict[str, str] = {
    "trio": "Drum, bass and strings",
    "voice": "Spoken vowels",
    "pink": "Pink noise",
    "round": "Noise from one channel after the other",
}
_BEAT_S, _BEATS = 0.5, 32
_LENGTH_S = _BEAT_S * _BEATS
_LEVEL = 0.25  # highest sample of what is synthesised
# Formants of vowels in Hz, men's means: Peterson and Barney, "Control Methods Used in a Study of the Vowels", JASA 24,
# 1952 (from memory).
_FORMANTS_HZ = {
    "a": (730, 1090, 2440),
    "i": (270, 2290, 3010),
    "u": (300, 870, 2240),
    "e": (530, 1840, 2480),
    "o": (570, 840, 2410),
}
_SYLLABLES = ("a", "e", "i", "o", "u", "a", "i", "o")


def programme_of(material: str, channels: Sequence[str], *, sample_rate_hz: int, rng: np.random.Generator) -> Programme:
    """One of `MATERIAL`, 16 s long, for the channels of a layout; equal generators give equal sound.

    Parameters
    ----------
    channels : codes of the main channels there are, subs left aside

    Raises
    ------
    InvalidValue
        If there is no such material.
    """
    if material not in MATERIAL:
        raise InvalidValue(
            f"{str(material)[:60]!r} is not shipped.", where="material", remedy=f"Choose one of {', '.join(MATERIAL)}."
        )
    rows = _MAKERS[material](tuple(channels), sample_rate_hz, rng)
    peak = max(float(np.abs(row).max()) for row in rows.values())
    return Programme(
        name=MATERIAL[material],
        channels=tuple(rows),
        sample_rate_hz=sample_rate_hz,
        sample=np.array([row * (_LEVEL / peak) for row in rows.values()]),
    )


def _front_pair(channels: Sequence[str]) -> tuple[str, str]:
    return ("L", "R") if {"L", "R"} <= set(channels) else (channels[0], channels[-1])


def _pink(channels: Sequence[str], rate: int, rng: np.random.Generator) -> dict[str, NDArray]:
    size = round(_LENGTH_S * rate)
    return {
        channel: pink_noise(samples=size, sample_rate_hz=rate, level_dbfs=-30.0, rng=rng)
        for channel in dict.fromkeys(_front_pair(channels))
    }


def _round(channels: Sequence[str], rate: int, rng: np.random.Generator) -> dict[str, NDArray]:
    """Every channel in turn, with a short silence between."""
    size = round(_LENGTH_S * rate)
    each = size // len(channels)
    edge = min(each // 4, round(0.02 * rate))
    rows = {}
    for k, channel in enumerate(channels):
        burst = pink_noise(samples=each, sample_rate_hz=rate, level_dbfs=-30.0, rng=rng)
        shape = np.zeros(each)
        lasting = int(0.85 * each)
        shape[:lasting] = 1
        shape[:edge] = shape[lasting - edge : lasting][::-1] = np.sin(np.linspace(0, np.pi / 2, edge)) ** 2
        rows[channel] = np.zeros(size)
        rows[channel][k * each : (k + 1) * each] = burst * shape
    return rows


def _voice(channels: Sequence[str], rate: int, rng: np.random.Generator) -> dict[str, NDArray]:
    """A pulse train with a falling pitch through three resonances, syllable after syllable; on the centre if any."""
    size = round(_LENGTH_S * rate)
    out = np.zeros(size)
    each = size // (4 * len(_SYLLABLES))
    for k in range(4 * len(_SYLLABLES)):
        time_s = np.arange(int(0.8 * each)) / rate
        pitch = 128 * 2 ** (-0.25 * time_s / time_s[-1] + 0.12 * rng.standard_normal())
        phase = np.cumsum(pitch / rate)
        pulses = np.diff(np.floor(phase), prepend=0.0) + 0.004 * rng.standard_normal(time_s.size)
        sound = scipy.signal.lfilter([1.0], [1.0, -0.96], pulses)  # the fall of a voice towards the treble
        for formant in _FORMANTS_HZ[_SYLLABLES[k % len(_SYLLABLES)]]:
            pole = np.exp(-np.pi * (60 + 0.05 * formant) / rate)
            turn = [1.0, -2 * pole * np.cos(2 * np.pi * formant / rate), pole**2]
            sound = scipy.signal.lfilter([sum(turn)], turn, sound)
        shape = np.sin(np.pi * np.arange(time_s.size) / time_s.size) ** 0.5
        out[k * each : k * each + time_s.size] = sound * shape
    places = ("C",) if "C" in channels else tuple(dict.fromkeys(_front_pair(channels)))
    return dict.fromkeys(places, out)


def _trio(channels: Sequence[str], rate: int, rng: np.random.Generator) -> dict[str, NDArray]:
    """A drum in the middle, a bass, and plucked strings to both sides."""
    left, right = _front_pair(channels)
    size = round(_LENGTH_S * rate)
    rows = {left: np.zeros(size), right: np.zeros(size)}

    def put(sound: NDArray, at_s: float, pan: float) -> None:
        first = round(at_s * rate)
        sound = sound[: size - first]
        rows[left][first : first + sound.size] += np.cos(pan * np.pi / 2) * sound
        rows[right][first : first + sound.size] += np.sin(pan * np.pi / 2) * sound

    chords = ((57, 60, 64), (53, 57, 60), (48, 55, 64), (55, 59, 62))  # MIDI numbers: A minor, F, C, G
    for beat in range(_BEATS):
        at_s, chord = beat * _BEAT_S, chords[beat // 4 % 4]
        if beat % 2 == 0:
            put(0.9 * _kick(rate), at_s, 0.5)
        else:
            put(0.35 * _snare(rate, rng), at_s, 0.5)
        for half in (0, 1):
            put(0.10 * _hat(rate, rng), at_s + half * _BEAT_S / 2, 0.35)
        put(0.5 * _string(_hertz(chord[0] - 24), rate, fall_s=0.5, softness=1.6), at_s, 0.5)
        note = chord[int(rng.integers(3))] + 12
        put(0.3 * _string(_hertz(note), rate, fall_s=0.8, softness=1.0), at_s, float(rng.choice([0.1, 0.9])))
    return rows


def _hertz(note: int) -> float:
    return 440.0 * 2 ** ((note - 69) / 12)


def _kick(rate: int) -> NDArray:
    time_s = np.arange(round(0.35 * rate)) / rate
    pitch = 45 + 90 * np.exp(-time_s / 0.03)
    return np.sin(2 * np.pi * np.cumsum(pitch) / rate) * np.exp(-time_s / 0.1)


def _snare(rate: int, rng: np.random.Generator) -> NDArray:
    time_s = np.arange(round(0.25 * rate)) / rate
    noise = scipy.signal.sosfilt(
        scipy.signal.butter(2, (250, 7000), "band", fs=rate, output="sos"), rng.standard_normal(time_s.size)
    )
    return (noise + 0.8 * np.sin(2 * np.pi * 190 * time_s)) * np.exp(-time_s / 0.07)


def _hat(rate: int, rng: np.random.Generator) -> NDArray:
    time_s = np.arange(round(0.08 * rate)) / rate
    return scipy.signal.sosfilt(
        scipy.signal.butter(4, 6500, "high", fs=rate, output="sos"), rng.standard_normal(time_s.size)
    ) * np.exp(-time_s / 0.02)


@cache(64)
def _string(frequency_hz: float, rate: int, *, fall_s: float, softness: float) -> NDArray:
    """A plucked string: harmonics that fall off faster the higher they are."""
    time_s = np.arange(round(1.4 * fall_s * rate)) / rate
    harmonics = np.arange(1, max(2, min(25, int(0.4 * rate / frequency_hz))))[:, None]
    sound = (
        np.sin(2 * np.pi * frequency_hz * harmonics * time_s)
        * np.exp(-time_s * harmonics**0.5 / (fall_s / 3))
        / harmonics**softness
    ).sum(axis=0)
    attack = round(0.003 * rate)
    sound[:attack] *= np.linspace(0, 1, attack)
    sound[-attack:] *= np.linspace(1, 0, attack)
    return sound


_MAKERS: dict[str, Callable[[Sequence[str], int, np.random.Generator], dict[str, NDArray]]] = {
    "pink": _pink,
    "round": _round,
    "voice": _voice,
    "trio": _trio,
}
