"""One channel of the Shape stop: plot, band rows, verdicts, evidence and headroom in words."""

from collections.abc import Sequence
from dataclasses import dataclass
from string import ascii_lowercase

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import Limits, Region, left_with_boosts_db
from dolce.core.reading import CurveFinding
from dolce.core.tuning import Band, ChannelShape, Correction, CorrectionSettings, RegionEvidence
from dolce.services.shape.shaping import ShapeView
from dolce.web.shared.plot_data import TO_CORRECT_DB, curve, response_plot, ribbon
from dolce.words.curve_findings import UNEXPLAINED, FindingRow, finding_rows
from dolce.words.numbers import hertz
from dolce.words.regions import region_words

_MOST_POINTS = 40  # more can't be told apart on the plot; they stay in the table
_NOTHING_DB = -60.0  # before the main arrival: said as nothing


@dataclass(frozen=True, slots=True, kw_only=True)
class BandRow:
    """A band with its letter on the plot."""

    letter: str
    band: Band


@dataclass(frozen=True, slots=True, kw_only=True)
class FewerRow:
    """How much of the deviation a number of filters takes away, as a share of what the best set does."""

    count: int
    share: float
    used: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class BoostRow:
    """A largest boost, and the deviation that is left at spots left out."""

    boost_db: float
    left_db: float
    used: bool


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class ChannelView:
    """What is shown of one channel."""

    channel: ChannelShape
    plot: dict
    rows: tuple[BandRow, ...]
    graphic: tuple[BandRow, ...]
    left_alone: tuple[tuple[Region, str, tuple[FindingRow, ...]], ...]
    explained: tuple[FindingRow, ...]
    range_hz: tuple[float, float]
    fewer: tuple[FewerRow, ...]
    boosts: tuple[BoostRow, ...]
    strong_words: str
    agreed_to_hz: float | None

    @classmethod
    def of(cls, view: ShapeView, c: ChannelShape, findings: tuple[CurveFinding, ...] = ()) -> "ChannelView":
        """`findings` is what Read makes of the channel's curve."""
        name = c.channel
        limits = view.correction.limits_for(name, view.job.limits)
        finding_table = tuple(
            row
            for row in finding_rows(findings)
            if limits.from_hz <= row.at_hz <= limits.to_hz and row.cause != UNEXPLAINED
        )
        rows = tuple(
            BandRow(letter=_letter(k), band=band) for k, band in enumerate(band for band in c.bands if not band.fixed)
        )
        graphic = tuple(
            BandRow(letter="", band=band)
            for band in c.bands
            if band.fixed and (band.filter.gain_db or limits.from_hz <= band.filter.frequency_hz <= limits.to_hz)
        )
        curves = [
            curve(f"before, {len(view.spots)} spots", name, "before", c.before_db),
            curve("target", name, "target", c.target_db),
        ]
        if view.found:
            curves.append(curve("predicted", name, "predicted", c.predicted_db))
        strip = [
            {
                "from": s.from_hz,
                "to": s.to_hz,
                "verdict": s.verdict,
                "outside": s.kind == "outside",
                "at": s.size_hz,
                "overruled": s.kind == "overruled",
                "label": ("outside the range: leave" if s.kind == "outside" else s.verdict)
                + (f", filters {s.applied_db:+.1f} dB".replace("-", "−") if view.found else ""),
            }
            for s in c.plan.regions
        ]
        plot = response_plot(
            curves=curves,
            ribbons=[ribbon(name, c.lowest_db, c.highest_db)],
            range_db=TO_CORRECT_DB,
            unit="dB",
            strip=strip,
        )
        plot["handles"] = [
            {
                "x": row.band.filter.frequency_hz,
                "y": row.band.filter.gain_db if row.band.filter.has_gain else 0.0,
                "q": row.band.filter.q,
                "label": row.letter,
                "id": row.band.id,
                "off": not row.band.on,
                "locked": row.band.locked and not row.band.fixed,
                "fixed": row.band.fixed,
            }
            for row in (
                *rows,
                *(row for row in graphic if limits.from_hz <= row.band.filter.frequency_hz <= limits.to_hz),
            )
        ]
        plot["points"] = _points(view.correction, name)
        return cls(
            channel=c,
            plot=plot,
            rows=rows,
            graphic=graphic,
            explained=finding_table,
            boosts=_boosts(c, limits),
            fewer=_fewer(view, name, len([row for row in rows if not row.band.locked])),
            strong_words=strong_words(rows, c.correction_db, limits.max_boost_db),
            range_hz=c.judged_hz,
            agreed_to_hz=c.agreed_to_hz(limits),
            left_alone=tuple(
                (s, region_words(s), tuple(row for row in finding_table if s.from_hz <= row.at_hz <= s.to_hz))
                for s in c.plan.left_alone
            ),
        )

    @property
    def deviation_words(self) -> str:
        """Before, and as predicted where there are filters."""
        after = (
            f" to {self.channel.predicted_deviation_db:.1f}"
            if self.rows or self.graphic or self.channel.convolution
            else ""
        )
        return f"{self.channel.before_deviation_db:.1f}{after} dB"

    @property
    def far_words(self) -> str:
        """Where the target lies so far from the curve that no filter reaches it; empty else."""
        off = self.channel.target_off_db
        if not self.channel.target_is_far:
            return ""
        return (
            f"The target lies {abs(off):.0f} dB {'above' if off > 0 else 'under'} the curve: no filter reaches it. "
            "Hang it by a band."
        )

    @property
    def before_words(self) -> str:
        """What of a convolution sounds before its main arrival."""
        level = self.channel.sounds_before_db
        if self.channel.convolution is None or level is None:
            return ""
        return "Nothing" if level < _NOTHING_DB else f"Energy at {level:.0f} dB of the whole".replace("-", "−")

    @property
    def headroom_words(self) -> str:
        return f"{self.channel.headroom.gain_db:.1f} dB"

    @property
    def headroom_where(self) -> str:
        """Which region costs it; empty for none."""
        region, gain_db = self.channel.headroom_region, self.channel.headroom.gain_db
        if gain_db < 0.05:
            return ""
        at = f"most at {hertz(self.channel.headroom.at_hz)}"
        return at if region is None else f"{at}, in {hertz(region.from_hz)}–{hertz(region.to_hz)}"


def _points(correction: Correction, channel: str) -> list[dict]:
    """Points of a drawn target as they lie on the plot; `above` is what shelves, tilt and preference add there."""
    drawn = correction.correction_settings(channel).target.curve
    if drawn is None or drawn.kind != "points" or len(drawn.frequency_hz) > _MOST_POINTS:
        return []
    level = correction.target_db(channel, np.array(drawn.frequency_hz))
    return [
        {"number": k, "x": at, "y": float(y), "above": float(y - point_db)}
        for k, (at, point_db, y) in enumerate(zip(drawn.frequency_hz, drawn.level_db, level, strict=True))
    ]


def correction_settings_of(correction: Correction, channel: str) -> CorrectionSettings:
    """What a channel is corrected toward."""
    return correction.correction_settings(channel)


def _fewer(view: ShapeView, channel: str, count: int) -> tuple[FewerRow, ...]:
    """What each number of filters would do; empty where that is not known. `count` is how many are used."""
    found = view.correction.fewer.get(channel, ())
    return tuple(FewerRow(count=number, share=share, used=number == count) for number, share in found)


def _boosts(channel: ChannelShape, limits: Limits) -> tuple[BoostRow, ...]:
    """What each largest boost would leave at spots left out; empty for one spot."""
    return tuple(
        BoostRow(boost_db=boost, left_db=residual, used=boost == limits.max_boost_db)
        for boost, residual in left_with_boosts_db(channel.plan.frequency_hz, channel.needs, limits)
    )


def strong_words(rows: Sequence[BandRow], correction_db: NDArray, largest_boost_db: float) -> str:
    """Which bands alone raise more than all together may; empty where none does, or where their sum does as well."""
    strong = [row for row in rows if row.band.on and row.band.filter.gain_db > largest_boost_db + 0.05]
    if not strong or correction_db.max() > largest_boost_db + 0.1:
        return ""
    named = ", ".join(f"{row.letter} {row.band.filter.gain_db:.1f} dB" for row in strong)
    return f"More than +{largest_boost_db:g} dB alone: {named}. With the cuts beside them the sum stays within."


def evidence_lines(found: RegionEvidence) -> tuple[tuple[str, str], ...]:
    """What speaks for a verdict, as names and values."""
    s = found.region
    lines = [
        ("How big", f"{s.size_db:+.1f} dB at {hertz(s.size_hz)}".replace("-", "−")),
        ("Where", f"at {s.at_spots} of {s.of_spots} spots, {found.seats} of {found.of_seats} seats"),
        ("How alike", f"spots differ by {s.spread_db:.1f} dB (standard deviation)"),
    ]
    if found.is_minimum_phase is not None and found.excess_delay_s is not None:
        lines.append(
            (
                "In time",
                f"{'minimum phase' if found.is_minimum_phase else 'not minimum phase'}, excess delay "
                f"{1000 * found.excess_delay_s:+.1f} ms".replace("-", "−"),
            )
        )
    if found.rings_s is not None:
        lines.append(("Rings", f"{found.rings_s:.2f} s, from its width"))
    if found.least_above_noise_db is not None:
        lines.append(("Above noise", f"{found.least_above_noise_db:.0f} dB at the noisiest spot"))
    if s.gain_db is None:
        lines.append(("Worth elsewhere", "not known: with one spot, none can be left out"))
    else:
        lines.append(("Worth elsewhere", f"deviation {s.before_db:.1f} to {s.left_out_db:.1f} dB at spots left out"))
    return tuple(lines)


def _letter(index: int) -> str:
    """a, b ... z, aa, ab ..."""
    return ascii_lowercase[index % 26] if index < 26 else ascii_lowercase[index // 26 - 1] + ascii_lowercase[index % 26]
