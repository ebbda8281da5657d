"""Settings brought to what a device can be set to, and what that changed."""

from dataclasses import dataclass, replace
from typing import Literal

from dolce.core.filters import BandFilter
from dolce.core.processor.limits import ProcessorLimits
from dolce.core.processor.settings import ChannelSettings


@dataclass(frozen=True, slots=True, kw_only=True)
class Rounded:
    """One value that a device can't take as it was.

    Attributes
    ----------
    kind : "band left out" (Hz, its gain in dB), "gain" (dB), "q", "trim" (dB), "delay" (s), "all-passes" or "crossover"
        (nothing is left of them)
    at_hz : of a band
    was, now : float
    """

    kind: Literal["band left out", "gain", "q", "trim", "delay", "all-passes", "crossover"]
    was: float
    now: float = 0.0
    at_hz: float = 0.0


def fitted(settings: ChannelSettings, limits: ProcessorLimits) -> tuple[ChannelSettings, tuple[Rounded, ...]]:
    """Settings as a device can hold them, and what was changed for that.

    Notes
    -----
    Of bands beyond what it has, those of the least gain over width go: they do least. Gains go toward 0 dB, trims and
    delays to the nearest step. Convolutions are left as they are: how long they may be depends on the rate.
    """
    bands, rounded_filters = _fitted_bands(settings.filters, limits)
    trim = _step(min(max(settings.trim_db, limits.lowest_trim_db), limits.highest_trim_db), limits.trim_step_db)
    if abs(trim - settings.trim_db) > 1e-6:
        rounded_filters.append(Rounded(kind="trim", was=settings.trim_db, now=trim))
    delay = min(settings.delay_s, limits.most_delay_s)
    delay = _step(delay, limits.delay_step_s) if limits.delay_step_s else delay
    if abs(delay - settings.delay_s) > 1e-9:
        rounded_filters.append(Rounded(kind="delay", was=settings.delay_s, now=delay))
    found = replace(settings, filters=bands, trim_db=trim, delay_s=delay)
    if len(settings.all_pass) > limits.all_passes:
        rounded_filters.append(Rounded(kind="all-passes", was=len(settings.all_pass), now=limits.all_passes))
        found = replace(found, all_pass=settings.all_pass[: limits.all_passes])
    crossover = settings.high_pass or settings.low_pass
    if crossover is not None and not limits.crossovers:
        rounded_filters.append(Rounded(kind="crossover", was=crossover.frequency_hz))
        found = replace(found, high_pass=None, low_pass=None)
    return found, tuple(rounded_filters)


def _fitted_bands(
    bands: tuple[BandFilter, ...], limits: ProcessorLimits
) -> tuple[tuple[BandFilter, ...], list[Rounded]]:
    rounded = []
    plain = [band for band in bands if limits.shelves or band.kind not in ("low shelf", "high shelf")]
    most = limits.bands + limits.fixed_bands
    kept = sorted(range(len(plain)), key=lambda k: -abs(plain[k].gain_db) / plain[k].q)[:most]
    held = [plain[k] for k in sorted(kept)]
    rounded += [
        Rounded(kind="band left out", at_hz=band.frequency_hz, was=band.gain_db) for band in bands if band not in held
    ]
    settable = []
    for band in held:
        now = limits.settable(band)
        if abs(now.gain_db - band.gain_db) > 1e-6:
            rounded.append(Rounded(kind="gain", at_hz=band.frequency_hz, was=band.gain_db, now=now.gain_db))
        if abs(now.q - band.q) > 1e-6:
            rounded.append(Rounded(kind="q", at_hz=band.frequency_hz, was=band.q, now=now.q))
        settable.append(now)
    return tuple(settable), rounded


def _step(value: float, step: float) -> float:
    return round(round(value / step) * step, 9) + 0.0
