"""The address of the Read stop: text to options, and back."""

from werkzeug.datastructures import MultiDict

from dolce.errors import InvalidValue
from dolce.services.read.options import Place, ReadOptions
from dolce.web.shared.numbers import number_of, whole_of

# Names in the address, beside the fields of the options that they stand for.
_TEXTS = {
    "front": "front",
    "vs_channel": "against_channel",
    "view": "view",
    "layout": "layout",
    "smoothing": "smoothing",
    "window": "window",
    "levelled": "levelled",
    "phase": "phase",
    "map": "map_kind",
    "over": "over",
}
_NUMBERS = {
    "gate": "gate_ms",
    "cycles": "cycles",
    "level_at": "level_hz",
    "map_cycles": "map_cycles",
    "map_ms": "map_ms",
}


def options_of(args: MultiDict) -> ReadOptions:
    """What an address asks for; what it leaves out is as usual.

    Raises
    ------
    InvalidValue
        Naming the field.
    """
    values: dict = {field: args[name] for name, field in _TEXTS.items() if args.get(name)}
    for name, field in _NUMBERS.items():
        if args.get(name, "").strip():
            number = number_of(args[name])
            if number is None:
                raise InvalidValue(
                    f"{args[name][:20]!r} is not a number.", where=name.replace("_", " "), remedy="Give a number."
                )
            values[field] = number
    against = args.get("vs_place", "same")
    return ReadOptions(
        round_id=whole_of(args.get("round")),
        channels=tuple(args.getlist("channel")),
        place=Place.of(args.get("place", "")),
        against_round=whole_of(args.get("vs_round")),
        against_job=whole_of(args.get("vs_job")),
        against_place=None if against == "same" else Place.of(against),
        **values,
    )


def scale_of(args: MultiDict) -> tuple[float, float] | None:
    """The scale that the page had: bottom and top, kept until somebody asks for another."""
    parts = args.get("scale", "").split("..")
    ends = [end for end in map(number_of, parts) if end is not None]
    if len(parts) != 2 or len(ends) != 2 or not -400 < ends[0] < ends[1] < 400:
        return None
    return ends[0], ends[1]
