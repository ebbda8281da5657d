"""The address of the Read stop: text to options, and back."""

from dataclasses import fields
from urllib.parse import urlencode

from werkzeug.datastructures import MultiDict

from dolce.errors import InvalidValue
from dolce.services.read.options import Compared, Place, ReadOptions
from dolce.web.shared.numbers import number_of, whole_of

# Names in the address, beside the fields of the options that they stand for.
_TEXTS = {
    "front": "front",
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
    "early_ms": "early_ms",
    "early_db": "early_db",
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
    difference = args.get("minus", "")
    if difference:
        values["difference_to"] = whole_of(difference)
    compared = [Compared.of(text) for text in args.getlist("with")]
    return ReadOptions(
        round_id=whole_of(args.get("round")),
        channels=tuple(args.getlist("channel")),
        place=Place.of(args.get("place", "")),
        compared=(*compared, *_against(args)),
        **values,
    )


def _against(args: MultiDict) -> list[Compared]:
    """The one curve that selections of earlier versions hold theirs against."""
    place = args.get("vs_place", "same")
    against = Compared(
        job_id=whole_of(args.get("vs_job")),
        round_id=whole_of(args.get("vs_round")),
        place=None if place == "same" else Place.of(place),
        channel=args.get("vs_channel", ""),
    )
    return [] if against == Compared() else [against]


def added_of(args: MultiDict) -> Compared:
    """The curve that the lists under those of the picture name."""
    place = args.get("add_place", "same")
    return Compared(
        job_id=whole_of(args.get("add_job")),
        round_id=whole_of(args.get("add_round")),
        place=None if place == "same" else Place.of(place),
        channel=args.get("add_channel", ""),
    )


def address_of(options: ReadOptions) -> str:
    """The address that asks for these options; what is as usual is left out."""
    usual = ReadOptions()
    named = {field: name for name, field in (*_TEXTS.items(), *_NUMBERS.items())}
    asked: list[tuple[str, object]] = [("channel", channel) for channel in options.channels]
    if options.round_id is not None:
        asked.append(("round", options.round_id))
    if str(options.place):
        asked.append(("place", options.place))
    for field in fields(options):
        value = getattr(options, field.name)
        if field.name in named and value != getattr(usual, field.name):
            asked.append((named[field.name], f"{value:.10g}" if isinstance(value, float) else value))
    asked += [("with", one) for one in options.compared]
    if options.difference_to != usual.difference_to:
        asked.append(("minus", "none" if options.difference_to is None else options.difference_to))
    return urlencode([(name, str(value)) for name, value in asked])


def scale_of(args: MultiDict) -> tuple[float, float] | None:
    """The scale that the page had: bottom and top, kept until somebody asks for another."""
    parts = args.get("scale", "").split("..")
    ends = [end for end in map(number_of, parts) if end is not None]
    if len(parts) != 2 or len(ends) != 2 or not -400 < ends[0] < ends[1] < 400:
        return None
    return ends[0], ends[1]
