"""What the Room page shows: both drawings, the picked thing, and the sheet beside them."""

from dataclasses import dataclass

import numpy as np

from dolce.core.geometry import Point
from dolce.core.room import Arrangement, RoomPlan, SpotWarning, label_of, place_of, reference_of
from dolce.core.room.findings import MATTERS, cancellation_weights
from dolce.errors import NotFound
from dolce.services.room.room_planning import RoomView
from dolce.services.room.room_studies import ModesView, SubStudy
from dolce.web.shared.numbers import whole_of
from dolce.web.shared.plot_data import bass_plot, range_around
from dolce.web.stops.room.drawing import Drawing, from_above, from_the_side, mode_shades
from dolce.words.numbers import length
from dolce.words.room_findings import FindingWords, words_of

SHEETS = {
    "places": "Places",
    "spots": "Seats and spots",
    "findings": "Findings",
    "modes": "Modes",
    "subs": "Subs",
    "more": "Shape, files",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class SightRow:
    """One speaker from one seat, or one row of the table of places."""

    name: str
    distance_m: float
    azimuth_deg: float
    elevation_deg: float
    arrival_ms: float
    level_db: float
    reference: str
    outside: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class NotchRow:
    """One boundary's cancellation at the main seat, and what it was before a move."""

    boundary: str
    frequency_hz: float
    depth_db: float
    before_hz: float | None
    matters: bool


@dataclass(frozen=True, slots=True, kw_only=True)
class Picked:
    """The thing chosen on the plan."""

    key: str
    kind: str
    title: str
    place: Point
    sights: tuple[SightRow, ...] = ()
    notches: tuple[NotchRow, ...] = ()
    warnings: tuple[str, ...] = ()
    moved_m: float | None = None


@dataclass(frozen=True, slots=True, kw_only=True)
class RoomPage:
    """Everything that the templates need."""

    view: RoomView
    sheet: str
    above: Drawing | None
    side: Drawing | None
    picked: Picked | None
    rows: dict[str, SightRow]
    findings: tuple[FindingWords, ...]
    small: tuple[FindingWords, ...]
    small_count: int
    dismissed: tuple[tuple[FindingWords, str], ...]
    returned: dict[str, str]
    warnings: tuple[str, ...]

    @classmethod
    def of(
        cls,
        view: RoomView,
        *,
        sheet: str,
        pick: str,
        modes: ModesView | None = None,
        mode: int | None = None,
        study: SubStudy | None = None,
    ) -> "RoomPage":
        plan, units = view.plan, view.job.units
        shades = (
            ()
            if modes is None or mode is None
            else mode_shades(plan, modes.modes, mode, scale_to_box=modes.box.scale, height_m=plan.main_seat.place.z_m)
        )
        return cls._built(
            view,
            sheet=sheet,
            pick=pick,
            small=sheet == "findings",
            above=from_above(
                plan,
                units=units,
                ghosts=view.ghosts,
                pick=pick,
                shades=shades,
                marks=_candidate_marks(study) if study else (),
            ),
            side=from_the_side(plan, ghosts=view.ghosts),
        )

    @classmethod
    def while_moving(cls, view: RoomView, *, sheet: str, pick: str) -> "RoomPage":
        """What follows while something is dragged: neither drawings nor the findings that stand folded away."""
        return cls._built(view, sheet=sheet, pick=pick, small=False, above=None, side=None)

    @classmethod
    def _built(
        cls, view: RoomView, *, sheet: str, pick: str, small: bool, above: Drawing | None, side: Drawing | None
    ) -> "RoomPage":
        plan, units, found = view.plan, view.job.units, view.findings
        return cls(
            view=view,
            sheet=sheet,
            picked=picked_of(view, pick),
            above=above,
            side=side,
            rows=_rows(view),
            findings=tuple(words_of(f, plan, units) for f in found.first),
            small=tuple(words_of(f, plan, units) for f in found.small) if small else (),
            small_count=len(found.small),
            dismissed=tuple((words_of(f, plan, units), d.reason) for f, d in found.dismissed),
            returned={key: d.reason for key, d in found.returned.items()},
            warnings=tuple(warning_words(w, units) for w in view.warnings),
        )


def picked_of(view: RoomView, pick: str) -> Picked | None:
    """The chosen thing with what is known of it; None for nothing, or for what is gone."""
    plan = view.plan
    try:
        place, title = place_of(plan, pick), label_of(plan, pick)
    except NotFound:
        return None
    kind = pick.partition("-")[0]
    before = view.ghosts.get(pick)
    by = None if before is None else float(np.linalg.norm(place.as_array() - before.as_array()))
    if kind in ("seat", "box", "corner", "spot"):
        spot = plan.spot(whole_of(pick.partition("-")[2]) or 0).number if kind == "spot" else 0
        warnings = tuple(warning_words(w, view.job.units) for w in view.warnings if w.spot == spot and spot)
        return Picked(
            key=pick,
            kind=kind,
            title=title if kind == "seat" else title.capitalize(),
            place=place,
            warnings=warnings,
            moved_m=by,
        )
    k = plan.channels.index(pick)
    return Picked(
        key=pick,
        kind="speaker",
        title=plan.speaker(pick).title,
        place=place,
        moved_m=by,
        sights=tuple(_sight(view, k, t, seat.name) for t, seat in enumerate(plan.seats)),
        notches=_notches(view, k),
    )


def _candidate_marks(study: SubStudy) -> list[tuple[str, str, Point]]:
    """Numbered candidates, with the best arrangement's among them and those left out told apart."""
    best = study.ranking.best[0].candidates if study.ranking else ()
    kinds = dict.fromkeys(study.options.without, "left-out") | dict.fromkeys(best, "best")
    return [(str(c.number), kinds.get(c.number, "candidate"), c.place) for c in study.candidates]


def _rows(view: RoomView) -> dict[str, SightRow]:
    """Every speaker from the main seat, by channel."""
    main = view.plan.seats.index(view.plan.main_seat)
    return {s.channel: _sight(view, k, main, s.channel) for k, s in enumerate(view.plan.speakers)}


def _sight(view: RoomView, k: int, t: int, name: str) -> SightRow:
    speaker, sights = view.plan.speakers[k], view.sights
    reference = None if speaker.is_sub else reference_of(view.plan.layout, speaker.channel)
    azimuth = float(sights.azimuth_deg[k, t])
    text, outside = "", False
    if reference is not None:
        low, high = reference.azimuth_range_deg
        outside = not low - 0.25 <= azimuth <= high + 0.25
        near, far = sorted((abs(low), abs(high)))
        text = f"{'0' if low < 0 < high else f'{near:g}'}–{far:g}°"
    return SightRow(
        name=name,
        distance_m=float(sights.distance_m[k, t]),
        azimuth_deg=azimuth,
        elevation_deg=float(sights.elevation_deg[k, t]),
        arrival_ms=float(sights.arrival_s[k, t]) * 1000,
        level_db=float(sights.level_db[k, t]),
        reference=text,
        outside=outside,
    )


def _notches(view: RoomView, k: int) -> tuple[NotchRow, ...]:
    """Cancellations of one speaker at the main seat, from low to high."""
    main = view.plan.seats.index(view.plan.main_seat)
    now, before = view.reflections, view.reflections_before
    weights = cancellation_weights(view.plan, now)[:, k, main]
    rows = []
    for b, boundary in enumerate(now.boundaries):
        frequency = float(now.cancellations.frequency_hz[b, k, main])
        depth = float(now.cancellations.depth_db[b, k, main])
        if not np.isfinite(frequency) or frequency > 2000:
            continue
        was = None if before is None else float(before.cancellations.frequency_hz[b, k, main])
        changed = was is not None and np.isfinite(was) and abs(was / frequency - 1) > 0.004
        rows.append(
            NotchRow(
                boundary=boundary,
                frequency_hz=frequency,
                depth_db=depth,
                before_hz=was if changed else None,
                matters=bool(weights[b] >= MATTERS),
            )
        )
    return tuple(sorted(rows, key=lambda row: row.frequency_hz))


def warning_words(warning: SpotWarning, units: str) -> str:
    """A warning about a spot in one line."""
    found, limit = length(warning.found_m, units), length(warning.limit_m, units)
    if warning.kind == "wall":
        return f"Spot {warning.spot} is {found} from the {warning.about}; {limit} is common practice."
    if warning.kind == "speaker":
        return f"Spot {warning.spot} is {found} from {warning.about}; {limit} is common practice."
    if warning.kind == "not close":
        return f"Spot {warning.spot} is {found} from {warning.about}; close means 2.5 cm to 1 m."
    return (
        f"{warning.about} is {found} from the main seat: a correction of its own would serve it better than a "
        "shared one."
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class ModeRow:
    """One mode in the list."""

    number: int
    frequency_hz: float
    orders: str
    kind: str
    at_seat: int
    drive: tuple[float, ...]
    null: bool


def mode_rows(modes: ModesView, plan: RoomPlan, seat_id: int) -> tuple[ModeRow, ...]:
    """All modes with how loud they are at a seat (percent) and how strongly each speaker drives them there."""
    t = [s.id for s in plan.seats].index(seat_id)
    kinds = modes.modes.kind
    return tuple(
        ModeRow(
            number=n,
            frequency_hz=float(f),
            orders=" ".join(map(str, o)),
            kind=kinds[n],
            at_seat=round(100 * abs(modes.at_seats[t, n])),
            null=abs(modes.at_seats[t, n]) < 0.2,
            drive=tuple(float(d) for d in modes.drive_db[:, t, n]),
        )
        for n, (f, o) in enumerate(zip(modes.modes.frequency_hz, modes.modes.orders, strict=True))
    )


def sub_plot(study: SubStudy, arrangement: Arrangement, plan: RoomPlan) -> dict:
    """Curves per seat, 20-120 Hz, over a range of levels that both plots share."""
    ranking = study.ranking
    if ranking is None:
        raise ValueError("a study without a ranking has nothing to plot.")
    shown = [a for a in (ranking.present, *ranking.best[:1]) if a is not None]
    highest = max(float(a.level_db.max()) for a in shown)
    seats = [s for s in plan.seats if s.weight > 0]
    return bass_plot(
        ranking.frequency_hz,
        [
            {
                "label": s.name,
                "channel": f"seat{k % 6 + 1}",
                "state": "after" if s.is_main else "before",
                "quiet": True,
                "y": np.round(arrangement.level_db[k], 2).tolist(),
            }
            for k, s in enumerate(seats)
        ],
        y_range=range_around(highest, least_db=40.0),
    )
