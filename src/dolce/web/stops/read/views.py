"""What the Read page shows of a view: plots, figures, and what there is to choose from."""

from dataclasses import dataclass

import numpy as np

from dolce.core.job import JOINED, name_of
from dolce.core.reading import BASS_HZ, SeatRow, known_from_hz
from dolce.core.response import advice_of, spots_for
from dolce.core.room import SUB_CODES
from dolce.services.read.moving import can_be_moved
from dolce.services.read.reading import ReadView
from dolce.services.read.seat_to_seat import SeatTable
from dolce.web.shared.plot_data import Scale, fitting, frequency_plot
from dolce.web.stops.read.asked import address_of
from dolce.web.stops.read.detail_plots import MOST_FINE, detail_plots, take_name
from dolce.web.stops.read.early_plots import RoomDrawing, SeatRows, early_plot, room_drawings, seat_rows
from dolce.web.stops.read.level_plots import level_plots, pressure
from dolce.web.stops.read.picture import Pictured, pictured
from dolce.web.stops.read.picture_steps import PictureSteps
from dolce.words.curve_findings import FindingRow, finding_rows

# Views by the question that they answer.
QUESTIONS: tuple[tuple[str, tuple[tuple[str, str], ...]], ...] = (
    ("How loud", (("level", "Level"), ("seats", "Seats"))),
    (
        "When",
        (("phase", "Phase"), ("delay", "Delay"), ("impulse", "Impulse"), ("step", "Step"), ("early", "Reflections")),
    ),
    ("How long", (("energy", "Energy"), ("slices", "Slices"), ("map", "Map"), ("times", "Decay"))),
    ("How clean", (("distortion", "Distortion"), ("noise", "Noise"))),
)
TITLES = {key: title for _, views in QUESTIONS for key, title in views}
SMOOTHING_WORDS = {
    "none": "none",
    "1/48": "1/48 octave",
    "1/24": "1/24 octave",
    "1/12": "1/12 octave",
    "1/6": "1/6 octave",
    "1/3": "1/3 octave",
    "finer below": "fine below, wide above",
    "auditory": "as the ear's bands",
}

_MOST_IN_PAIRS = 4


@dataclass(frozen=True, slots=True, kw_only=True)
class SpotFigures:
    """Spread over the spots, and what one more would change below 300 Hz."""

    channel: str
    count: int
    spread_db: float
    another_db: float

    @property
    def advice(self) -> str:
        """What follows from it, in words."""
        match advice_of(self.another_db, self.count):
            case "more":
                return f"more spots pay, about {spots_for(self.another_db, self.count)}"
            case "fewer would do":
                return "fewer would do"
            case "enough":
                return "these are enough"


@dataclass(frozen=True, slots=True, kw_only=True)
class ReadPage:
    """Plots with their names; the first is alone unless each channel has its own."""

    view: ReadView
    plots: tuple[tuple[str, dict], ...]
    difference: dict | None
    scale: Scale | None

    @classmethod
    def of(cls, view: ReadView, kept: Scale | None) -> "ReadPage":
        if view.options.view == "seats":
            return cls(view=view, plots=tuple(("", plot) for plot in _seat_plots(view)), difference=None, scale=None)
        if view.options.view == "early":
            plot = early_plot(view)
            return cls(view=view, plots=(("", plot),) if plot else (), difference=None, scale=None)
        if view.options.of_one_take:
            return cls(view=view, plots=detail_plots(view), difference=None, scale=None)
        found = level_plots(view, kept)
        if found is None:
            return cls(view=view, plots=(), difference=None, scale=None)
        return cls(view=view, plots=found.plots, difference=found.difference, scale=found.scale)

    @property
    def title(self) -> str:
        return TITLES[self.view.options.view]

    @property
    def applied(self) -> list[str]:
        """What was done to what is shown: it stands at the plot."""
        options, words = self.view.options, []
        if options.view in ("map", "slices") and len(self.view.details) == 1:
            words.append(take_name(self.view, self.view.details[0]))
        if options.window == "direct" and options.view in ("level", "phase", "delay", "impulse", "step"):
            lowest = f"{known_from_hz(options.gate_ms):.0f} Hz"
            words.append(f"direct sound alone, {options.gate_ms:g} ms, tells nothing below {lowest}")
        elif options.window == "cycles" and options.view == "level":
            words.append(f"window of {options.cycles:g} cycles")
        smoothed = options.view == "delay" or (options.view == "level" and options.window != "cycles")
        if smoothed:
            words.append(
                "not smoothed"
                if options.smoothing == "none" and options.view == "level"
                else f"smoothed {SMOOTHING_WORDS['1/48' if options.smoothing == 'none' else options.smoothing]}"
            )
        words += {
            "phase": [f"{options.phase}, from the arrival"],
            "delay": ["from the arrival"],
            "impulse": ["0 ms is the arrival"],
            "step": ["0 ms is the arrival"],
            "early": ["1 to 8 kHz, 0 dB is the direct sound"],
            "energy": [
                "0 dB is the strongest, 0 ms the arrival",
                *(["mean of 2 ms"] if len(self.view.details) > MOST_FINE else []),
            ],
            "slices": ["what is still to come so long after the arrival, 1/24 octave"],
            "map": [f"{options.map_cycles:g} cycles" if options.map_kind == "cycles" else f"{options.map_ms:g} ms"],
            "times": ["1/3-octave bands, filtered backwards; hollow: not to be relied on"],
            "distortion": ["against the fundamental, 1/12 octave"],
            "noise": ["1/3-octave bands, noise as the window lets it pass"],
            "seats": ["1/12 octave, mean of each seat's spots"],
        }.get(options.view, [])
        if options.view == "level" and options.window == "whole":
            words.append(
                {"at": f"all at 0 dB at {options.level_hz:g} Hz", "band": "all at 0 dB, 500 Hz to 2 kHz"}.get(
                    options.levelled,
                    "dB SPL of the sweep"
                    if self.view.job.rig.levels.response_spl_db is not None
                    else "0 dB is the level of the sweep",
                )
            )
        return words

    @property
    def groups(self) -> list[tuple[str, list[str]]]:
        """Groups of the layout with more than one group, and their channels."""
        groups: dict[str, list[str]] = {}
        for feed in self.view.job.feeds:
            groups.setdefault(feed.group, []).append(feed.code)
        return list(groups.items())

    @property
    def places(self) -> list[tuple[str, str]]:
        """What can be chosen as a place: all seats, each, and each spot."""
        plan = self.view.job.plan
        seats = [
            (f"seat-{s.id}", f"{s.name}, {len(plan.spots_of(s.id))} spots") for s in plan.seats if plan.spots_of(s.id)
        ]
        single = self.view.options.of_one_take and not self.view.options.averaged
        usual = "main seat, centre" if single else "all seats, average"
        return [
            ("", usual),
            *(seats if len(seats) > 1 else []),
            *((f"spot-{s.id}", f"spot {s.number}, {plan.belongs_to(s)}") for s in plan.spots),
        ]

    @property
    def spots(self) -> list[SpotFigures]:
        """What the spots of each channel say together, where there are several."""
        return [
            SpotFigures(
                channel=c.channel,
                count=len(c.takes),
                spread_db=self.view.bass_spread_db(c),
                another_db=self.view.another_spot_db(c),
            )
            for c in self.view.curves
            if len(c.takes) > 1
        ]

    @property
    def findings(self) -> list[FindingRow]:
        return finding_rows(self.view.findings)

    @property
    def plot_height(self) -> int:
        """Of each of several plots, pixels: up to four stand in pairs."""
        return 250 if self.in_pairs else 122

    @property
    def in_pairs(self) -> bool:
        return 1 < len(self.plots) <= _MOST_IN_PAIRS

    @property
    def picture(self) -> tuple[Pictured, ...]:
        return pictured(self.view)

    @property
    def address(self) -> str:
        return address_of(self.view.options)

    @property
    def can_move(self) -> bool:
        """Whether a move of the channel in front can be predicted here: one loudspeaker, its whole levels."""
        options, front = self.view.options, self.view.front
        return (
            options.view == "level"
            and not options.of_one_take
            and options.layout == "one"
            and front in self.view.job.channels
            and front in self.view.chosen.curves
            and can_be_moved(front)
        )

    @property
    def early(self) -> list[SeatRows]:
        return seat_rows(self.view)

    @property
    def drawings(self) -> tuple[RoomDrawing, RoomDrawing] | None:
        return room_drawings(self.view)

    @property
    def steps(self) -> PictureSteps:
        """Addresses of what can be done with the picture."""
        return PictureSteps(self.view)

    @property
    def faults(self) -> list[str]:
        """Why takes can't show what is asked; which of several, where there are."""
        details = self.view.details
        return [
            f"{take_name(self.view, detail)}: {detail.fault}" if len(details) > 1 else detail.fault
            for detail in details
            if detail.fault
        ]


def _seat_plots(view: ReadView) -> list[dict]:
    """The bass at each seat of the first row of each table: the one in front, or all subs together."""
    plots, (shift, unit) = [], pressure(view)
    for table in view.seats:
        row = front_row(view, table)
        if row is None:
            continue
        curves = [
            {
                "label": name,
                "channel": row.channels[0],
                "state": f"seat seat-{k}",
                "note": "",
                "y": np.round(level + shift, 1).tolist(),
            }
            for k, (name, level) in enumerate(zip(table.seats, row.by_seat_db, strict=True))
        ]
        plots.append(
            frequency_plot(
                np.round(BASS_HZ, 1).tolist(),
                curves,
                x_range=(20, 200),
                unit=unit,
                y_range=fitting([c["y"] for c in curves], None),
            )
        )
    return plots


def front_row(view: ReadView, table: SeatTable) -> SeatRow | None:
    """The row whose seats are drawn: the channel in front where one was chosen, else all subs together."""
    if not table.rows:
        return None
    if view.options.front:
        return next((row for row in table.rows if row.channels == (view.options.front,)), table.rows[0])
    return max(table.rows, key=lambda row: (len(row.channels), row.channels[0] in SUB_CODES))


def together(row: SeatRow) -> str:
    """What sounds in a row of the table."""
    if not row.computed:
        return name_of(row.channels[0]) + (", measured" if JOINED in row.channels[0] else "")
    return " + ".join(row.channels)
