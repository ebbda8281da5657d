"""The filters' own curve: all together, and each band for the one who points at it."""

from dataclasses import dataclass, field
from typing import Literal, get_args

import numpy as np
from numpy.typing import NDArray

from dolce.core.response import ANALYSIS_GRID_HZ
from dolce.core.tuning.filter_curves import NOTICED_DELAY_HZ, NOTICED_DELAY_S, FilterCurve, FilterCurves
from dolce.web.shared.plot_data import SHOWN_X, curve, fitting, response_plot
from dolce.words.numbers import hertz

FilterKind = Literal["level", "phase", "delay"]
FILTER_KINDS: dict[FilterKind, str] = {"level": "level", "phase": "phase", "delay": "group delay"}
_EVERY = slice(None, None, 3)  # points that are drawn of a single band
_UNITS: dict[FilterKind, str] = {"level": "dB", "phase": "°", "delay": "ms"}


def filter_kind(text: str) -> FilterKind:
    """What was asked for; the level for anything else."""
    return next((kind for kind in get_args(FilterKind) if kind == text), "level")


@dataclass(frozen=True, slots=True, kw_only=True)
class FiltersShown:
    """The plot of a channel's filters, of which kind it is, and the address that shows another.

    `noticed_hz` is where listeners notice their group delay.
    """

    plot: dict
    kind: FilterKind
    url: str
    later_ms: float
    noticed_hz: tuple[float, ...]
    kinds: dict[FilterKind, str] = field(default_factory=lambda: FILTER_KINDS)

    @classmethod
    def of(
        cls, found: FilterCurves | None, channel: str, *, url: str, under: str, kind: str = ""
    ) -> "FiltersShown | None":
        """Of a channel's filters; None without any."""
        if found is None:
            return None
        asked = filter_kind(kind)
        return cls(
            plot=filter_plot(found, channel, asked, under=under),
            kind=asked,
            url=url,
            later_ms=1000 * found.later_s,
            noticed_hz=found.noticed_hz(ANALYSIS_GRID_HZ),
        )


def filter_plot(found: FilterCurves, channel: str, kind: FilterKind, *, under: str) -> dict:
    """The curves of a channel's filters over the frequencies of the plot above them, which has the id `under`."""
    together = curve("filters", channel, "after", _values(found.together, kind))
    each = [
        {
            **curve(
                f"{hertz(band.frequency_hz)}, {band.gain_db:+.1f} dB, Q {band.q:.1f}".replace("-", "−"),
                channel,
                "single",
                _values(one, kind),
            ),
            "quiet": True,
            "single": True,
        }
        for band, one in found.each
        if len(found.each) > 1 or kind == "level"
    ]
    for one in each:
        one["x"], one["y"] = one.get("x", SHOWN_X)[_EVERY], one["y"][_EVERY]
    limits = [
        {
            "label": "noticed from" if sign > 0 else "",
            "channel": channel,
            "state": "target",
            "note": "",
            "quiet": sign < 0,
            "x": list(NOTICED_DELAY_HZ),
            "y": [sign * 1000 * seconds for seconds in NOTICED_DELAY_S],
        }
        for sign in (1, -1)
        if kind == "delay"
    ]
    least, step = {"level": (12.0, 5.0), "phase": (90.0, 45.0), "delay": (4.0, 2.0)}[kind]
    plot = response_plot(
        curves=[*each, *limits, together],
        range_db=fitting([part["y"] for part in (*each, together)], None, step=step, least=least),
        unit=_UNITS[kind],
    )
    return plot | {"under": under} | ({"breaks": 180} if kind == "phase" else {})


def _values(one: FilterCurve, kind: FilterKind) -> NDArray[np.float64]:
    match kind:
        case "level":
            return one.level_db
        case "phase":
            return one.phase_deg
        case "delay":
            return 1000 * one.delay_s
