"""Filters as JSON and CSV, with the convention of Q written beside them."""

import csv
import io
import json
from collections.abc import Mapping, Sequence

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


def write_filters_csv(channels: Mapping[str, Sequence[BandFilter]], *, sample_rate_hz: int) -> bytes:
    """One line per band, with the biquad coefficients (a0 = 1) for one sample rate."""
    out = io.StringIO()
    out.write(f"# {Q_CONVENTION}\n# biquad coefficients for {sample_rate_hz} Hz, normalised to a0 = 1\n")
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["channel", "band", "type", "frequency_hz", "gain_db", "q", "width_octaves",
                     "b0", "b1", "b2", "a1", "a2"])
    for channel, bands in channels.items():
        for number, band in enumerate(bands, 1):
            c = band.biquad(sample_rate_hz=sample_rate_hz)
            writer.writerow([harmless(channel), number, band.kind, band.frequency_hz, band.gain_db, band.q,
                             f"{band.width_octaves:.3f}",
                             *(f"{value:.15g}" for value in (c.b0, c.b1, c.b2, c.a1, c.a2))])
    return out.getvalue().encode()


def write_settings_json(channels: Mapping[str, Mapping[str, object]], *, cut_db: float,
                        target: Mapping[str, object]) -> bytes:
    """Everything per output, the common cut and the target, for the record."""
    document = {"format": "dolce settings", "version": 1, "q_convention": Q_CONVENTION, "cut_all_db": cut_db,
                "target": dict(target), "outputs": {name: dict(content) for name, content in channels.items()}}
    return (json.dumps(document, indent=2) + "\n").encode()
