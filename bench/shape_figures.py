"""What finding, expecting and editing corrections costs and is worth; run
`.venv/bin/python bench/shape_figures.py [--short]`.

Rooms are drawn by chance, a curve that all spots share and what each is off by, so that the truth at spots that were
not given is known: the mean over 200 of them. They are busier than rooms are: how much of the gap is closed
in them is told without a promise.
"""

import statistics
import time

import numpy as np
from promises import SHORT, ended, line, note

from dolce.core.correction import QUICK, THOROUGH, FilterType, FoundConvolution, Limits, deviations_db
from dolce.core.filters import chain_level_db
from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning import Correction, SeatResponses, convolved_db, expectation_of, found_filters, shape_of

RATE = 48_000
FEEDS = ("L", "C", "Ls", "Lrs", "Ltf", "Ltr", "R", "Rs", "Rrs", "Rtf", "Rtr", "Sub1", "Sub2")
SPOTS, NEW = 24, 200
GRID = ANALYSIS_GRID_HZ


def smooth(rng: np.random.Generator, rows: int, size_db: float, octaves: float) -> np.ndarray:
    """Curves by chance, as smooth as a width in octaves, of a standard deviation in dB."""
    width = max(1, round(48 * octaves))
    curves = np.array([np.convolve(row, np.hanning(width + 2), "same") for row in rng.normal(0, 1, (rows, GRID.size))])
    return size_db * curves / curves.std()


def room(rng: np.random.Generator, spots: int) -> np.ndarray:
    """Levels at spots, shape (spots, points)."""
    return smooth(rng, 1, 4.0, 0.25) + smooth(rng, spots, 3.5, 0.15)


def shapes(correction: Correction, levels: dict[str, np.ndarray]) -> dict:
    return {
        name: shape_of(name, SeatResponses.of(rows[:SPOTS]), at_hz=GRID, correction=correction, sample_rate_hz=RATE)
        for name, rows in levels.items()
    }


def costs() -> None:
    """The full job: 13 feeds, 24 spots."""
    rng = np.random.default_rng(7)
    feeds = FEEDS[:1] if SHORT else FEEDS
    levels = {name: room(rng, SPOTS) for name in feeds}
    for linked in (True, False):
        correction = Correction(linked=linked)
        begun = time.perf_counter()
        found = found_filters(shapes(correction, levels), correction, sample_rate_hz=RATE).correction
        took = time.perf_counter() - begun
        line(
            f"bands of {len(feeds)} feeds x {SPOTS} spots, {'pairs linked' if linked else 'each its own'}",
            f"{took:.1f} s",
            "10 s",
            took < 10,
        )
    begun = time.perf_counter()
    shaped = shapes(found, levels)
    for name in feeds:
        expectation_of(shaped[name], found, sample_rate_hz=RATE)
    took = time.perf_counter() - begun
    line("every spot left out in turn, all feeds", f"{took:.1f} s", "60 s", took < 60)
    convolved = Correction(filter_type=FilterType(method="convolution"), linked=False)
    begun = time.perf_counter()
    made = found_filters(shapes(convolved, levels), convolved, sample_rate_hz=RATE).correction.convolutions
    for item in made.values():
        assert isinstance(item, FoundConvolution)
        for rate in (44_100, 48_000, 88_200, 96_000):
            item.impulse(sample_rate_hz=rate)
    took = time.perf_counter() - begun
    line("convolutions of all feeds at four rates", f"{took:.1f} s", "10 s", took < 10)
    times = []
    for _ in range(20):
        begun = time.perf_counter()
        shape_of(feeds[0], SeatResponses.of(levels[feeds[0]]), at_hz=GRID, correction=found, sample_rate_hz=RATE)
        times.append(1000 * (time.perf_counter() - begun))
    line(
        "curves, verdicts and headroom of one feed after an edit",
        f"{statistics.median(times):.0f} ms",
        "50 ms",
        statistics.median(times) < 50,
    )


def worth() -> None:
    """Against the best single curve with the same boost that knows the other spots."""
    rng = np.random.default_rng(11)
    kinds = {
        "bands": Correction(limits=Limits(max_q=16, max_q_above=16)),
        "convolution": Correction(filter_type=FilterType(method="convolution")),
    }
    for name, correction in kinds.items():
        closed, off, inside, used = [], [], [], []
        for _ in range(1 if SHORT else 25):
            levels = room(rng, 10 + NEW)
            heard = SeatResponses.of(levels[:10])
            shape = shape_of("C", heard, at_hz=GRID, correction=correction, sample_rate_hz=RATE)
            found = found_filters(
                {"C": shape}, correction, sample_rate_hz=RATE, effort=QUICK if SHORT else THOROUGH
            ).correction
            shape = shape_of("C", heard, at_hz=GRID, correction=found, sample_rate_hz=RATE)
            added = chain_level_db(found.filters("C"), at_hz=GRID, sample_rate_hz=RATE) + convolved_db(
                found.convolutions.get("C"), GRID
            )
            middle = (GRID >= 200) & (GRID <= 2000)
            lacking = -levels[10:]
            lacking = lacking - lacking[:, middle].mean(axis=1, keepdims=True)

            def left(added: np.ndarray, lacking: np.ndarray = lacking) -> float:
                return float(
                    deviations_db(lacking, added, at_hz=GRID, range_hz=(20, 500), level_band_hz=(200, 2000)).mean()
                )

            best = np.where((GRID >= 20) & (GRID <= 500), np.minimum(lacking.mean(axis=0), 3.0), 0.0)
            closed.append((left(np.zeros(GRID.size)) - left(added)) / (left(np.zeros(GRID.size)) - left(best)))
            expected = expectation_of(shape, found, sample_rate_hz=RATE)
            off.append(expected.after_at_new_spots_db - left(added))
            used.append(expected.after_db - left(added))
            inside.append(expected.after_at_new_spots_low_db <= left(added) <= expected.after_at_new_spots_high_db)
        share, error = statistics.median(closed), statistics.median(np.abs(off))
        note(f"{name}, 3 dB: gap closed at new spots", f"{share:.2f} of what the best single curve closes")
        line("  what to expect there is off by, median", f"{error:.2f} dB", "0.25 dB", error <= 0.25)
        line(
            "  and its interval holds",
            f"{100 * np.mean(inside):.0f} %",
            "80 +- 16 %",
            abs(np.mean(inside) - 0.8) <= 0.16,
        )
        note("  what the spots that were used say is off by, mean", f"{np.mean(used):+.2f} dB")


if __name__ == "__main__":
    costs()
    worth()
    raise SystemExit(ended())
