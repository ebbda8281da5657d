"""What several takes say together: the mean of what each of them says, each kind in its own way."""

from collections import Counter
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import energy_mean_db
from dolce.core.reading.cleanness import Distortion, NoiseUnder
from dolce.core.reading.decay import BandDecay, DecayTime
from dolce.core.reading.decay_map import DecayMap
from dolce.core.reading.energy import TimeCurve
from dolce.core.reading.phase import PhaseCurves


def mean_level_db(found: Sequence[NDArray]) -> NDArray[np.float64]:
    """Energy mean of levels in dB, of one shape; what one of them can't tell (NaN) is left out."""
    power = 10 ** (np.array(found) / 10)
    known = np.isfinite(power)
    count = known.sum(axis=0)
    total = np.where(known, power, 0.0).sum(axis=0)
    return np.where(count > 0, 10 * np.log10(np.maximum(total, 1e-30) / np.maximum(count, 1)), np.nan)


def mean_curve(found: Sequence[TimeCurve], *, decibel: bool) -> TimeCurve:
    """Of curves over the time from their own arrivals: energy mean of levels, mean of samples else."""
    time = found[0].time_s
    values = [np.interp(time, curve.time_s, curve.value) for curve in found]
    return TimeCurve(time_s=time, value=mean_level_db(values) if decibel else np.mean(values, axis=0))


def mean_phase(found: Sequence[PhaseCurves]) -> PhaseCurves:
    """Directions of the mean of unit vectors, from each take's own arrival; unwrapped from 1 kHz as each take is."""

    def mean(name: str) -> NDArray[np.float64]:
        turned = np.radians(np.array([getattr(curves, name) for curves in found]))
        direction = np.unwrap(np.angle(np.exp(1j * turned).mean(axis=0)))
        nearest = np.median(turned, axis=0)
        # Whole turns as most of the takes have them in the middle.
        k = direction.size // 2
        return np.degrees(direction + 2 * np.pi * np.round((nearest[k] - direction[k]) / (2 * np.pi)))

    return PhaseCurves(
        unwrapped_deg=mean("unwrapped_deg"), minimum_deg=mean("minimum_deg"), excess_deg=mean("excess_deg")
    )


def mean_map(found: Sequence[DecayMap]) -> DecayMap:
    """Energy mean at each moment and frequency."""
    return replace(found[0], level_db=energy_mean_db(np.array([decay.level_db for decay in found])))


def mean_decay(found: Sequence[tuple[BandDecay, ...]]) -> tuple[BandDecay, ...]:
    """Arithmetic means of the times that can be relied on, band by band.

    Where fewer than half of the takes have one, the mean of all that were read, with the reason most of them give.
    The arithmetic mean over places is that of ISO 3382-2:2008, clause 7 (from memory).
    """
    bands = []
    for together in zip(*found, strict=True):
        times = []
        for kind in (time.kind for time in together[0].times):
            read = [band[kind] for band in together]
            sure = [time.seconds for time in read if time.seconds is not None and not time.why_not]
            if 2 * len(sure) >= len(read):
                times.append(DecayTime(kind=kind, seconds=float(np.mean(sure)), why_not=""))
                continue
            known = [time.seconds for time in read if time.seconds is not None]
            why = Counter(time.why_not for time in read if time.why_not).most_common(1)[0][0]
            times.append(DecayTime(kind=kind, seconds=float(np.mean(known)) if known else None, why_not=why))
        bands.append(
            BandDecay(
                nominal_hz=together[0].nominal_hz,
                times=tuple(times),
                range_db=float(np.mean([band.range_db for band in together])),
            )
        )
    return tuple(bands)


def mean_distortion(found: Sequence[Distortion]) -> Distortion:
    """Power means against the fundamental."""
    first = found[0]
    return Distortion(
        frequency_hz=first.frequency_hz,
        noise_db=mean_level_db([distortion.noise_db for distortion in found]),
        total_db=mean_level_db([distortion.total_db for distortion in found]),
        harmonic_db={n: mean_level_db([distortion.harmonic_db[n] for distortion in found]) for n in first.harmonic_db},
    )


def mean_noise(found: Sequence[NoiseUnder]) -> NoiseUnder:
    """Power means of levels and of the noise under them."""
    return NoiseUnder(
        nominal_hz=found[0].nominal_hz,
        level_db=mean_level_db([noise.level_db for noise in found]),
        noise_db=mean_level_db([noise.noise_db for noise in found]),
    )
