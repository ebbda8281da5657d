"""Simulated measurement microphones, and the hand that places them."""

import hashlib
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from dolce.core.geometry import Point, RoomSize
from dolce.core.response import MicrophoneCurve

# Side-on sound misses the pressure rise before the capsule: the curve for 90 degrees has this less from 10 kHz on.
SIDE_ON_DB = 1.8
PLACED_WITHIN_M = 0.02  # of where it was to be

MICROPHONE_CURVE = MicrophoneCurve(
    frequency_hz=np.array([10, 20, 40, 100, 500, 1000, 2000, 4000, 6300, 8000, 10000, 12500, 16000, 20000, 24000.0]),
    level_db=np.array([-2.4, -1.1, -0.4, -0.1, 0, 0, 0.1, 0.4, 0.9, 1.3, 2.0, 2.6, 2.1, 0.4, -1.5]),
    phase_deg=np.zeros(15),
)
SIDE_ON_CURVE = MicrophoneCurve(
    frequency_hz=MICROPHONE_CURVE.frequency_hz,
    phase_deg=MICROPHONE_CURVE.phase_deg,
    level_db=MICROPHONE_CURVE.level_db - SIDE_ON_DB * np.clip(np.log2(MICROPHONE_CURVE.frequency_hz / 2500) / 2, 0, 1),
)

# Several microphones are never alike: gain and a tilt above 2 kHz of the second, third ... against the first, dB.
_OTHERS_DB = ((0.0, 0.0), (0.8, 0.6), (-1.1, -0.4), (0.4, 1.0))
_FAULT_DB = 5.0  # of another microphone: a rise above 4 kHz that the curve knows nothing of


def microphone_response(frequency_hz: NDArray, *, number: int, pointing: str, another: bool) -> NDArray[np.complex128]:
    """Of microphone `number`, 0 being the first; `another` is one that its curve does not belong to."""
    own_db, tilt_db = _OTHERS_DB[number % len(_OTHERS_DB)]
    top = np.clip(np.log2(np.maximum(frequency_hz, 1) / 2000) / 3, 0, 1)
    curve = MICROPHONE_CURVE if pointing == "speakers" else SIDE_ON_CURVE
    response = 10 ** ((own_db + tilt_db * top) / 20) * curve.on(frequency_hz)
    if another:
        response = response * 10 ** (_FAULT_DB / 20 / (1 + (4000 / np.maximum(frequency_hz, 1)) ** 4))
    return response


def as_placed(place: Point, *, seed: str, room: RoomSize) -> Point:
    """Where a microphone ends up that a hand puts at a place: up to 2 cm off, evenly over a ball."""
    rng = random_of(f"placing/{seed}/{place}")
    direction = rng.standard_normal(3)
    off = direction / np.linalg.norm(direction) * PLACED_WITHIN_M * rng.random() ** (1 / 3)
    return replace(
        place,
        x_m=float(np.clip(place.x_m + off[0], 0.001, room.width_m - 0.001)),
        y_m=float(np.clip(place.y_m + off[1], 0.001, room.length_m - 0.001)),
        z_m=float(np.clip(place.z_m + off[2], 0.001, room.height_m - 0.001)),
    )


def random_of(words: str) -> np.random.Generator:
    """The same words give the same numbers."""
    return np.random.default_rng(int.from_bytes(hashlib.sha256(words.encode()).digest()[:8], "big"))
