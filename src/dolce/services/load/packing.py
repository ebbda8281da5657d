"""Everything for another processor, file by file, as it was asked for."""

from collections.abc import Iterator, Mapping
from dataclasses import asdict, dataclass, replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import FoundConvolution
from dolce.core.filters import BandFilter, convolution_filter
from dolce.core.filters.convolution import DURATION_S
from dolce.core.job import SAMPLE_RATES_HZ
from dolce.core.processor import ProcessorLimits, Rounded, fitted
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import ChannelShape, Correction
from dolce.errors import InvalidValue
from dolce.formats.audio_file import write_wav, write_wav_24
from dolce.formats.bands_csv import write_bands
from dolce.formats.channel_order import ORDERS, Order, in_order
from dolce.formats.filter_tables import (
    Q_CONVENTION,
    SIGNS,
    Signs,
    crossover_row,
    filter_row,
    write_filters_csv,
    write_filters_json,
    write_filters_text,
    write_routes_text,
    write_settings_json,
)
from dolce.services.load.contents import inputs_of, most_db
from dolce.services.load.load_view import LoadView
from dolce.words.regions import left_alone_rows
from dolce.words.unsupported import rounded_words

SAMPLES = {"float": "32-bit float", "pcm24": "24-bit"}
LAYOUTS = {"each": "one file per channel", "one": "all channels in one file"}
ORDER_WORDS = dict(ORDERS)
SIGN_WORDS = {"subtracted": "a1 and a2 are subtracted", "added": "a1 and a2 are added"}
_FULL = 0.98  # of full scale, that a fixed-point file reaches


@dataclass(frozen=True, slots=True, kw_only=True)
class PackageOptions:
    """Which files.

    Attributes
    ----------
    rates_hz : of impulse responses and biquads
    samples : "float" or "pcm24"
    layout : "each" or "one"
    order : of the channels in one file
    signs : of biquads
    device : a kept processor's number, to whose limits everything is rounded; None for nothing rounded
    """

    rates_hz: tuple[int, ...] = SAMPLE_RATES_HZ
    samples: str = "float"
    layout: str = "each"
    order: Order = "outputs"
    signs: Signs = "subtracted"
    device: int | None = None

    def __post_init__(self) -> None:
        if not self.rates_hz or not set(self.rates_hz) <= set(SAMPLE_RATES_HZ):
            raise InvalidValue("no sample rate is chosen.", where="rates", remedy="Tick those of your device.")
        for value, known, where in (
            (self.samples, SAMPLES, "samples"),
            (self.layout, LAYOUTS, "layout"),
            (self.order, ORDERS, "order"),
            (self.signs, SIGNS, "signs"),
        ):
            if value not in known:
                raise InvalidValue(f"{value[:20]!r} is not offered.", where=where, remedy="Choose one of the list.")


def packed(
    load: LoadView, shapes: Mapping[str, ChannelShape], options: PackageOptions, device: ProcessorLimits | None = None
) -> Iterator[tuple[str, bytes]]:
    """Name and content of every file, one at a time; asks nothing of the store any more."""
    rounded: dict[str, tuple[Rounded, ...]] = {}
    if device is not None:
        both = {channel: fitted(settings, device) for channel, settings in load.settings.items()}
        rounded = {channel: rounded_settings for channel, (_, rounded_settings) in both.items() if rounded_settings}
        load = replace(
            load,
            settings={channel: settings for channel, (settings, _) in both.items()},
            job=replace(load.job, rig=load.job.rig.with_limits(device)),
        )
    job, settings = load.job, load.settings
    attenuation_db = _attenuation_db(load, options) if options.samples == "pcm24" else 0.0
    yield (
        "README.txt",
        _note(load, options, (*_remarks(load, options, attenuation_db), *_rounded(device, rounded))).encode(),
    )
    filters = {channel: settings[channel].filters for channel in job.channels}
    yield (
        "filters/filters.json",
        write_filters_json(
            {
                channel: {
                    "filters": [filter_row(f) for f in filters[channel]],
                    "trim_db": settings[channel].trim_db,
                    "delay_s": settings[channel].delay_s,
                    "polarity": settings[channel].polarity,
                    "headroom_db": round(most_db(settings[channel], job.rig.sample_rate_hz), 2),
                    "left_alone": left_alone_rows(shapes[channel].plan.left_alone) if channel in shapes else [],
                }
                for channel in job.channels
            }
        ),
    )
    yield "filters/filters.txt", write_filters_text(filters)
    inputs, outputs = _inputs(load, options), {channel: _output(load, options, channel) for channel in job.channels}
    yield (
        "settings.json",
        write_settings_json(
            made_for=_made_for(load),
            inputs=inputs,
            outputs=outputs,
            headroom_cut_db=load.cut_db,
            sample_rate_hz=job.rig.sample_rate_hz,
            target=_targets(load.correction),
        ),
    )
    yield "routes-and-outputs.txt", write_routes_text(inputs, outputs, headroom_cut_db=load.cut_db)
    for channel, shape in shapes.items():
        yield (
            f"curves/{channel}.csv",
            write_bands(
                ANALYSIS_GRID_HZ,
                {"before_db": shape.before_db, "target_db": shape.target_db, "predicted_db": shape.predicted_db},
            ),
        )
    for rate in options.rates_hz:
        yield f"filters/biquads-{rate}.csv", write_filters_csv(filters, sample_rate_hz=rate, signs=options.signs)
        yield from _impulse_files(load, options, rate, 10 ** (-attenuation_db / 20))
        yield from _bass_files(load, options, rate)


def _remarks(load: LoadView, options: PackageOptions, attenuation_db: float) -> tuple[str, ...]:
    """What became of files that a device, or their format, can't hold as they are."""
    notes = []
    if attenuation_db:
        notes.append(
            f"24-bit files can't exceed full scale: all are {attenuation_db:.1f} dB softer. Turn up by as much."
        )
    most = _most_samples(load)
    limits = load.job.limits
    for rate in options.rates_hz if limits is not None and limits.id is not None else ():
        common = load.common_bass_at(rate)
        longest = max((taps.taps for taps in common.convolutions.values()), default=0) if common else 0
        if limits is not None and longest > limits.bass_taps:
            notes.append(
                f"{limits.name} holds {limits.bass_taps} taps between the common bass and an output; at {rate} Hz the "
                f"filters have {longest}: the common bass can't be used there. Search for shorter filters on Align."
            )
    for rate in options.rates_hz if most and limits is not None else ():
        longest = max(round(_seconds(filters_) * rate) for filters_ in _filters_of(load).values())
        if longest > most:
            notes.append(
                f"{limits.name if limits else ''} holds {most} taps: at {rate} Hz impulse responses are {most} samples "
                f"long instead of {longest}."
            )
    return tuple(notes)


def _rounded(device: ProcessorLimits | None, rounded: Mapping[str, tuple[Rounded, ...]]) -> list[str]:
    """What was rounded for a device, channel by channel."""
    if device is None:
        return []
    notes = [] if device.taps else [f"{device.name} does not convolve: use the bands, not the impulse responses."]
    if not rounded:
        return [*notes, f"Everything fits {device.name} as it is: nothing was rounded."]
    return [
        *notes,
        f"Rounded to what {device.name} can be set to:",
        *(
            f"  {channel:<4} {'; '.join(map(rounded_words, rounded_settings))}"
            for channel, rounded_settings in rounded.items()
        ),
    ]


def _filters_of(load: LoadView) -> dict[str, FoundConvolution | tuple[BandFilter, ...]]:
    """A convolution or bands, by channel."""
    return {
        channel: load.correction.convolutions.get(channel) or load.settings[channel].filters
        for channel in load.job.channels
    }


def _seconds(filters_: FoundConvolution | tuple[BandFilter, ...]) -> float:
    return filters_.duration_s if isinstance(filters_, FoundConvolution) else DURATION_S


def _most_samples(load: LoadView) -> int:
    """What a device whose limits were typed holds; 0 for any length."""
    limits = load.job.limits
    return limits.taps if limits is not None and limits.id is not None else 0


def _impulse_files(load: LoadView, options: PackageOptions, rate: int, gain: float) -> Iterator[tuple[str, bytes]]:
    write = write_wav if options.samples == "float" else write_wav_24
    filters = _filters_of(load)
    made: dict[object, NDArray] = {}  # both of a linked pair have the same filters
    rows = []
    for channel in in_order(load.job.channels, options.order):
        filters_ = filters[channel]
        if filters_ not in made:
            made[filters_] = gain * _impulse(load, filters_, rate)
        if options.layout == "each":
            yield f"impulse-responses/{rate}/{channel}-{rate}Hz.wav", write(made[filters_], sample_rate_hz=rate)
        else:
            rows.append(made[filters_])
    if rows:
        longest = max(row.size for row in rows)
        together = np.array([np.pad(row, (0, longest - row.size)) for row in rows]).T
        yield f"impulse-responses/all-{rate}Hz.wav", write(together, sample_rate_hz=rate)


def _bass_files(load: LoadView, options: PackageOptions, rate: int) -> Iterator[tuple[str, bytes]]:
    """Filters of the common bass, as they are: none exceeds full scale."""
    common = load.common_bass_at(rate)
    if common is None:
        return
    write = write_wav if options.samples == "float" else write_wav_24
    made = {output: taps.impulse for output, taps in common.convolutions.items()}
    if options.layout == "each":
        for output, impulse in made.items():
            yield f"common-bass/{rate}/{output}-{rate}Hz.wav", write(impulse, sample_rate_hz=rate)
    else:
        together = np.array([made[output] for output in in_order(tuple(made), options.order)]).T
        yield f"common-bass/all-{rate}Hz.wav", write(together, sample_rate_hz=rate)


def _impulse(load: LoadView, filters_: FoundConvolution | tuple[BandFilter, ...], rate: int) -> NDArray:
    """As long as it is, or as a device holds."""
    most = _most_samples(load)
    if isinstance(filters_, FoundConvolution):
        return filters_.impulse(sample_rate_hz=rate, most_samples=most or None)
    seconds = min(DURATION_S, most / rate) if most else DURATION_S
    return convolution_filter(filters_, sample_rate_hz=rate, duration_s=seconds)


def _attenuation_db(load: LoadView, options: PackageOptions) -> float:
    """By how much files of fixed point have to be softer, so that none exceeds full scale; in 0.1 dB up."""
    filters = set(_filters_of(load).values())
    peak = max(float(np.abs(_impulse(load, filters_, rate)).max()) for filters_ in filters for rate in options.rates_hz)
    return max(0.0, float(np.ceil(200 * np.log10(peak / _FULL)) / 10))


def _targets(correction: Correction) -> dict:
    """The target of all channels, those of single ones, and the preference on top."""
    return {
        **asdict(correction.target),
        "by_channel": {
            c: asdict(correction_settings.target) for c, correction_settings in correction.by_channel.items()
        },
        "preference": asdict(correction.preference) if correction.preference is not None else None,
    }


def _inputs(load: LoadView, options: PackageOptions) -> dict[str, list[dict]]:
    """Routes of every input, the effects channel included where something plays it."""
    return {
        name: [
            {
                "output": route.output,
                "gain_db": round(route.gain_db, 4),
                "crossover": crossover_row(route.crossover, route.side),
                "delay_s": route.delay_s,
                "convolution": None if route.convolution is None else _bass_file_names(route.output, options),
            }
            for route in load.outputs.routes(name)
        ]
        for name in inputs_of(load.job, load.outputs.bass)
    }


def _bass_file_names(output: str, options: PackageOptions) -> dict[str, str]:
    """By sample rate."""
    each = options.layout == "each"
    return {
        str(rate): f"common-bass/{rate}/{output}-{rate}Hz.wav" if each else f"common-bass/all-{rate}Hz.wav"
        for rate in options.rates_hz
    }


def _output(load: LoadView, options: PackageOptions, channel: str) -> dict:
    """Everything that one output is set to; of a convolution its files and what they delay at each rate."""
    settings, taps = load.settings[channel], load.correction.convolutions.get(channel)
    most = _most_samples(load) or None
    convolution = (
        None
        if taps is None
        else {
            "phase": taps.phase,
            "duration_s": taps.duration_s,
            "files": {
                str(rate): f"impulse-responses/{rate}/{channel}-{rate}Hz.wav"
                if options.layout == "each"
                else f"impulse-responses/all-{rate}Hz.wav"
                for rate in options.rates_hz
            },
            "latency_s": {str(rate): taps.delay_s(sample_rate_hz=rate, most_samples=most) for rate in options.rates_hz},
        }
    )
    return {
        "output": load.job.speaker(channel).output,
        "trim_db": settings.trim_db,
        "headroom_cut_db": load.cut_db,
        "delay_s": settings.delay_s,
        "polarity": settings.polarity,
        "high_pass": crossover_row(settings.high_pass, "high"),
        "low_pass": crossover_row(settings.low_pass, "low"),
        "all_pass": [{"frequency_hz": all_pass.frequency_hz, "q": all_pass.q} for all_pass in settings.all_pass],
        "filters": [filter_row(band) for band in settings.filters],
        "convolution": convolution,
    }


def _made_for(load: LoadView) -> dict:
    """The round, seats and spots that it was made from and for."""
    job, correction = load.job, load.correction
    names = {seat.id: seat.name for seat in job.plan.seats}
    base = next((round_.name for round_ in load.rounds if round_.id == correction.round_id), None)
    weights = {
        names[seat]: weight
        for seat, weight in correction.seat_weighting.weights.items()
        if seat in names and weight > 0
    }
    spots = (
        sorted(spot.number for spot in job.spots if correction.seat_weighting.of_seat(spot.seat_id) > 0)
        if job.spots
        else []
    )
    return {
        "job": job.name,
        "round": base,
        "seat_weighting": correction.seat_weighting.name,
        "seats": weights,
        "spots": spots,
    }


def _made_for_words(load: LoadView) -> list[str]:
    found = _made_for(load)
    seats = ", ".join(f"{name} {weight:g}" for name, weight in found["seats"].items()) or "none"
    return [
        f"Made from round {found['round']}, for {found['seat_weighting']} (weights: {seats}), "
        f"{len(found['spots'])} spots.",
        "",
    ]


def _note(load: LoadView, options: PackageOptions, notes: tuple[str, ...]) -> str:
    """The plain-text note of the package."""
    job = load.job
    kind = SAMPLES[options.samples]
    single = options.layout == "one"
    common = load.common_bass_at(options.rates_hz[0])
    lines = [
        f"Correction for {job.name}",
        "",
        "What is inside",
        f"  impulse-responses/   {'all channels in one WAV' if single else 'one WAV per channel'} and sample rate: "
        f"{'' if single else 'mono, '}{kind},",
        f"                       {load.impulse_words}",
        "                       They hold the filters only: no trim, no delay, no headroom cut.",
        *(
            [
                "  common-bass/         one filter for each output that plays the bass of all channels together,",
                f"                       {'one WAV' if not single else 'all in one WAV'}, as they are; channels' own",
                f"                       sound waits {1000 * common.latency_s:g} ms for it (settings.json, routes)",
            ]
            if common is not None
            else []
        ),
        "                       A filter fits its own sample rate only.",
    ]
    if single:
        order = in_order(job.channels, options.order)
        lines.append(
            "                       Channels, "
            + ORDERS[options.order].split(":")[0]
            + ": "
            + ", ".join(f"{k} {name}" for k, name in enumerate(order, 1))
            + "."
        )
    lines += [
        "  filters/filters.json all bands, levels and delays, what was left alone and why",
        "  filters/filters.txt  the bands as a table to type from",
        "  filters/biquads-*.csv the same bands with biquad coefficients for each sample rate:",
        f"                       {SIGNS[options.signs]}",
        "  routes-and-outputs.txt  routes, crossovers, trims, delays and polarity as tables to type from",
        "  settings.json        the same for a machine; its fields are described in docs/package-files.md",
        "  curves/*.csv         level before, target and predicted, dB relative to the target's own level",
        "",
        f"Q: {Q_CONVENTION}.",
        "",
        *_made_for_words(load),
        f"Turn every output down by {load.cut_db:.1f} dB, so that no single input at full scale runs out of range.",
        *notes,
        "",
        "Per output, before that cut:",
    ]
    for channel, s in load.settings.items():
        lines.append(
            f"  {channel:<4} trim {s.trim_db:+.1f} dB   delay {s.delay_s * 1000:.3f} ms   "
            f"polarity {s.polarity}   {load.made_of(channel)}"
        )
    for channel, rows in load.to_turn.items():
        lines.append(
            f"  {channel:<4} at its back: " + ", ".join(f"{name} from {was} to {to}" for name, was, to in rows)
        )
    if job.rig.others:
        lines += [
            "",
            "Others in the chain, which correct by themselves:",
            *(
                f"  {other.name}, {1000 * other.latency_s:g} ms, {', '.join(other.channels) or 'all channels'}: "
                f"{other.settings or 'settings not said'}"
                for other in job.rig.others
            ),
        ]
    lines += ["", "The correction belongs last in the monitoring chain, and off when you export a mix.", ""]
    return "\n".join(lines)
