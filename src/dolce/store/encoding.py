"""Value objects as plain JSON values and bytes, and back.

Dataclasses become objects with the names of their fields. What an older version left out takes its default.
"""

import hashlib
from typing import Any, get_origin

import numpy as np
from cattrs.preconf.json import make_converter
from numpy.typing import NDArray

from dolce.core.cache import Cache
from dolce.core.geometry import Point

# Values by what they are and the text that they were decoded from.
TextCache = Cache[tuple[str, str], Any]
# What decoding something that was damaged, or cut off, can end in.
UNDECODABLE = (ValueError, TypeError, KeyError, IndexError, AttributeError)


def array_bytes(values: NDArray, *, kind: str) -> bytes:
    """Samples as little-endian bytes of one kind ("<f4", "<f8")."""
    return np.asarray(values, dtype=kind).tobytes()


def bytes_array(data: bytes, *, kind: str) -> NDArray[np.float64]:
    return np.frombuffer(data, dtype=kind).astype(np.float64)


def checksum(*parts: bytes) -> str:
    """What tells whether bytes are still those that were kept."""
    digest = hashlib.blake2b(digest_size=16)
    for part in parts:
        digest.update(part)
    return digest.hexdigest()


def point_values(point: Point) -> list[float]:
    return [point.x_m, point.y_m, point.z_m]


def point_of(values: list[float]) -> Point:
    return Point(x_m=values[0], y_m=values[1], z_m=values[2])


def new_converter() -> Any:
    """A converter for values whose arrays are rows of numbers."""
    made = make_converter(detailed_validation=False, forbid_extra_keys=True)
    made.register_unstructure_hook_func(_is_array, lambda array: np.asarray(array).tolist())
    made.register_structure_hook_func(_is_array, lambda values, _: np.array(values, dtype=np.float64))
    return made


def _is_array(kind: Any) -> bool:
    return kind is np.ndarray or get_origin(kind) is np.ndarray


_converter = new_converter()


def values_of(value: Any) -> Any:
    """A value object as plain values that JSON can hold."""
    return _converter.unstructure(value)


def value_of(kind: type, values: Any, *, converter: Any = _converter) -> Any:
    """The value object of a kind.

    Raises
    ------
    ValueError
        Where the values can't be those of one.
    """
    try:
        return converter.structure(values, kind)
    except Exception as error:  # of any kind: what a damaged file makes of values has no end
        raise ValueError(f"these are no values of a {kind.__name__}: {error}") from error
