"""Batch commands: files in, files out, on the same core as the pages. Nothing is left half-written."""

import json
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import Path
from typing import Any

import numpy as np

from dolce.core import checked
from dolce.core.correction import THOROUGH, FilterType, Limits, shared_excess_phase
from dolce.core.dsp import in_band, mid_bands
from dolce.core.filters import convolution_filter
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    DRIFT_WORTH_PPM,
    Deconvolver,
    FrequencyResponse,
    analyse_recording,
    average_over_spots,
    clipped_samples,
    drift_between_chirps_ppm,
    level_on_grid,
    part_with,
    phase_deg,
    precision_for,
    resampled,
    stretched,
)
from dolce.core.signals import Sweep, chirps_in, sweep_part_s, with_chirps
from dolce.core.tuning import (
    ANCHOR_RANGE_HZ,
    SHAPING_PER_OCTAVE,
    ChannelShape,
    Correction,
    SeatResponses,
    expectation_of,
    found_filters,
    shape_of,
)
from dolce.errors import InvalidValue
from dolce.formats.audio_file import write_wav
from dolce.formats.filter_tables import Q_CONVENTION, filter_row
from dolce.formats.microphone_text import read_microphone_curve
from dolce.formats.response_csv import read_response
from dolce.formats.response_csv import write_response as response_csv
from dolce.services.files import keep_files, read_bytes, read_sound
from dolce.words.cautions import caution_words
from dolce.words.regions import left_alone_rows

_FIT_RATE_HZ = 48_000
_PHASES_TO_HZ = 500.0  # above, no two spots share a phase
_CHANNEL = "main"  # what the responses are of is not known; no sub


def write_sweep(
    out: Path, *, rate_hz: int, seconds: float, from_hz: float, to_hz: float, level_dbfs: float, marks: bool
) -> None:
    """Write a logarithmic sweep as WAV, between two marks that tell the recorder's clock, or alone."""
    sweep = Sweep(start_hz=from_hz, stop_hz=to_hz, duration_s=seconds, sample_rate_hz=rate_hz, level_dbfs=level_dbfs)
    samples = sweep.samples()
    if marks:
        samples = with_chirps(samples, sample_rate_hz=rate_hz)
    keep_files({out: write_wav(samples, sample_rate_hz=rate_hz)})


def write_response(
    recording: Path,
    *,
    stimulus: Path,
    microphone: Path | None,
    smoothing: float | None,
    impulse_out: Path | None,
    out: Path,
    is_sub: bool | None = None,
) -> dict:
    """Write level and phase of a recording of `stimulus`; returns arrival, polarity, quality and warnings.

    `is_sub` says whether a sub plays; None to find out.
    """
    if smoothing is not None:
        checked.within(smoothing, low=0.5, high=96, where="--smoothing")
    played, recorded = read_sound(stimulus), read_sound(recording)
    curve = None if microphone is None else read_microphone_curve(read_bytes(microphone), name=microphone.name)
    warnings = [
        f"{name}: {audio.channels_in_file} channels, the loudest was used."
        for name, audio in ((stimulus.name, played), (recording.name, recorded))
        if audio.channels_in_file > 1
    ]
    rate, stimulus_s = played.sample_rate_hz, played.sample.size / played.sample_rate_hz
    clipped = clipped_samples(recorded.sample, step=recorded.step)
    samples, emitted = recorded.sample, played.sample
    if recorded.sample_rate_hz != rate:
        warnings.append(f"Resampled from {recorded.sample_rate_hz} to {rate} Hz.")
        samples = resampled(samples, from_hz=recorded.sample_rate_hz, to_hz=rate)
    if samples.size < emitted.size // 2:
        raise InvalidValue(
            f"{samples.size / rate:.1f} s is too short for a stimulus of {stimulus_s:.1f} s.",
            where=recording.name,
            remedy="Record the whole sweep and its decay.",
        )
    del played, recorded  # a minute at 192 kHz takes 90 MB each time that it is held
    marks, drift = chirps_in(emitted, sample_rate_hz=rate), None
    if marks is not None:
        drift = drift_between_chirps_ppm(samples, chirps=marks, sample_rate_hz=rate)
        if drift is not None and abs(drift) > DRIFT_WORTH_PPM:
            samples = stretched(samples, drift * 1e-6)
    part = part_with(samples, emitted, sample_rate_hz=rate)
    if part.stop - part.start < samples.size:
        warnings.append(
            f"Read around the sweep, from {part.start / rate:.1f} to {part.stop / rate:.1f} s of "
            f"{samples.size / rate:.1f} s."
        )
    precision = precision_for(part.stop - part.start)
    samples, emitted = samples[part].astype(precision), emitted.astype(precision, copy=False)
    deconvolver = Deconvolver(
        emitted,
        sample_rate_hz=rate,
        recording_samples=samples.size,
        sweep_s=None if marks is None else sweep_part_s(stimulus_s),
    )
    del emitted
    try:
        capture = analyse_recording(
            samples, deconvolver=deconvolver, microphone=curve, is_sub=is_sub, clipped=clipped
        ).later(part.start / rate)
    except InvalidValue as error:
        raise InvalidValue(error.problem, where=recording.name, remedy=error.remedy) from error
    response, arrival = capture.response, capture.arrival
    grid = mid_bands(per_octave=96, from_hz=10, to_hz=min(24_000.0, 0.499 * rate))
    level = level_on_grid(response, at_hz=grid, per_octave=smoothing)
    files = {out: response_csv(grid, level, phase_deg(response, at_hz=grid, arrival_s=arrival.time_s))}
    if impulse_out is not None:
        files[impulse_out] = write_wav(response.sample, sample_rate_hz=rate)
    keep_files(files)
    return {
        "arrival_s": arrival.time_s,
        "polarity": arrival.polarity,
        "polarity_confidence": round(arrival.confidence, 3),
        "signal_to_noise_db": round(capture.quality.signal_to_noise_db, 2),
        "clipped": capture.quality.clipped_samples > 0,
        "peak_dbfs": round(capture.quality.peak_dbfs, 2),
        "impulse_start_s": response.start_s,
        "phase_reference": "arrival",
        "drift_ppm": None if drift is None else round(drift, 2),
        "warnings": [*warnings, *map(caution_words, capture.cautions)],
    }


@dataclass(frozen=True, slots=True, kw_only=True)
class FilterOptions:
    """What filters are asked for on the command line."""

    target: Path | None
    limits: Limits
    filter_type: FilterType
    fir_folder: Path | None
    rates_hz: Sequence[int]


def write_filters(
    responses: Sequence[Path],
    options: FilterOptions,
    *,
    out: Path,
    weights: Sequence[float] | None = None,
    seats: Sequence[str] | None = None,
) -> None:
    """Write filters for several responses together, smoothed over 1/12 octave; see `plan_correction`.

    `seats` names the seat of each: what is expected of others stands on the scatter around the same seat then.
    """
    limits = options.limits
    for rate in options.rates_hz:
        checked.within(rate, low=8_000, high=192_000, where="--rates", unit="Hz")
    read = [read_response(read_bytes(path), name=path.name) for path in responses]
    grid = _common_grid(read, responses, limits)
    frequency = ANALYSIS_GRID_HZ[grid]
    if seats is not None and len(seats) != len(read):
        raise InvalidValue(
            f"{len(seats)} seats for {len(read)} responses.", where="--seats", remedy="Give one for each response."
        )
    at_seats = SeatResponses.of(
        [r.smoothed_on(frequency, per_octave=SHAPING_PER_OCTAVE) for r in read], _checked(weights, read), seat_of=seats
    )
    wanted = np.zeros(frequency.size)
    if options.target is not None:
        wanted = read_response(read_bytes(options.target), name=options.target.name).on(frequency)
    correction = Correction(limits=limits, filter_type=options.filter_type, anchor_band_hz=_anchor_band(frequency))

    def shaped(correction: Correction) -> ChannelShape:
        return shape_of(
            _CHANNEL, at_seats, at_hz=frequency, correction=correction, target_db=wanted, sample_rate_hz=_FIT_RATE_HZ
        )

    turned = (
        {} if options.filter_type.phase != "mixed" else {_CHANNEL: _shared_phase(read, responses, at_seats.weights)}
    )
    correction = found_filters(
        {_CHANNEL: shaped(correction)}, correction, sample_rate_hz=_FIT_RATE_HZ, turned=turned, effort=THOROUGH
    ).correction
    shape = shaped(correction)
    filters = correction.filters(_CHANNEL)
    found = expectation_of(shape, correction, sample_rate_hz=_FIT_RATE_HZ)
    document: dict[str, Any] = {
        "method": options.filter_type.method,
        "filters": [filter_row(f) for f in filters],
        "q_convention": Q_CONVENTION,
        "target_level_db": round(shape.level_db, 3),
        "headroom_db": round(shape.headroom.gain_db, 3),
        "expected": {key: value if value is None else round(value, 3) for key, value in asdict(found).items()},
        "headroom_at_hz": round(shape.headroom.at_hz, 1),
        "left_alone": left_alone_rows(shape.plan.left_alone),
    }
    taps = correction.convolutions.get(_CHANNEL)
    if taps is not None:
        document |= {
            "phase": taps.phase,
            "delay_s": taps.delay_s(sample_rate_hz=_FIT_RATE_HZ),
            "sounds_before_db": None if shape.sounds_before_db is None else round(shape.sounds_before_db, 2),
        }
    files = {out: (json.dumps(document, indent=2) + "\n").encode()}
    if options.fir_folder is not None:
        for rate in options.rates_hz:
            impulse = (
                convolution_filter(filters, sample_rate_hz=rate) if taps is None else taps.impulse(sample_rate_hz=rate)
            )
            files[options.fir_folder / f"correction-{rate}.wav"] = write_wav(impulse, sample_rate_hz=rate)
    keep_files(files)


def _checked(weights: Sequence[float] | None, read: Sequence[FrequencyResponse]) -> Sequence[float] | None:
    if weights is not None:
        average_over_spots(np.zeros((len(read), 1)), weights=weights)
    return weights


def _shared_phase(
    read: Sequence[FrequencyResponse], paths: Sequence[Path], weights: np.ndarray
) -> tuple[np.ndarray, np.ndarray]:
    """What all responses share of phase beyond the minimum, to 500 Hz."""
    counting = weights > 0
    at_hz = np.arange(5.0, _PHASES_TO_HZ)
    rows = []
    for response, path in zip(read, paths, strict=True):
        if response.phase_deg is None:
            raise InvalidValue(
                "has no phase.",
                where=path.name,
                remedy="Give responses with a column phase_deg, or choose --phase minimum.",
            )
        phase = np.interp(at_hz, response.frequency_hz, np.unwrap(np.radians(response.phase_deg)))
        rows.append(10 ** (response.on(at_hz) / 20) * np.exp(1j * phase))
    return at_hz, shared_excess_phase(at_hz, np.array(rows)[counting], weights[counting])[0]


def _common_grid(read: Sequence[FrequencyResponse], paths: Sequence[Path], limits: Limits) -> np.ndarray:
    """Where all responses have points; they must cover the range to correct."""
    low = max(r.frequency_hz[0] for r in read)
    high = min(r.frequency_hz[-1] for r in read)
    for r, path in zip(read, paths, strict=True):
        if r.frequency_hz[0] > limits.from_hz * 1.1 or r.frequency_hz[-1] < limits.to_hz / 1.1:
            raise InvalidValue(
                f"covers {r.frequency_hz[0]:g} to {r.frequency_hz[-1]:g} Hz only.",
                where=path.name,
                remedy=f"Give responses from {limits.from_hz:g} to {limits.to_hz:g} Hz, or narrow the "
                "range with --from and --to.",
            )
    return in_band(ANALYSIS_GRID_HZ, (low * 0.99, high * 1.01))


def _anchor_band(frequency: np.ndarray) -> tuple[float, float]:
    """200 to 2000 Hz, or what the responses have of it; all of them where they have none."""
    usual, widest = Correction().anchor_band_hz, ANCHOR_RANGE_HZ
    low, high = max(usual[0], frequency[0]), min(usual[1], frequency[-1])
    if high > 1.2 * low:
        return float(low), float(high)
    return max(widest[0], float(frequency[0])), min(widest[1], float(frequency[-1]))
