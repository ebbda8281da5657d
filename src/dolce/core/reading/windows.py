"""Parts of a response: the direct sound alone, or so many cycles at every frequency."""

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import within
from dolce.core.dsp import power_db, raised_cosine
from dolce.core.response import ImpulseResponse

GATE_MS = (0.5, 200.0)
CYCLES = (1.0, 50.0)
_AHEAD_S = 0.0005


def direct_sound(response: ImpulseResponse, *, arrival_s: float, gate_ms: float) -> ImpulseResponse:
    """The response up to `gate_ms` after the arrival, the last half of it faded out by a half cosine.

    Below about one cycle of the gate (200 Hz for 5 ms) it tells nothing: `known_from_hz`.

    Raises
    ------
    InvalidValue
        Outside 0.5 to 200 ms.
    """
    within(gate_ms, low=GATE_MS[0], high=GATE_MS[1], where="gate", unit="ms")
    time = response.time_s - arrival_s
    gate_s = gate_ms / 1000
    window = raised_cosine((time + 2 * _AHEAD_S) / _AHEAD_S) * raised_cosine((gate_s - time) / (gate_s / 2))
    return ImpulseResponse(
        sample=response.sample * window, sample_rate_hz=response.sample_rate_hz, start_s=response.start_s
    )


def known_from_hz(gate_ms: float) -> float:
    """The lowest frequency of which a gate lets one cycle pass."""
    return 1000 / gate_ms


def level_of_cycles_db(response: ImpulseResponse, *, at_hz: NDArray, arrival_s: float, cycles: float) -> NDArray:
    """Level through a window that lasts so many cycles at each frequency, shape (wanted,).

    A Hann window, its middle at the arrival, its right half `cycles` long: early sound counts fully, later sound ever
    less, and the same number of cycles at every frequency, much as an ear that resolves time finer the higher it
    listens. By definition: |sum h(t) w(t f / cycles) exp(-2 pi i f t)|.

    Raises
    ------
    InvalidValue
        Outside 1 to 50 cycles.
    """
    within(cycles, low=CYCLES[0], high=CYCLES[1], where="cycles", unit="cycles")
    time = response.time_s - arrival_s
    power = np.empty(at_hz.size)
    for k, frequency in enumerate(at_hz):
        half_s = cycles / frequency
        first, last = np.searchsorted(time, [-half_s, half_s])
        part = time[first:last]
        window = raised_cosine(1 - np.abs(part) / half_s)
        total = np.sum(response.sample[first:last] * window * np.exp(-2j * np.pi * frequency * part))
        power[k] = total.real**2 + total.imag**2
    return power_db(power)
