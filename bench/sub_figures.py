"""Several subs for several seats: how long the search takes, whether other starts find better, and nudging by hand.

Run `.venv/bin/python bench/sub_figures.py`; `--short` with fewer subs and seats.
"""

import resource
import time

import numpy as np
from promises import SHORT, ended, line

from dolce.core.acoustics import modal_transfer
from dolce.core.response import ImpulseResponse
from dolce.core.subs import BassField, SearchLimits, neutral, search

RATE, SAMPLES = 4000, 4000
SIZE = (5.2, 7.4, 2.8)


def responses(subs: int, seats: int, spots: int) -> tuple[list[list[ImpulseResponse]], list[int]]:
    """Subs along the walls of a box, heard at spots around seats: sums of its modes."""
    rng = np.random.default_rng(6)
    places = np.array([[0.4, 0.4, 0.3], [4.8, 0.4, 0.3], [2.6, 7.0, 0.3], [0.4, 3.7, 0.3]])[:subs]
    middles = np.array([[1.2 + 1.1 * (k % 3), 3.6 + 1.6 * (k // 3), 1.15] for k in range(seats)])
    heard = (middles[:, None, :] + rng.uniform(-0.2, 0.2, (seats, spots, 3))).reshape(-1, 3)
    frequency = np.fft.rfftfreq(SAMPLES, 1 / RATE)
    inside = (frequency > 5) & (frequency < 200)
    transfer = np.zeros((subs, len(heard), frequency.size), dtype=complex)
    transfer[:, :, inside] = modal_transfer(
        places, heard, size_m=SIZE, frequency_hz=frequency[inside], reverberation_s=0.5, speed_m_s=343.0
    )
    samples = np.fft.irfft(transfer, SAMPLES)
    rows = [[ImpulseResponse(sample=first, sample_rate_hz=RATE, start_s=0.0) for first in row] for row in samples]
    return rows, [k // spots for k in range(len(heard))]


def main() -> int:
    """Print all figures."""
    subs, seats, spots = (2, 2, 2) if SHORT else (4, 6, 4)
    rows, seat_of = responses(subs, seats, spots)
    begun = time.perf_counter()
    field = BassField.of(rows, seat_of=seat_of)
    found = search(field, SearchLimits())
    took = time.perf_counter() - begun
    line(f"{subs} subs, {seats} seats, {len(seat_of)} spots: search", f"{took:.1f} s", "5 s", took < 5)
    before = float(field.spread_db(field.levels_db(field.weights_of(neutral(subs)))))
    line(
        "  spread over the seats, before and after",
        f"{before:.2f} to {found.spread_db:.2f} dB",
        "less",
        found.spread_db < before,
    )
    line("  output", f"{found.output_db:.2f} dB", "-3.1 dB", found.output_db >= -3.1)
    other = search(field, SearchLimits(), seed=5)
    line(
        "  other starts find better by",
        f"{max(0.0, found.cost - other.cost):.3f} dB",
        "0.05 dB",
        other.cost > found.cost - 0.05,
    )
    begun = time.perf_counter()
    for _ in range(10):
        field.by_seat_db(field.levels_db(field.weights_of(found.settings)))
    nudge = (time.perf_counter() - begun) / 10
    line("one nudge: curves of all seats", f"{1000 * nudge:.0f} ms", "50 ms", nudge < 0.05)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    line("memory at its highest", f"{peak:.0f} MB", "1000 MB", peak < 1000)
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
