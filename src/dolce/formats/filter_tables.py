"""Filters as JSON and CSV, with the convention of Q written beside them."""

import csv
import io
import json
from collections.abc import Mapping, Sequence
from typing import Literal

from dolce.core.filters import BandFilter
from dolce.formats.csv_text import harmless

Q_CONVENTION = ("Q of the Audio EQ Cookbook (W3C Note, 2021): the bandwidth counts between the points "
                "of half the gain in dB")


def filter_row(band: BandFilter) -> dict[str, object]:
    """One band as plain values."""
    return {
        "type": band.kind.replace(" ", "_"),
        "frequency_hz": band.frequency_hz,
        "gain_db": band.gain_db,
        "q": band.q,
    }


def write_filters_json(channels: Mapping[str, Mapping[str, object]]) -> bytes:
    """All channels: each a mapping that holds `filters` and whatever else belongs to it."""
    document = {"format": "dolce filters", "version": 1, "q_convention": Q_CONVENTION,
                "channels": {name: dict(content) for name, content in channels.items()}}
    return (json.dumps(document, indent=2) + "\n").encode()


Signs = Literal["subtracted", "added"]
SIGNS: dict[Signs, str] = {
    "subtracted": "y[n] = b0 x[n] + b1 x[n-1] + b2 x[n-2] - a1 y[n-1] - a2 y[n-2]",
    "added": "y[n] = b0 x[n] + b1 x[n-1] + b2 x[n-2] + a1 y[n-1] + a2 y[n-2]",
}


def write_filters_csv(channels: Mapping[str, Sequence[BandFilter]], *, sample_rate_hz: int,
                      signs: Signs = "subtracted") -> bytes:
    """One line per band, with the biquad coefficients (a0 = 1) for one sample rate, in either convention of signs."""
    out = io.StringIO()
    out.write(
        f"# {Q_CONVENTION}\n# biquad coefficients for {sample_rate_hz} Hz, normalised to a0 = 1: {SIGNS[signs]}\n"
    )
    turn = 1.0 if signs == "subtracted" else -1.0
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["channel", "band", "type", "frequency_hz", "gain_db", "q", "width_octaves",
                     "b0", "b1", "b2", "a1", "a2"])
    for channel, bands in channels.items():
        for number, band in enumerate(bands, 1):
            c = band.biquad(sample_rate_hz=sample_rate_hz)
            writer.writerow([harmless(channel), number, band.kind, band.frequency_hz, band.gain_db, band.q,
                             f"{band.width_octaves:.3f}",
                             *(f"{value:.15g}" for value in (c.b0, c.b1, c.b2, turn * c.a1, turn * c.a2))])
    return out.getvalue().encode()


def write_filters_text(channels: Mapping[str, Sequence[BandFilter]]) -> bytes:
    """A table to type from: channel, number, kind, frequency, gain, Q."""
    lines = [f"# {Q_CONVENTION}", "", f"{'channel':<8} {'band':>4}  {'kind':<11} {'Hz':>9} {'dB':>7} {'Q':>7}"]
    for channel, bands in channels.items():
        lines += [f"{channel:<8} {number:>4}  {band.kind:<11} {band.frequency_hz:>9g} "
                  f"{f'{band.gain_db:+.1f}' if band.has_gain else '-':>7} {band.q:>7.2f}"
                  for number, band in enumerate(bands, 1)] or [f"{channel:<8}    -  none"]
    return ("\n".join(lines) + "\n").encode()


def write_settings_json(channels: Mapping[str, Mapping[str, object]], *, cut_db: float,
                        target: Mapping[str, object]) -> bytes:
    """Everything per output, the common cut and the target, for the record."""
    document = {"format": "dolce settings", "version": 1, "q_convention": Q_CONVENTION, "cut_all_db": cut_db,
                "target": dict(target), "outputs": {name: dict(content) for name, content in channels.items()}}
    return (json.dumps(document, indent=2) + "\n").encode()
