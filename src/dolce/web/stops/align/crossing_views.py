"""Crossovers: the sum of a main and the subs at a seat, the losses of all, and the routes as a table."""

import numpy as np

from dolce.core.dsp import CrossoverKind
from dolce.core.processor import EFFECTS
from dolce.core.processor.crossover import Order
from dolce.core.tuning import SHOWN_HZ, Alignment
from dolce.services.align.crossing import CrossingView
from dolce.web.shared.plot_data import frequency_plot, range_around

SLOPES: tuple[tuple[Order, str], ...] = ((2, "12 dB"), (4, "24 dB"), (8, "48 dB"))
KINDS: tuple[tuple[CrossoverKind, str], ...] = (("linkwitz-riley", "Linkwitz-Riley"), ("butterworth", "Butterworth"))
GROUP_NAMES = {"fronts": "Fronts", "surrounds": "Surrounds", "heights": "Heights", "others": "Others", "subs": "Subs"}


def crossing_page(view: CrossingView, *, channel: str, seat: str) -> dict:
    """What the templates of crossovers and routing show."""
    channels = tuple(view.crossover_sums)
    worst = min(channels, key=lambda code: view.crossover_sums[code].loss_db.min(), default="")
    channel = channel if channel in channels else worst
    number = (
        int(seat)
        if seat.isdecimal() and int(seat[:4]) < len(view.seats)
        else int(np.argmin(view.crossover_sums[channel].loss_db))
        if channel
        else 0
    )
    return {
        "cross": view,
        "slopes": tuple((str(order), text) for order, text in SLOPES),
        "kinds": KINDS,
        "group_names": GROUP_NAMES,
        "cross_channel": channel,
        "cross_seat": number,
        "cross_plot": sum_plot(view, channel, number) if channel else None,
    }


def sum_plot(view: CrossingView, channel: str, seat: int) -> dict:
    """Main alone, subs alone, both, and what they could be, an octave and a half around the crossover."""
    crossover_sum = view.crossover_sums[channel]
    near = np.abs(np.log2(SHOWN_HZ / crossover_sum.crossover_hz)) <= 1.6
    shown = {
        "could be": ("target", crossover_sum.most_db[seat]),
        channel: ("before", crossover_sum.main_db[seat]),
        "subs": ("predicted", crossover_sum.subs_db[seat]),
        "together": ("after", crossover_sum.sum_db[seat]),
    }
    curves = [
        {
            "label": name,
            "channel": "Sub1" if name == "subs" else channel,
            "state": state,
            "note": "",
            "y": np.round(level[near], 1).tolist(),
        }
        for name, (state, level) in shown.items()
    ]
    values = np.concatenate([level[near] for _, level in shown.values()])
    x = np.round(SHOWN_HZ[near], 2).tolist()
    return frequency_plot(x, curves, x_range=(x[0], x[-1]), y_range=range_around(values.max(), least_db=35.0))


def routing_page(alignment: Alignment, channels: tuple[str, ...], *, sample_rate_hz: int) -> dict:
    """What the template of routing shows, with subs and without."""
    bass = alignment.routing_at(sample_rate_hz)
    return {
        "routes": route_rows(alignment, channels, sample_rate_hz=sample_rate_hz),
        "codes": [(channel, channel) for channel in channels],
        "adds_up": bass.adds_up_db(channels) if bass else {},
        "common_ms": 1000 * alignment.common_bass.filters.latency_s
        if bass is not None and alignment.common_bass
        else None,
        "crossed": bass is not None and bool(bass.subs),
    }


def route_rows(
    alignment: Alignment, channels: tuple[str, ...], *, sample_rate_hz: int
) -> list[tuple[str, dict[str, str]]]:
    """Every channel, with what each output that it reaches gets of it."""
    codes = list(channels)
    if alignment.routing is not None and alignment.routing.effects is not None:
        codes.append(EFFECTS)
    rows = []
    for code in codes:
        cells: dict[str, str] = {}
        for route in alignment.routes(code, sample_rate_hz=sample_rate_hz):
            side = (
                ""
                if route.crossover is None
                else (f" {'above' if route.side == 'high' else 'below'} {route.crossover.frequency_hz:g} Hz")
            )
            side += ", filter" if route.convolution is not None else ""
            words = (
                f"{route.gain_db:+.1f} dB{side}".replace("-", "−") if route.gain_db else (side.strip() or "all of it")
            )
            cells[route.output] = f"{cells[route.output]}, {words}" if route.output in cells else words
        rows.append((code, cells))
    return rows
