"""What moves on the sheets with live sound: the meter's figures and the spectrum's curves, ready to be drawn."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.dsp import in_band
from dolce.core.job import TakeRecord
from dolce.core.response import ANALYSIS_GRID_HZ, smoothed_level_db
from dolce.core.signals import stated_levels
from dolce.services.rig.live_session import Bands
from dolce.services.rig.live_sound import LiveView
from dolce.web.shared.formatting import hertz, signed

WIDTH, HEIGHT, LEFT, BOTTOM = 900, 420, 44, 26
RANGE_DB = 50.0
_TICKS_HZ = (20, 50, 100, 200, 500, 1000, 2000, 5000, 10_000, 20_000)
_COMPARED_HZ = (100.0, 10_000.0)
_SILENT_DBFS = -125.0


@dataclass(frozen=True, slots=True, kw_only=True)
class MeterView:
    """Figures of the meter, in dB SPL where it is known, else dBFS.

    Attributes
    ----------
    figure : what stands large
    bar, held : part of the bar that is filled, and where the highest level stands, 0 to 1
    silent : whether there is less than any microphone's own noise
    """

    unit: str
    figure: str
    rows: tuple[tuple[str, str], ...]
    bar: float
    held: float
    clipped: bool
    silent: bool


def meter(live: LiveView) -> MeterView | None:
    """The meter as it stands; None before anything was heard."""
    if live.reading is None:
        return None
    options, offset = live.options, live.job.rig.levels.full_scale_spl_db
    reading = live.reading.by_weighting[options.weighting]
    shift = offset or 0.0
    large = (reading.slow_db if options.time == "slow" else reading.fast_db) + shift
    highest = (reading.highest_slow_db if options.time == "slow" else reading.highest_fast_db) + shift
    low, high = (30.0, 110.0) if offset is not None else (-90.0, 0.0)

    def part(level: float) -> float:
        return float(np.clip((level - low) / (high - low), 0, 1))

    recent = live.reading.recent_db[options.weighting] + shift
    w = options.weighting
    rows = (
        (f"Highest, {options.time}", _level(highest)),
        (f"L{w}eq, last {min(options.meaning_time_s, live.reading.recent_s):.0f} s", _level(recent)),
        (f"L{w}eq since the start, {reading.seconds:.0f} s", _level(reading.equivalent_db + shift)),
        (f"L{w}peak since the start", _level(reading.peak_db + shift)),
    )
    return MeterView(
        unit="dB SPL" if offset is not None else "dBFS",
        figure=_level(large),
        rows=rows,
        bar=part(large),
        held=part(highest),
        clipped=live.reading.clipped,
        silent=reading.seconds > 1 and live.reading.by_weighting["Z"].slow_db < _SILENT_DBFS,
    )


def _level(value: float) -> str:
    return "–" if value < -250 else f"{value:.1f}".replace("-", "−")


def stated(live: LiveView) -> str:
    """Level of the source as AES17 counts it, measured on its samples."""
    source = live.options.source
    if source.kind == "silence":
        return ""
    rms, peak = stated_levels(source, sample_rate_hz=live.job.rig.sample_rate_hz)
    if source.kind == "sweep":
        rms = source.level_dbfs
    return f"{_level(rms)} dBFS RMS (AES17: a full-scale sine is 0), peak {_level(peak)} dBFS"


@dataclass(frozen=True, slots=True, kw_only=True)
class SpectrumView:
    """Curves as paths in a box of WIDTH by HEIGHT, ticks, and how far the live curve is from the one beside it."""

    curves: tuple[tuple[str, str, str, float], ...]  # state, label, path, height of the label
    x_ticks: tuple[tuple[float, str], ...]
    y_ticks: tuple[tuple[float, str], ...]
    unit: str
    compared: str
    averaged_s: float
    channel: str


def spectrum(live: LiveView, kept: TakeRecord | None) -> SpectrumView | None:
    """The live spectrum, the one on hold and the kept one; None before there is any."""
    bands = live.bands
    top = live.options.top_db
    if bands is None or top is None:
        return None
    offset = live.job.rig.levels.full_scale_spl_db
    top += offset if offset is not None else 0.0
    top = float(10 * np.round(top / 10))
    shift = offset or 0.0
    beside: list[tuple[str, str, NDArray, NDArray]] = []
    if live.frozen is not None:
        beside.append(("held", f"held: {live.frozen.label}", live.frozen.frequency_hz, live.frozen.level_db))
    if kept is not None:
        beside.append(
            (
                "kept",
                f"kept: {kept.channel} around {live.job.at_spot(kept.spot_id)}",
                bands.frequency_hz,
                _as_heard(kept, live, bands),
            )
        )
    compared = ""
    if beside:
        _, name, frequency, level = beside[-1]
        other = np.interp(np.log(bands.frequency_hz), np.log(frequency), level)
        inside = in_band(bands.frequency_hz, _COMPARED_HZ)
        apart = (bands.level_db - other)[inside]
        worst = int(np.argmax(np.abs(apart)))
        at = bands.frequency_hz[inside][worst]
        rms = np.sqrt(np.mean(apart**2))
        compared = (
            f"Against the {name.split(':')[0].split(',')[0]} one, 100 Hz to 10 kHz: {rms:.1f} dB RMS, most "
            f"{signed(float(apart[worst]))} dB at {hertz(at)}"
        )
    curves = [
        (state, label, *_path(frequency, level + shift, top))
        for state, label, frequency, level in (
            *beside,
            ("now", f"now: {bands.label}", bands.frequency_hz, bands.level_db),
        )
    ]
    return SpectrumView(
        curves=tuple(curves),
        unit="dB SPL" if offset is not None else "dBFS",
        compared=compared,
        averaged_s=live.averaged_s,
        channel=bands.label if live.options.source.kind != "silence" else "",
        x_ticks=tuple((float(_x(f)), f"{f // 1000}k" if f >= 1000 else f"{f}") for f in _TICKS_HZ),
        y_ticks=tuple((float(_y(top - step, top)), f"{top - step:.0f}".replace("-", "−")) for step in range(0, 51, 10)),
    )


def _as_heard(take: TakeRecord, live: LiveView, bands: Bands) -> NDArray:
    """A kept average as it would stand in the live bands, with the source as loud as now."""
    rig = live.job.rig
    level = smoothed_level_db(take.level_db[None, :], per_octave=max(3.0, float(bands.per_octave)))[0]
    at_bands = np.interp(np.log(bands.frequency_hz), np.log(ANALYSIS_GRID_HZ), level)
    per_band = 10 * np.log10(np.log2(20_000 / 20) * bands.per_octave)
    return at_bands + live.options.source.level_dbfs - per_band + rig.levels.microphone_gain_db


def _x(frequency: ArrayLike) -> NDArray:
    return LEFT + (WIDTH - LEFT - 8) * np.log10(np.asarray(frequency) / 20) / 3


def _y(level: ArrayLike, top: float) -> NDArray:
    return 8 + (HEIGHT - BOTTOM - 8) * np.clip((top - np.asarray(level)) / RANGE_DB, 0, 1)


def _path(frequency: NDArray, level: NDArray, top: float) -> tuple[str, float]:
    x, y = np.clip(_x(frequency), LEFT, WIDTH), _y(level, top)
    return "M" + "L".join(f"{a:.1f} {b:.1f}" for a, b in zip(x, y, strict=True)), float(np.round(y[-1] - 6, 1))
