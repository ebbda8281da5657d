"""Numbers as people read them, with units; the only place that rounds for show."""

import math
from datetime import datetime


def length(metres: float, units: str, *, digits: int = 2) -> str:
    """A length with its unit: 2.31 m, or 7' 6.9" in feet and inches."""
    return feet_and_inches(metres) if units == "feet" else f"{metres:.{digits}f} m"


def length_number(metres: float, units: str, *, digits: int = 2) -> str:
    """A length as it is typed: metres without their unit, or feet and inches."""
    return feet_and_inches(metres) if units == "feet" else f"{metres:.{digits}f}"


def feet_and_inches(metres: float) -> str:
    """To a tenth of an inch, as 7' 6.9\" or 3.5\"."""
    tenths = round(abs(metres) / 0.0254 * 10)
    feet, rest = divmod(tenths, 120)
    sign = "−" if metres < 0 and tenths else ""
    return f"{sign}{feet}' {rest / 10:g}\"" if feet else f'{sign}{rest / 10:g}"'


def signed(value: float, digits: int = 1) -> str:
    """A number with its sign, as +1.3, −0.4 or 0.0."""
    text = f"{abs(value):.{digits}f}"
    if float(text) == 0:
        return text
    return ("+" if value > 0 else "−") + text


def hertz(value: float) -> str:
    """A frequency with its unit, in three digits: 41.2 Hz, 125 Hz, 1.25 kHz, 12.5 kHz."""
    number, unit = (value / 1000, "kHz") if value >= 999.5 else (value, "Hz")
    digits = 2 if number < 10 and unit == "kHz" else 1 if number < 100 else 0
    text = f"{number:.{digits}f}"
    return f"{text.rstrip('0').rstrip('.') if digits else text} {unit}"


def short_hertz(value: float) -> str:
    """A frequency as it stands at an axis: 50, 1k."""
    return f"{value / 1000:g}k" if value >= 1000 else f"{value:g}"


def plain(value: float) -> str:
    """A number for an input field, without needless zeros."""
    return f"{value:.10g}"


def moment(value: datetime) -> str:
    return value.strftime("%d %b %Y, %H:%M")


def duration(seconds: float) -> str:
    """Seconds as "40 s" or "2 min 10 s"."""
    whole = round(seconds)
    return f"{whole} s" if whole < 90 else f"{whole // 60} min {whole % 60:02d} s"


def decibel(value: complex) -> str:
    """An amplitude ratio as a signed level, as +0.8."""
    return signed(20 * math.log10(max(abs(value), 1e-9)))
