"""One channel of the Shape stop: plot, band rows, what was left alone."""

from dataclasses import dataclass
from string import ascii_lowercase

from dolce.core.correction import Stretch
from dolce.core.reading import CurveFinding
from dolce.core.tuning import Band, ChannelShape
from dolce.services.shape.reasons import stretch_words
from dolce.services.shape.shaping import ShapeView
from dolce.web.shared.finding_words import FindingRow, finding_rows
from dolce.web.shared.plot_data import curve, response_plot, ribbon

TOP_DB = 15.0


@dataclass(frozen=True, slots=True, kw_only=True)
class BandRow:
    """A band with its letter on the plot."""

    letter: str
    band: Band


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelView:
    """What is shown of one channel."""

    channel: ChannelShape
    plot: dict
    rows: tuple[BandRow, ...]
    left_alone: tuple[tuple[Stretch, str, tuple[FindingRow, ...]], ...]
    explained: tuple[FindingRow, ...]

    @classmethod
    def of(cls, view: ShapeView, name: str, findings: tuple[CurveFinding, ...] = ()) -> "ChannelView":
        """`findings` is what Read makes of the channel's curve."""
        c = view.channels[name]
        limits = view.correction.limits
        said = tuple(row for row in finding_rows(findings) if limits.from_hz <= row.at_hz <= limits.to_hz
                     and row.cause != "unexplained")
        rows = tuple(BandRow(letter=_letter(k), band=band) for k, band in enumerate(c.bands))
        curves = [curve(f"before, {len(view.spots[name])} spots", name, "before", c.before_db),
                  curve("target", name, "target", c.target_db)]
        if c.bands:
            curves.append(curve("predicted", name, "predicted", c.predicted_db))
        marks = [{"x": row.band.filter.frequency_hz, "label": row.letter} for row in rows if row.band.on]
        strip = [{"from": s.from_hz, "to": s.to_hz, "verdict": s.verdict,
                  "label": "outside the range: leave" if s.kind == "outside" else s.verdict,
                  "outside": s.kind == "outside"} for s in c.plan.stretches]
        plot = response_plot(curves=curves, ribbons=[ribbon(name, c.lowest_db, c.highest_db)], top_db=TOP_DB,
                             unit="dB", marks=marks, strip=strip)
        return cls(channel=c, plot=plot, rows=rows, explained=said, left_alone=tuple(
            (s, stretch_words(s), tuple(row for row in said if s.from_hz <= row.at_hz <= s.to_hz))
            for s in c.plan.left_alone))


def _letter(index: int) -> str:
    """a, b ... z, aa, ab ..."""
    return ascii_lowercase[index] if index < 26 else "a" + ascii_lowercase[index - 26]
