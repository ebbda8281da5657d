"""One soft sweep per output: does it sound, which way round, how loud, from how far."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Literal

import numpy as np
import scipy
from numpy.typing import NDArray

from dolce.core.dsp import dbfs_rms, energy_mean_db, peak_dbfs
from dolce.core.levels import LEVEL_BAND_HZ, SUB_LEVEL_BAND_HZ
from dolce.core.response import Deconvolver, ImpulseResponse, Polarity, analyse_recording, level_on_grid
from dolce.core.room import partner_of
from dolce.errors import InvalidValue

LINE_BAND_HZ = (40.0, 20_000.0)
SUB_BAND_HZ = (20.0, 250.0)
_HOWL_S = 0.2  # at the end, where a room is quiet again
_SOUNDS_DB = 10.0  # above noise; less is no sound to speak of
_BASS_HZ = (80.0, 125.0)
_HUMP_OCTAVES_HZ = tuple(250 * 2 ** (k / 2) for k in range(11))  # 250 Hz to 8 kHz, overlapping by half
_HUMP_FROM = 3  # a hump counts from 700 Hz on: below, the room makes its own
_PRESENCE, _TREBLE = slice(4, 8), slice(9, 11)
# Direct sound by 1/3 octave, in which two of a pair are alike however unlike their sides of the room are.
_DIRECT_HZ = tuple(1000 * 2 ** (k / 3) for k in range(13))  # 1 to 16 kHz
_DIRECT_FROM_S, _DIRECT_TO_S = 0.001, 0.004
_DIRECT_MIDDLE, _DIRECT_TREBLE = slice(0, 7), slice(7, 13)  # 1 to 4 kHz; 5 to 16 kHz
# What is taken as a fault (common practice, for lack of a published limit).
DISTANCE_OFF_M, SUB_DISTANCE_OFF_M = 0.35, 1.2
LEVEL_OFF_DB, SUB_LEVEL_OFF_DB = 5.0, 4.0
BASS_MISSING_DB = 15.0
HUMP_DB, HUMP_AGAINST_OTHERS_DB = 4.0, 3.5
TREBLE_DB = 3.0
PAIR_TREBLE_DB, PAIR_BAND_DB = 2.0, 6.0  # of one of a pair against the other: all above 5 kHz; any 1/3 octave
HUM_ABOVE_NOISE_DB = 12.0


LineFault = Literal[
    "howls",
    "clips",
    "silent",
    "inverted",
    "unsure",
    "distance",
    "level",
    "no bass",
    "hump",
    "hump everywhere",
    "treble",
    "unlike its pair",
    "hum",
]


@dataclass(frozen=True, slots=True, kw_only=True)
class LineReading:
    """What one output gave.

    Attributes
    ----------
    noise_dbfs, signal_dbfs, peak_dbfs : float
        Of the microphone before and during the sweep.
    level_db : float
        Of the response in the band that levels are compared in, 0 dB being the level of the stimulus.
    bass_db, hump_db : float
        80-125 Hz, and the highest octave from 700 Hz on, against the median octave of 250 Hz-8 kHz; 0 for subs.
    octaves_db : tuple of float
        All octaves, overlapping by half, against their median; empty for subs.
    direct_db : tuple of float
        The direct sound by 1/3 octave from 1 to 16 kHz, against its energy up to 4 kHz; empty for subs.
    arrival_s : float or None
        With the latency of the chain; None where nothing sounded.
    polarity : "normal", "inverted" or "unsure"
    hum_db : float
        Mains tones (50 or 60 Hz and their multiples) above the noise around them.
    howls : bool
        Whether it goes on at the end of the range when the sweep is over: feedback.
    """

    noise_dbfs: float
    signal_dbfs: float
    peak_dbfs: float
    level_db: float
    bass_db: float
    hump_db: float
    arrival_s: float | None
    polarity: Polarity
    hum_db: float
    howls: bool = False
    octaves_db: tuple[float, ...] = ()
    direct_db: tuple[float, ...] = ()

    @property
    def treble_db(self) -> float:
        """Octaves around 5.6 and 8 kHz against those from 1 to 2.8 kHz; 0 where octaves are not known."""
        if not self.octaves_db:
            return 0.0
        return float(np.mean(self.octaves_db[_TREBLE]) - np.mean(self.octaves_db[_PRESENCE]))

    @property
    def sounds(self) -> bool:
        return self.arrival_s is not None

    @property
    def clipped(self) -> bool:
        return self.peak_dbfs > -0.05


@dataclass(frozen=True, slots=True, kw_only=True)
class LineFinding:
    """Something noticed on one line; the words are the page's.

    Attributes
    ----------
    kind : LineFault
    value : float
        Of "distance" how much farther it sounds than the plan has it, in m; of the others dB; 0 where there is none.
    at_hz : float
        Where it is; 0 of what has no place among the frequencies.
    other : str
        The channel that this one is held against; empty for all others.
    """

    kind: LineFault
    value: float = 0.0
    at_hz: float = 0.0
    other: str = ""

    @property
    def is_wrong(self) -> bool:
        """Whether the line can't be used like this; else it is something to look at."""
        return self.kind in ("howls", "clips", "silent", "inverted")


@dataclass(frozen=True, slots=True, kw_only=True)
class LineVerdict:
    """What follows for one output, seen beside the others.

    Attributes
    ----------
    distance_m : float or None
        Measured: the latency that fits most lines is taken out.
    findings : tuple of LineFinding
        The weightiest first.
    """

    distance_m: float | None
    findings: tuple[LineFinding, ...]

    @property
    def word(self) -> Literal["right", "look", "wrong"]:
        if any(finding.is_wrong for finding in self.findings):
            return "wrong"
        return "look" if self.findings else "right"


def line_reading(
    recording: NDArray[np.float64], *, deconvolver: Deconvolver, quiet_samples: int, sample_rate_hz: int, is_sub: bool
) -> LineReading:
    """Read one line: noise from the first `quiet_samples`, the sweep from the rest.

    Parameters
    ----------
    recording : ndarray, shape (quiet_samples + recording samples of the deconvolver,)
    """
    quiet, sounding = recording[:quiet_samples], recording[quiet_samples:]
    noise, signal_level = dbfs_rms(quiet), dbfs_rms(sounding)
    hum_db = hum_above_noise_db(quiet, sample_rate_hz=sample_rate_hz)
    reading = partial(
        LineReading,
        noise_dbfs=noise,
        signal_dbfs=signal_level,
        peak_dbfs=peak_dbfs(sounding),
        hum_db=hum_db,
        howls=bool(np.abs(sounding[-round(_HOWL_S * sample_rate_hz) :]).max() > 0.99),
    )
    try:
        capture = analyse_recording(sounding, deconvolver=deconvolver, is_sub=is_sub)
    except InvalidValue:  # silent, or nothing of the sweep in it
        capture = None
    # Hum may be louder than a soft sweep and still leave it plain to hear.
    drowned = signal_level < noise + 3 and hum_db < HUM_ABOVE_NOISE_DB
    if capture is None or capture.quality.signal_to_noise_db < _SOUNDS_DB or drowned:
        return reading(level_db=-200.0, bass_db=0.0, hump_db=0.0, arrival_s=None, polarity="unsure")
    response = capture.response
    if is_sub:
        [level] = _mean_levels_db(response, [SUB_LEVEL_BAND_HZ])
        return reading(
            level_db=float(level),
            bass_db=0.0,
            hump_db=0.0,
            arrival_s=capture.arrival.time_s,
            polarity=capture.arrival.polarity,
        )
    level, bass, *of_octaves = _mean_levels_db(
        response, [LEVEL_BAND_HZ, _BASS_HZ, *((f / 2**0.5, f * 2**0.5) for f in _HUMP_OCTAVES_HZ)]
    )
    octaves = np.array(of_octaves)
    middle = float(np.median(octaves))
    return reading(
        level_db=float(level),
        bass_db=float(bass) - middle,
        hump_db=float(octaves[_HUMP_FROM:].max() - middle),
        octaves_db=tuple(round(float(octave - middle), 2) for octave in octaves),
        direct_db=_direct_db(response, capture.arrival.time_s),
        arrival_s=capture.arrival.time_s,
        polarity=capture.arrival.polarity,
    )


def hum_above_noise_db(quiet: NDArray[np.float64], *, sample_rate_hz: int) -> float:
    """How far mains tones stand above the noise around them, the louder of 50 and 60 Hz; 0 if they do not.

    Needs about half a second; each tone is held against the median of the lines within 20 Hz of it.
    """
    if quiet.size < sample_rate_hz // 4:
        return 0.0
    window = scipy.signal.windows.hann(quiet.size)
    power = np.abs(np.fft.rfft(quiet * window)) ** 2
    step = sample_rate_hz / quiet.size
    best = 0.0
    for mains in (50, 60):
        tones, around = 0.0, 0.0
        for k in (1, 2, 3):
            line = round(k * mains / step)
            reach = max(4, round(20 / step))
            near = power[max(1, line - reach) : line + reach + 1]
            tones += power[max(1, line - 1) : line + 2].max()
            around += float(np.median(near)) + 1e-30
        # The highest of three lines of noise stands about 6 dB above their median.
        best = max(best, 10 * np.log10(max(tones, 1e-30) / around) - 6)
    return float(best)


def line_verdicts(
    readings: Mapping[str, LineReading],
    *,
    expected_m: Mapping[str, float],
    subs: Sequence[str],
    low_limit_hz: Mapping[str, float | None],
    speed_m_s: float,
    one_clock: bool = True,
) -> dict[str, LineVerdict]:
    """Verdicts of all lines read so far, each beside the others.

    Parameters
    ----------
    expected_m : distance of each channel to the microphone by the plan
    one_clock : whether arrivals can be held against each other; distances are not told otherwise
    """
    latency = _common_latency_s(readings, expected_m, subs, speed_m_s) if one_clock else None
    main_channels = {c: r for c, r in readings.items() if c not in subs and r.sounds}
    low = {c: r for c, r in readings.items() if c in subs and r.sounds}
    all_humped = len(main_channels) > 1 and (
        all(r.hump_db > HUMP_DB for r in main_channels.values())
        or float(np.median([r.treble_db for r in main_channels.values()])) > TREBLE_DB
    )
    verdicts = {}
    for channel, reading in readings.items():
        is_sub = channel in subs
        if reading.howls or reading.clipped or not reading.sounds:
            # Nothing else can be read off such a recording.
            kind: LineFault = "howls" if reading.howls else "clips" if reading.clipped else "silent"
            hums = kind == "silent" and reading.hum_db > HUM_ABOVE_NOISE_DB  # and may be why nothing is heard
            verdicts[channel] = LineVerdict(
                distance_m=None,
                findings=(LineFinding(kind=kind), *((LineFinding(kind="hum", value=reading.hum_db),) if hums else ())),
            )
            continue
        found: list[LineFinding] = []
        if reading.polarity != "normal":
            found.append(LineFinding(kind=reading.polarity))
        distance = None
        if latency is not None and reading.arrival_s is not None:
            distance = (reading.arrival_s - latency) * speed_m_s
            off = distance - expected_m[channel]
            if abs(off) > (SUB_DISTANCE_OFF_M if is_sub else DISTANCE_OFF_M):
                found.append(LineFinding(kind="distance", value=off))
        others = [r.level_db for c, r in (low if is_sub else main_channels).items() if c != channel]
        if others:
            apart = reading.level_db - float(np.median(others))
            apart += (
                0.0
                if is_sub
                else 20
                * np.log10(
                    expected_m[channel] / float(np.median([expected_m[c] for c in main_channels if c != channel]))
                )
            )
            if abs(apart) > (SUB_LEVEL_OFF_DB if is_sub else LEVEL_OFF_DB):
                found.append(LineFinding(kind="level", value=float(apart)))
        if not is_sub:
            if reading.bass_db < -BASS_MISSING_DB and (low_limit_hz.get(channel) or 20.0) < 70:
                found.append(LineFinding(kind="no bass", value=reading.bass_db))
            # One equaliser is a fault of a line; the same on every line is what they share: the microphone.
            if all_humped:
                found.append(LineFinding(kind="hump everywhere", value=max(reading.hump_db, reading.treble_db)))
            elif (hump := _hump(reading, [r for c, r in main_channels.items() if c != channel])) is not None:
                found.append(hump)
            elif (unlike := _against_pair(reading, partner_of(channel), main_channels)) is not None:
                found.append(unlike)
        if reading.hum_db > HUM_ABOVE_NOISE_DB:
            found.append(LineFinding(kind="hum", value=reading.hum_db))
        verdicts[channel] = LineVerdict(distance_m=distance, findings=tuple(found))
    return verdicts


def _hump(reading: LineReading, others: Sequence[LineReading]) -> LineFinding | None:
    """A hump of this line's own: far above its median octave, or above what the others have there; None for none."""
    above = np.array(reading.octaves_db[_HUMP_FROM:])
    if reading.hump_db > HUMP_DB:
        at_hz = _HUMP_OCTAVES_HZ[_HUMP_FROM + int(np.argmax(above))] if above.size else 0.0
        return LineFinding(kind="hump", value=reading.hump_db, at_hz=at_hz)
    known = [other.octaves_db[_HUMP_FROM:] for other in others if other.octaves_db]
    if not known or not above.size:
        return None
    above = above - np.median(known, axis=0)
    if above.max() <= HUMP_AGAINST_OTHERS_DB:
        return None
    at_hz = _HUMP_OCTAVES_HZ[_HUMP_FROM + int(np.argmax(above))]
    return LineFinding(kind="hump", value=float(above.max()), at_hz=at_hz)


def _against_pair(reading: LineReading, name: str | None, readings: Mapping[str, LineReading]) -> LineFinding | None:
    """What this one of a pair lacks of the other's direct sound, or has more of it in a 1/3 octave; None for nothing.

    What it lacks in one band alone the other has more: it is named there.
    """
    other = readings.get(name or "")
    if name is None or other is None or not reading.direct_db or not other.direct_db:
        return None
    more = np.array(reading.direct_db) - np.array(other.direct_db)
    treble = float(np.mean(more[_DIRECT_TREBLE]))
    if treble < -PAIR_TREBLE_DB:
        return LineFinding(kind="treble", value=treble, at_hz=_DIRECT_HZ[_DIRECT_TREBLE][0], other=name)
    # A hump stands out of its own curve, too: elsewhere it is the other one that has a notch, as by a reflection.
    more = np.where(np.array(reading.direct_db) > PAIR_BAND_DB / 2, more, 0.0)
    highest = int(np.argmax(more))
    if treble > PAIR_TREBLE_DB or more[highest] <= PAIR_BAND_DB:
        return None
    return LineFinding(kind="unlike its pair", value=float(more[highest]), at_hz=_DIRECT_HZ[highest], other=name)


def _direct_db(response: ImpulseResponse, arrival_s: float) -> tuple[float, ...]:
    part = response.around(arrival_s, before_s=_DIRECT_FROM_S, after_s=_DIRECT_TO_S)
    [*levels] = _mean_levels_db(part, [(f / 2 ** (1 / 6), f * 2 ** (1 / 6)) for f in _DIRECT_HZ])
    middle = energy_mean_db(np.array(levels[_DIRECT_MIDDLE]))
    return tuple(round(float(level - middle), 2) for level in levels)


def _common_latency_s(
    readings: Mapping[str, LineReading], expected_m: Mapping[str, float], subs: Sequence[str], speed_m_s: float
) -> float | None:
    """The delay of the chain that fits most main lines: the median of arrival minus time of flight."""
    every = {
        channel: reading.arrival_s - expected_m[channel] / speed_m_s
        for channel, reading in readings.items()
        if reading.sounds and reading.arrival_s is not None
    }
    found = [late for channel, late in every.items() if channel not in subs] or list(every.values())
    return float(np.median(found)) if found else None


def _mean_levels_db(response: ImpulseResponse, bands_hz: Sequence[tuple[float, float]]) -> NDArray[np.float64]:
    """Mean power over the logarithm of frequency in each band, in dB, shape (bands,)."""
    grid = np.array([np.geomspace(*band, 25) for band in bands_hz])
    level = level_on_grid(response, at_hz=grid.ravel(), per_octave=6).reshape(grid.shape)
    return energy_mean_db(level, axis=1)
