"""Batch commands: files in, files out, on the same core as the pages. Nothing is left half-written."""

import json
import os
import stat
import tempfile
from collections.abc import Mapping, Sequence
from pathlib import Path

import numpy as np

from dolce.core import checked
from dolce.core.correction import Limits, headroom_of
from dolce.core.filters import convolution_filter
from dolce.core.levels import mid_bands
from dolce.core.response import (
    ANALYSIS_GRID_HZ,
    Deconvolver,
    FrequencyResponse,
    analyse_recording,
    average_over_spots,
    clipped_samples,
    level_on_grid,
    phase_deg,
    resampled,
)
from dolce.core.signals import Sweep
from dolce.core.tuning import ANCHOR_RANGE_HZ, SHAPING_PER_OCTAVE, Correction, found_bands, shape_of
from dolce.errors import InvalidValue
from dolce.formats.audio_file import Audio, read_audio, write_wav
from dolce.formats.filter_tables import Q_CONVENTION, filter_row
from dolce.formats.microphone_text import read_microphone_curve
from dolce.formats.response_csv import read_response
from dolce.formats.response_csv import write_response as response_csv
from dolce.services.shape.reasons import left_alone_rows
from dolce.services.takes.caution_words import caution_words

_LARGEST_BYTES = 200 * 1024 * 1024
_FIT_RATE_HZ = 48_000
_CHANNEL = "main"                  # what the responses are of is not known; no sub


def write_sweep(out: Path, *, rate_hz: int, seconds: float, from_hz: float, to_hz: float, level_dbfs: float) -> None:
    """Write a logarithmic sweep as WAV."""
    sweep = Sweep(start_hz=from_hz, stop_hz=to_hz, duration_s=seconds, sample_rate_hz=rate_hz, level_dbfs=level_dbfs)
    _keep({out: write_wav(sweep.samples(), sample_rate_hz=rate_hz)})


def write_response(recording: Path, *, stimulus: Path, microphone: Path | None, smoothing: float | None,
                   impulse_out: Path | None, out: Path) -> dict:
    """Write level and phase of a recording of `stimulus`; returns arrival, polarity, quality and warnings."""
    if smoothing is not None:
        checked.within(smoothing, low=0.5, high=96, where="--smoothing")
    played, heard = _audio(stimulus), _audio(recording)
    curve = None if microphone is None else read_microphone_curve(_bytes(microphone), name=microphone.name)
    warnings = [f"{name}: {audio.channels_in_file} channels, the loudest was used."
                for name, audio in ((stimulus.name, played), (recording.name, heard)) if audio.channels_in_file > 1]
    samples = heard.sample
    if heard.sample_rate_hz != played.sample_rate_hz:
        warnings.append(f"Resampled from {heard.sample_rate_hz} to {played.sample_rate_hz} Hz.")
        samples = resampled(samples, from_hz=heard.sample_rate_hz, to_hz=played.sample_rate_hz)
    if samples.size < played.sample.size // 2:
        raise InvalidValue(f"{samples.size / played.sample_rate_hz:.1f} s is too short for a stimulus of "
                           f"{played.sample.size / played.sample_rate_hz:.1f} s.", where=recording.name,
                           remedy="Record the whole sweep and its decay.")
    rate = played.sample_rate_hz
    deconvolver = Deconvolver(played.sample, sample_rate_hz=rate, recording_samples=samples.size)
    try:
        capture = analyse_recording(samples, deconvolver=deconvolver, microphone=curve,
                                    clipped=clipped_samples(heard.sample, step=heard.step))
    except InvalidValue as error:
        raise InvalidValue(error.problem, where=recording.name, remedy=error.remedy) from error
    response, arrival = capture.response, capture.arrival
    grid = mid_bands(per_octave=96, from_hz=10, to_hz=min(24_000.0, 0.499 * rate))
    level = level_on_grid(response, at_hz=grid, per_octave=smoothing)
    files = {out: response_csv(grid, level, phase_deg(response, at_hz=grid, arrival_s=arrival.time_s))}
    if impulse_out is not None:
        files[impulse_out] = write_wav(response.sample, sample_rate_hz=rate)
    _keep(files)
    return {"arrival_s": arrival.time_s, "polarity": arrival.polarity,
            "polarity_confidence": round(arrival.confidence, 3),
            "signal_to_noise_db": round(capture.quality.signal_to_noise_db, 2),
            "clipped": capture.quality.clipped_samples > 0, "peak_dbfs": round(capture.quality.peak_dbfs, 2),
            "impulse_start_s": response.start_s, "phase_reference": "arrival",
            "warnings": [*warnings, *map(caution_words, capture.cautions)]}


def write_filters(responses: Sequence[Path], *, weights: Sequence[float] | None, target: Path | None, from_hz: float,
                  to_hz: float, max_boost_db: float, bands: int, fir_folder: Path | None, rates_hz: Sequence[int],
                  out: Path) -> None:
    """Write filters for the energy average of several responses, smoothed over 1/12 octave."""
    limits = Limits(from_hz=from_hz, to_hz=to_hz, max_boost_db=max_boost_db, bands=bands)
    for rate in rates_hz:
        checked.within(rate, low=8_000, high=192_000, where="--rates", unit="Hz")
    read = [read_response(_bytes(path), name=path.name) for path in responses]
    grid = _common_grid(read, responses, limits)
    frequency = ANALYSIS_GRID_HZ[grid]
    levels = np.array([r.smoothed_on(frequency, per_octave=SHAPING_PER_OCTAVE) for r in read])
    average = average_over_spots(levels, weights=weights)
    wanted = np.zeros(frequency.size)
    if target is not None:
        wanted = read_response(_bytes(target), name=target.name).on(frequency)
    correction = Correction(limits=limits, anchor_band_hz=_anchor_band(frequency))
    shape = shape_of(_CHANNEL, average, at_hz=frequency, trim_db=0.0, correction=correction, target_db=wanted,
                     sample_rate_hz=_FIT_RATE_HZ)
    filters = found_bands({_CHANNEL: shape}, correction, sample_rate_hz=_FIT_RATE_HZ).filters(_CHANNEL)
    document = {
        "filters": [filter_row(f) for f in filters], "q_convention": Q_CONVENTION,
        "target_level_db": round(shape.level_db, 3),
        "headroom_db": round(headroom_of(filters, sample_rate_hz=_FIT_RATE_HZ).gain_db, 3),
        "left_alone": left_alone_rows(shape.plan.left_alone),
    }
    files = {out: (json.dumps(document, indent=2) + "\n").encode()}
    if fir_folder is not None:
        for rate in rates_hz:
            files[fir_folder / f"correction-{rate}.wav"] = write_wav(
                convolution_filter(filters, sample_rate_hz=rate), sample_rate_hz=rate)
    _keep(files)


def _common_grid(read: Sequence[FrequencyResponse], paths: Sequence[Path], limits: Limits) -> np.ndarray:
    """Where all responses have points; they must cover the range to correct."""
    low = max(r.frequency_hz[0] for r in read)
    high = min(r.frequency_hz[-1] for r in read)
    for r, path in zip(read, paths, strict=True):
        if r.frequency_hz[0] > limits.from_hz * 1.1 or r.frequency_hz[-1] < limits.to_hz / 1.1:
            raise InvalidValue(f"covers {r.frequency_hz[0]:g} to {r.frequency_hz[-1]:g} Hz only.", where=path.name,
                               remedy=f"Give responses from {limits.from_hz:g} to {limits.to_hz:g} Hz, or narrow the "
                                      "range with --from and --to.")
    return (low * 0.99 <= ANALYSIS_GRID_HZ) & (high * 1.01 >= ANALYSIS_GRID_HZ)


def _anchor_band(frequency: np.ndarray) -> tuple[float, float]:
    """200 to 2000 Hz, or what the responses have of it; all of them where they have none."""
    usual, widest = Correction().anchor_band_hz, ANCHOR_RANGE_HZ
    low, high = max(usual[0], frequency[0]), min(usual[1], frequency[-1])
    if high > 1.2 * low:
        return float(low), float(high)
    return max(widest[0], float(frequency[0])), min(widest[1], float(frequency[-1]))


def _audio(path: Path) -> Audio:
    return read_audio(_bytes(path), name=path.name)


def _bytes(path: Path) -> bytes:
    with path.open("rb") as file:
        data = file.read(_LARGEST_BYTES + 1)
    if len(data) > _LARGEST_BYTES:
        raise InvalidValue(f"more than {_LARGEST_BYTES / 2**20:.0f} MB is too large.", where=path.name,
                           remedy="Cut the recording to one sweep.")
    return data


def _keep(files: Mapping[Path, bytes]) -> None:
    """Write all files beside their places first, then move them in; on an error none of them is there.

    A link is followed, so that it stays one. What is no file, such as a device or a pipe, is written to.
    """
    places = {Path(os.path.realpath(path)): data for path, data in files.items()}
    streams = {path: data for path, data in places.items() if path.exists() and not path.is_file()}
    for path in streams:
        if path.is_dir():
            raise InvalidValue("is a folder.", where=str(path), remedy="Name a file in it.")
    written: list[tuple[str, Path]] = []
    try:
        for path, data in places.items():
            if path in streams:
                continue
            path.parent.mkdir(parents=True, exist_ok=True)
            handle, name = tempfile.mkstemp(dir=path.parent, prefix=".dolce-")
            written.append((name, path))
            with os.fdopen(handle, "wb") as file:
                file.write(data)
            os.chmod(name, stat.S_IMODE(path.stat().st_mode) if path.exists() else 0o644)
        for path, data in streams.items():
            with path.open("wb") as stream:
                stream.write(data)
        for name, path in written:
            os.replace(name, path)
    finally:
        for name, _ in written:
            Path(name).unlink(missing_ok=True)
