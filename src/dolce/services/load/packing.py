"""Everything for another processor, file by file."""

from collections.abc import Iterator, Mapping
from dataclasses import asdict, replace

from dolce.core.correction import FoundConvolution
from dolce.core.filters import convolution_filter
from dolce.core.job import SAMPLE_RATES_HZ
from dolce.core.processor import ChannelSettings
from dolce.core.tuning import Correction
from dolce.formats.audio_file import write_wav
from dolce.formats.filter_tables import (
    Q_CONVENTION,
    filter_row,
    write_filters_csv,
    write_filters_json,
    write_settings_json,
)
from dolce.services.load.contents import most_db
from dolce.services.load.load_view import LoadView, impulse_words


def packed(load: LoadView, left_alone: Mapping[str, list]) -> Iterator[tuple[str, bytes]]:
    """Name and content of every file of the package, one at a time; asks nothing of the store any more."""
    job, settings = load.job, load.settings
    filters = {channel: settings[channel].filters for channel in job.channels}
    yield "README.txt", _note(load).encode()
    yield "filters/filters.json", write_filters_json({channel: {
        "filters": [filter_row(f) for f in filters[channel]],
        "trim_db": settings[channel].trim_db, "delay_s": settings[channel].delay_s,
        "polarity": settings[channel].polarity,
        "headroom_db": round(most_db(settings[channel], job.rig.sample_rate_hz), 2),
        "left_alone": left_alone.get(channel, []),
    } for channel in job.channels})
    yield "settings.json", write_settings_json({channel: _plain(s) for channel, s in settings.items()},
                                               cut_db=load.cut_db, target=_targets(load.correction))
    for rate in SAMPLE_RATES_HZ:
        yield f"filters/biquads-{rate}.csv", write_filters_csv(filters, sample_rate_hz=rate)
        impulses: dict[object, bytes] = {}                    # both of a linked pair have the same filters
        for channel in job.channels:
            own = load.correction.convolutions.get(channel) or filters[channel]
            if own not in impulses:
                impulse = own.impulse(sample_rate_hz=rate) if isinstance(own, FoundConvolution) else convolution_filter(
                    own, sample_rate_hz=rate)
                impulses[own] = write_wav(impulse, sample_rate_hz=rate)
            yield f"impulse-responses/{rate}/{channel}-{rate}Hz.wav", impulses[own]


def _targets(correction: Correction) -> dict:
    """The target of all channels, those of single ones, and the taste on top."""
    return {**asdict(correction.target), "own": {c: asdict(aim.target) for c, aim in correction.own.items()},
            "taste": asdict(correction.taste) if correction.taste is not None else None}


def _plain(settings: ChannelSettings) -> dict:
    """Settings as values of JSON; of a convolution its length, its samples are files of their own."""
    taps = settings.convolution
    plain = asdict(replace(settings, convolution=None))
    return (
        plain if taps is None else {**plain, "convolution": {"sample_rate_hz": taps.sample_rate_hz, "taps": taps.taps}}
    )


def _note(load: LoadView) -> str:
    """The plain-text note of the package."""
    job = load.job
    lines = [
        f"Correction for {job.name}", "",
        "What is inside",
        "  impulse-responses/   one WAV per channel and sample rate: mono, 32-bit float,",
        f"                       {impulse_words(load.correction)}",
        "                       They hold the filters only: no trim, no delay, no headroom cut.",
        "                       A filter fits its own sample rate only.",
        "  filters/filters.json all bands, levels and delays, what was left alone and why",
        "  filters/biquads-*.csv the same bands with biquad coefficients for each sample rate",
        "  settings.json        all settings per output", "",
        f"Q: {Q_CONVENTION}.", "",
        f"Turn everything down by {load.cut_db:.1f} dB, so that no boost can run out of range.", "",
        "Per output, before that cut:",
    ]
    for channel, s in load.settings.items():
        lines.append(
            f"  {channel:<4} trim {s.trim_db:+.1f} dB   delay {s.delay_s * 1000:.3f} ms   "
            f"polarity {s.polarity}   {load.made_of(channel)}"
        )
    lines += ["", "The correction belongs last in the monitoring chain, and off when you export a mix.", ""]
    return "\n".join(lines)
