"""Presets, limits and states as they go over the network: plain JSON, documented in docs/processor-protocol.md."""

import base64
import hashlib
import json
from typing import Any, TypeVar

from cattrs.preconf.json import make_converter

from dolce.core.processor import Preset
from dolce.errors import FormatError

PROTOCOL = 1
Value = TypeVar("Value")


def _new_converter() -> Any:
    made = make_converter(detailed_validation=False, forbid_extra_keys=True)
    made.register_unstructure_hook(bytes, lambda data: base64.b64encode(data).decode())
    made.register_structure_hook(bytes, lambda text, _: base64.b64decode(text, validate=True))
    return made


_converter = _new_converter()


def plain(value: Any) -> Any:
    """A value object as plain JSON values; samples of a convolution as base64 of 32-bit little-endian floats."""
    return _converter.unstructure(value)


def value_of(kind: type[Value], values: Any, *, where: str) -> Value:
    """The value object of a kind.

    Raises
    ------
    FormatError
        Where the values can't be those of one.
    """
    try:
        return _converter.structure(values, kind)
    except Exception as error:  # whatever a stranger sends
        raise FormatError(
            f"these are no values of a {kind.__name__}: {str(error)[:200]}",
            where=where,
            remedy="See docs/processor-protocol.md.",
        ) from error


def digest(preset: Preset) -> str:
    """What tells one preset from another; 80 and 80.0 are the same."""
    settled = plain(_converter.structure(plain(preset), Preset))
    return hashlib.blake2b(json.dumps(settled, sort_keys=True).encode(), digest_size=12).hexdigest()
