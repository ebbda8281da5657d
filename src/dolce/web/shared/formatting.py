"""What templates format with."""

from collections.abc import Iterable

from flask import Flask

from dolce.core.job import label_of
from dolce.words.numbers import decibel, duration, hertz, length, length_number, moment, plain, signed


def paired_self(key: str) -> tuple[str, str]:
    """A key that stands for itself, for the options of a select."""
    return key, key


def zip_lines(frequency_hz: Iterable[float], level_db: Iterable[float]) -> str:
    """Points as they are typed: a frequency and a level a line."""
    return "\n".join(f"{plain(f)} {plain(level)}" for f, level in zip(frequency_hz, level_db, strict=True))


def paired_label(code: str) -> tuple[str, str]:
    """A row's code with what people call it, for the options of a select."""
    return code, label_of(code)


def paired(keys: Iterable, texts: Iterable) -> list[tuple]:
    """Keys with their texts, for the options of a select."""
    return list(zip(keys, texts, strict=True))


def register(app: Flask) -> None:
    """Offer them to the templates."""
    app.jinja_env.filters.update(
        signed=signed,
        hertz=hertz,
        plain=plain,
        moment=moment,
        duration=duration,
        paired=paired,
        paired_self=paired_self,
        paired_label=paired_label,
        decibel=decibel,
        row_label=label_of,
        zip_lines=zip_lines,
    )
    app.jinja_env.globals.update(length=length, length_number=length_number)
