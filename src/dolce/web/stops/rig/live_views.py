"""What moves on the sheets with live sound: the meter's figures and the spectrum's curves, ready to be drawn."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.job import TakeRecord
from dolce.core.levels import apart, pink_in_bands_db
from dolce.core.signals import stated_levels
from dolce.services.rig.live_sound import LiveView
from dolce.web.shared.plot_data import FROM_HZ, RANGE_DB, TO_HZ, frequency_plot
from dolce.web.shared.still_plot import StillPlot, still
from dolce.words.numbers import hertz, signed

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
    """The plot of the bands, and how far the live curve is from the one beside it."""

    plot: StillPlot
    unit: str
    compared: str
    averaged_s: float
    channel: str


def spectrum(live: LiveView, kept: TakeRecord | None) -> SpectrumView | None:
    """The live spectrum, the one on hold and the kept one; None before there is any."""
    bands = live.bands
    if bands is None or live.options.top_db is None:
        return None
    offset = live.job.rig.levels.full_scale_spl_db
    shift = offset or 0.0
    top = float(10 * np.round((live.options.top_db + shift) / 10))
    beside: list[tuple[str, str, NDArray, NDArray]] = []
    if live.frozen is not None:
        beside.append(("held", f"held: {live.frozen.label}", live.frozen.frequency_hz, live.frozen.level_db))
    if kept is not None:
        in_bands = pink_in_bands_db(
            kept.level_db,
            at_hz=bands.frequency_hz,
            per_octave=bands.per_octave,
            noise_dbfs=live.options.source.level_dbfs + live.job.rig.levels.microphone_gain_db,
        )
        name = f"kept: {kept.channel} around {live.job.at_spot(kept.spot_id)}"
        beside.append(("kept", name, bands.frequency_hz, in_bands))
    compared = ""
    if beside:
        state, _, frequency, level = beside[-1]
        found = apart(bands.frequency_hz, bands.level_db, frequency, level)
        compared = (
            f"Against the {state} one, 100 Hz to 10 kHz: {found.rms_db:.1f} dB RMS, most "
            f"{signed(found.most_db)} dB at {hertz(found.most_hz)}"
        )
    now = ("now", f"now: {bands.label}", bands.frequency_hz, bands.level_db)
    described = frequency_plot(
        [],
        [
            {"state": state, "label": label, "channel": "", "x": frequency, "y": level + shift}
            for state, label, frequency, level in (*beside, now)
        ],
        x_range=(FROM_HZ, TO_HZ),
        y_range=(top - RANGE_DB, top),
    )
    return SpectrumView(
        plot=still(
            described,
            width=900,
            height=420,
            left=44,
            right=16,
            top=8,
            bottom=26,
            at_levels=[top - step for step in range(0, 51, 10)],
        ),
        unit="dB SPL" if offset is not None else "dBFS",
        compared=compared,
        averaged_s=live.averaged_s,
        channel=bands.label if live.options.source.kind != "silence" else "",
    )
