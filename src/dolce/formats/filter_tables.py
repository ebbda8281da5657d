"""Filters as JSON and CSV, with the convention of Q written beside them."""

import csv
import io
import json
from collections.abc import Mapping, Sequence
from typing import Any, Literal

from dolce.core.filters import BandFilter
from dolce.core.processor import Crossover
from dolce.formats.csv_text import harmless

Q_CONVENTION = (
    "Q of the Audio EQ Cookbook (W3C Note, 2021): the bandwidth counts between the points of half the gain in dB"
)


def filter_row(band: BandFilter) -> dict[str, Any]:
    """One band as plain values."""
    return {
        "type": band.kind.replace(" ", "_"),
        "frequency_hz": band.frequency_hz,
        "gain_db": band.gain_db,
        "q": band.q,
    }


def write_filters_json(channels: Mapping[str, Mapping[str, Any]]) -> bytes:
    """All channels: each a mapping that holds `filters` and whatever else belongs to it."""
    document = {
        "format": "dolce filters",
        "version": 1,
        "q_convention": Q_CONVENTION,
        "channels": {name: dict(content) for name, content in channels.items()},
    }
    return (json.dumps(document, indent=2) + "\n").encode()


Signs = Literal["subtracted", "added"]
SIGNS: dict[Signs, str] = {
    "subtracted": "y[n] = b0 x[n] + b1 x[n-1] + b2 x[n-2] - a1 y[n-1] - a2 y[n-2]",
    "added": "y[n] = b0 x[n] + b1 x[n-1] + b2 x[n-2] + a1 y[n-1] + a2 y[n-2]",
}


def write_filters_csv(
    channels: Mapping[str, Sequence[BandFilter]], *, sample_rate_hz: int, signs: Signs = "subtracted"
) -> bytes:
    """One line per band, with the biquad coefficients (a0 = 1) for one sample rate, in either convention of signs."""
    out = io.StringIO()
    out.write(
        f"# {Q_CONVENTION}\n# biquad coefficients for {sample_rate_hz} Hz, normalised to a0 = 1: {SIGNS[signs]}\n"
    )
    turn = 1.0 if signs == "subtracted" else -1.0
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(
        ["channel", "band", "type", "frequency_hz", "gain_db", "q", "width_octaves", "b0", "b1", "b2", "a1", "a2"]
    )
    for channel, bands in channels.items():
        for number, band in enumerate(bands, 1):
            c = band.biquad(sample_rate_hz=sample_rate_hz)
            writer.writerow(
                [
                    harmless(channel),
                    number,
                    band.kind,
                    band.frequency_hz,
                    band.gain_db,
                    band.q,
                    f"{band.width_octaves:.3f}",
                    *(f"{value:.15g}" for value in (c.b0, c.b1, c.b2, turn * c.a1, turn * c.a2)),
                ]
            )
    return out.getvalue().encode()


def write_filters_text(channels: Mapping[str, Sequence[BandFilter]]) -> bytes:
    """A table to type from: channel, number, kind, frequency, gain, Q."""
    lines = [f"# {Q_CONVENTION}", "", f"{'channel':<8} {'band':>4}  {'kind':<11} {'Hz':>9} {'dB':>7} {'Q':>7}"]
    for channel, bands in channels.items():
        lines += [
            f"{channel:<8} {number:>4}  {band.kind:<11} {band.frequency_hz:>9g} "
            f"{f'{band.gain_db:+.1f}' if band.has_gain else '-':>7} {band.q:>7.2f}"
            for number, band in enumerate(bands, 1)
        ] or [f"{channel:<8}    -  none"]
    return ("\n".join(lines) + "\n").encode()


SETTINGS_VERSION = 3


def write_settings_json(
    *,
    made_for: Mapping[str, Any],
    inputs: Mapping[str, Sequence[Mapping[str, Any]]],
    outputs: Mapping[str, Mapping[str, Any]],
    headroom_cut_db: float,
    sample_rate_hz: int,
    target: Mapping[str, Any],
) -> bytes:
    """Everything that the prediction rests on: routes by input, settings by output, the common headroom cut.

    Its fields are described in docs/package-files.md.
    """
    document = {
        "format": "dolce settings",
        "version": SETTINGS_VERSION,
        "q_convention": Q_CONVENTION,
        "made_for": dict(made_for),
        "sample_rate_hz": sample_rate_hz,
        "headroom_cut_db": headroom_cut_db,
        "inputs": {name: [dict(route) for route in routes] for name, routes in inputs.items()},
        "outputs": {name: dict(content) for name, content in outputs.items()},
        "target": dict(target),
    }
    return (json.dumps(document, indent=2) + "\n").encode()


def crossover_row(crossover: Crossover | None, side: str) -> dict[str, Any] | None:
    """One side of a crossover as plain values; None for none."""
    if crossover is None:
        return None
    return {
        "side": side,
        "kind": crossover.kind,
        "order": crossover.order,
        "slope_db_per_octave": crossover.slope_db,
        "frequency_hz": crossover.frequency_hz,
    }


def write_routes_text(
    inputs: Mapping[str, Sequence[Mapping[str, Any]]],
    outputs: Mapping[str, Mapping[str, Any]],
    *,
    headroom_cut_db: float,
) -> bytes:
    """Routes and outputs as two tables to type from."""
    lines = [
        "Routes: what each input feeds",
        "",
        f"{'input':<8} {'output':<8} {'gain dB':>8} {'delay ms':>9}  {'filter':<7} crossover",
    ]
    for name, routes in inputs.items():
        lines += [
            f"{name:<8} {route['output']:<8} {route['gain_db']:>+8.2f} {1000 * route['delay_s']:>9.3f}  "
            f"{'bass' if route['convolution'] else 'none':<7} {_crossover_words(route['crossover'])}"
            for route in routes
        ]
    lines += [
        "",
        "Outputs, before the headroom cut",
        "",
        f"{'output':<8} {'no.':>4} {'trim dB':>8} {'delay ms':>10} {'polarity':<9} {'high-pass':<32} "
        f"{'low-pass':<32} all-pass",
    ]
    for name, settings in outputs.items():
        all_pass = (
            ", ".join(f"{section['frequency_hz']:g} Hz Q {section['q']:g}" for section in settings["all_pass"])
            or "none"
        )
        lines.append(
            f"{name:<8} {settings['output']:>4} {settings['trim_db']:>+8.2f} {1000 * settings['delay_s']:>10.4f} "
            f"{settings['polarity']:<9} {_crossover_words(settings['high_pass']):<32} "
            f"{_crossover_words(settings['low_pass']):<32} {all_pass}"
        )
    lines += ["", f"Turn every output down by {headroom_cut_db:.1f} dB besides."]
    return ("\n".join(lines) + "\n").encode()


def _crossover_words(row: Mapping[str, Any] | None) -> str:
    if row is None:
        return "none"
    kind = {"linkwitz-riley": "Linkwitz-Riley", "butterworth": "Butterworth"}[row["kind"]]
    return f"{row['side']}-pass {row['frequency_hz']:g} Hz {kind} {row['slope_db_per_octave']} dB/oct"
