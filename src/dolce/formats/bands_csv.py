"""Levels in bands as CSV: frequency_hz, then a column per curve."""

import csv
import io
from collections.abc import Mapping

from numpy.typing import NDArray


def write_bands(frequency_hz: NDArray, levels_db: Mapping[str, NDArray]) -> bytes:
    """CSV with a heading line, levels to a hundredth of a dB; shape (bands,) each."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["frequency_hz", *levels_db])
    writer.writerows(
        [f"{f:.3f}", *(f"{level[k]:.2f}" for level in levels_db.values())] for k, f in enumerate(frequency_hz)
    )
    return out.getvalue().encode()
