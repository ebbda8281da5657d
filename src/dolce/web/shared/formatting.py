"""Numbers as people read them, with units; the only place that rounds for show."""

from collections.abc import Iterable
from datetime import datetime

from flask import Flask

from dolce.web.shared.form_reader import FEET_PER_METRE


def length(metres: float, units: str, *, digits: int = 2) -> str:
    """A length with its unit."""
    return f"{length_number(metres, units, digits=digits)} {'ft' if units == 'feet' else 'm'}"


def length_number(metres: float, units: str, *, digits: int = 2) -> str:
    return f"{metres * FEET_PER_METRE if units == 'feet' else metres:.{digits}f}"


def signed(value: float, digits: int = 1) -> str:
    """A number with its sign, as +1.3, −0.4 or 0.0."""
    text = f"{abs(value):.{digits}f}"
    if float(text) == 0:
        return text
    return ("+" if value > 0 else "−") + text


def hertz(value: float) -> str:
    """A frequency with its unit, in as many digits as matter."""
    if value >= 10_000:
        return f"{value / 1000:.1f} kHz".replace(".0 ", " ")
    if value >= 1000:
        return f"{value / 1000:.2f} kHz".replace("0 kHz", " kHz").replace(". ", " ").replace(".0 ", " ")
    return f"{value:.0f} Hz" if value >= 100 else f"{value:.1f} Hz".replace(".0 ", " ")


def plain(value: float) -> str:
    """A number for an input field, without needless zeros."""
    return f"{value:.10g}"


def moment(value: datetime) -> str:
    return value.strftime("%d %b %Y, %H:%M")


def duration(seconds: float) -> str:
    """Seconds as "40 s" or "2 min 10 s"."""
    whole = round(seconds)
    return f"{whole} s" if whole < 90 else f"{whole // 60} min {whole % 60:02d} s"


def paired(keys: Iterable, texts: Iterable) -> list[tuple]:
    """Keys with their texts, for the options of a select."""
    return list(zip(keys, texts, strict=True))


def register(app: Flask) -> None:
    """Offer them to the templates."""
    app.jinja_env.filters.update(signed=signed, hertz=hertz, plain=plain, moment=moment, duration=duration,
                                 paired=paired)
    app.jinja_env.globals.update(length=length, length_number=length_number)
