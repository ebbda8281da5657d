"""The plan from above in scale, as numbers for an SVG."""

from dataclasses import dataclass

from dolce.core.geometry import Point
from dolce.services.room_planning import RoomView

_WIDTH, _HEIGHT, _MARGIN = 560.0, 560.0, 34.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Thing:
    """Something on the plan: its key in addresses, label, kind, place in metres and in the drawing."""

    key: str
    label: str
    kind: str
    place: Point
    x: float
    y: float


@dataclass(frozen=True, slots=True, kw_only=True)
class PlanView:
    """The drawing: scale in units per metre, the walls, the things in it and the lines to the speakers."""

    scale: float
    left: float
    top: float
    width: float
    height: float
    drawing_width: float
    drawing_height: float
    things: tuple[Thing, ...]
    metre_marks: tuple[float, ...]

    @classmethod
    def of(cls, view: RoomView, *, highlight: int | None = None) -> "PlanView":
        room = view.job.room
        scale = min((_WIDTH - 2 * _MARGIN) / room.width_m, (_HEIGHT - 2 * _MARGIN) / room.length_m)
        left = _MARGIN

        def thing(key: str, label: str, kind: str, place: Point) -> Thing:
            return Thing(key=key, label=label, kind=kind, place=place, x=left + place.x_m * scale,
                         y=_MARGIN + place.y_m * scale)

        things = [thing("seat", view.job.seat.name, "seat", view.job.seat.place)]
        things += [thing(f"spot-{s.number}", str(s.number), "spot", s.place) for s in reversed(view.job.spots)]
        things += [thing(s.channel, s.channel, "speaker", s.place) for s in view.job.speakers]
        return cls(scale=scale, left=left, top=_MARGIN, width=room.width_m * scale, height=room.length_m * scale,
                   drawing_width=room.width_m * scale + 2 * _MARGIN,
                   drawing_height=room.length_m * scale + 2 * _MARGIN, things=tuple(things),
                   metre_marks=tuple(_MARGIN + k * scale for k in range(int(room.length_m) + 1)))
