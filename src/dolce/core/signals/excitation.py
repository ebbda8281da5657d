"""What a take is made with: a sweep, or a signal that repeats; and as plain values, to be kept with the take."""

import dataclasses
from collections.abc import Callable, Mapping
from functools import partial
from typing import Any, Literal

from dolce.core.signals.periodic import PeriodicSignal
from dolce.core.signals.sweep import Sweep
from dolce.errors import InvalidValue

SignalKind = Literal["sweep", "sequence", "pink"]
SIGNAL_KINDS: dict[SignalKind, str] = {
    "sweep": "Logarithmic sweep",
    "sequence": "Maximum length sequence",
    "pink": "Periodic pink noise",
}
Excitation = Sweep | PeriodicSignal


def excitation(
    kind: SignalKind, *, start_hz: float, stop_hz: float, duration_s: float, sample_rate_hz: int, level_dbfs: float
) -> Excitation:
    """A test signal of a kind over a range.

    Raises
    ------
    InvalidValue
        If there is no such kind, or its values can't be.
    """
    make: Callable[..., Excitation] = Sweep if kind == "sweep" else partial(PeriodicSignal, kind=kind)
    return make(
        start_hz=start_hz, stop_hz=stop_hz, duration_s=duration_s, sample_rate_hz=sample_rate_hz, level_dbfs=level_dbfs
    )


def kind_of(signal: Excitation) -> SignalKind:
    """Which of `SIGNAL_KINDS` it is."""
    return "sweep" if isinstance(signal, Sweep) else signal.kind


# Kept with the values of a signal that was played behind a sync chirp.
SYNC_FLIGHT, SYNC_CODE = "sync_flight_s", "sync_code"


def excitation_values(signal: Excitation) -> dict[str, Any]:
    """As plain values; those of a sweep bear no kind, as older versions kept them."""
    return dataclasses.asdict(signal)


def excitation_of(values: Mapping[str, Any]) -> Excitation:
    """The test signal of plain values; errors as for `excitation`. What is kept of its sync chirp beside them is left
    out."""
    try:
        return excitation(
            values.get("kind", "sweep"),
            **{name: value for name, value in values.items() if name not in ("kind", SYNC_FLIGHT, SYNC_CODE)},
        )
    except TypeError as error:
        raise InvalidValue("these are no values of a test signal.", where="test signal") from error
