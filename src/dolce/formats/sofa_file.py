"""Impulse responses of a room as AES69 (SOFA): netCDF-4 files of a convention, written and read in memory."""

import math
import threading
from contextlib import closing
from dataclasses import dataclass
from typing import TYPE_CHECKING, Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce import __version__
from dolce.errors import FormatError, InvalidValue

if TYPE_CHECKING:
    import netCDF4

CONVENTION = "SingleRoomSRIR"  # one source, a microphone at several places, a room
_MAGIC = b"\x89HDF\r\n\x1a\n"
_MOST_BYTES = 400_000_000
_MOST_VALUES = 16_000_000  # 128 MB as they are read: 50 places with 1.6 s at 192 kHz
_MOST_WORDS = 10_000  # of text, each of any length
_IN_METRES = {"Type": "cartesian", "Units": "metre"}
# Attributes that the convention demands, and of which nothing is known.
_SAID_BY_NOBODY = [
    "AuthorContact",
    "DatabaseName",
    "EmitterDescription",
    "EmitterShortName",
    "History",
    "ListenerDescription",
    "ListenerShortName",
    "Organization",
    "Origin",
    "ReceiverDescription",
    "ReceiverShortName",
    "References",
    "RoomDescription",
    "RoomLocation",
    "RoomShortName",
    "SourceDescription",
    "SourceShortName",
]
_ONE_AT_A_TIME = threading.Lock()  # so that many files at once need no more memory than one


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RoomResponses:
    """What one loudspeaker does at several places.

    Attributes
    ----------
    samples : ndarray, shape (places, samples)
        They begin `delay_samples` after the moment the sound is emitted.
    sample_rate_hz : int
    source_m : ndarray, shape (3,)
    microphones_m : ndarray, shape (places, 3)
        Both in metres, in one frame.
    delay_samples : ndarray, shape (places,)
        0 or above, as AES69 has Data.Delay.
    room_m : (float, float, float) or None
        Its size as a box.
    title, comment : str
    """

    samples: NDArray[np.float64]
    sample_rate_hz: int
    source_m: NDArray[np.float64]
    microphones_m: NDArray[np.float64]
    delay_samples: NDArray[np.float64]
    room_m: tuple[float, float, float] | None = None
    title: str = ""
    comment: str = ""


def is_sofa(data: bytes) -> bool:
    """Whether a file is of the kind that SOFA files are (HDF5)."""
    return data.startswith(_MAGIC)


def write_sofa(responses: RoomResponses, *, date: str) -> bytes:
    """One file, convention SingleRoomSRIR; `date` as 2026-01-31 12:00:00.

    References
    ----------
    AES69-2022, "AES standard for file exchange - Spatial acoustic data file format".
    """
    if (responses.delay_samples < 0).any():
        raise InvalidValue(
            f"a delay of {responses.delay_samples.min():g} samples.",
            where="Data.Delay",
            remedy="Begin all responses when the sound is emitted, or later.",
        )
    lists: list[tuple[str, str, ArrayLike, dict[str, str]]] = [
        ("ListenerPosition", "MC", responses.microphones_m, _IN_METRES),
        ("ListenerView", "MC", (0.0, -1.0, 0.0), _IN_METRES),
        ("ListenerUp", "MC", (0.0, 0.0, 1.0), {}),
        ("ReceiverPosition", "RCI", np.zeros(3), _IN_METRES),
        ("ReceiverView", "RCI", (1.0, 0.0, 0.0), _IN_METRES),
        ("ReceiverUp", "RCI", (0.0, 0.0, 1.0), {}),
        ("SourcePosition", "MC", responses.source_m, _IN_METRES),
        ("SourceView", "IC", (1.0, 0.0, 0.0), _IN_METRES),
        ("SourceUp", "IC", (0.0, 0.0, 1.0), {}),
        ("EmitterPosition", "ECI", np.zeros(3), _IN_METRES),
        ("EmitterView", "ECI", (1.0, 0.0, 0.0), _IN_METRES),
        ("EmitterUp", "ECI", (0.0, 0.0, 1.0), {}),
        ("MeasurementDate", "M", 0.0, {}),
        ("Data.IR", "MRN", responses.samples[:, None, :], {}),
        ("Data.SamplingRate", "I", float(responses.sample_rate_hz), {"Units": "hertz"}),
        ("Data.Delay", "MR", responses.delay_samples[:, None], {}),
    ]
    if responses.room_m:
        lists += [("RoomCornerA", "IC", np.zeros(3), {}), ("RoomCornerB", "IC", responses.room_m, {})]
    places, samples = responses.samples.shape
    sizes = {"I": 1, "C": 3, "R": 1, "E": 1, "M": places, "N": samples}
    file = _opened(mode="w", memory=1)
    file.setncatts(
        {
            "Conventions": "SOFA",
            "Version": "2.1",
            "SOFAConventions": CONVENTION,
            "SOFAConventionsVersion": "1.0",
            "APIName": "Dolce",
            "APIVersion": __version__,
            "ApplicationName": "Dolce",
            "ApplicationVersion": __version__,
            "DataType": "FIR",
            "RoomType": "shoebox" if responses.room_m else "reverberant",
            "Title": responses.title,
            "Comment": responses.comment,
            "DateCreated": date,
            "DateModified": date,
            "License": "No license provided, ask the author for permission",
            **dict.fromkeys(_SAID_BY_NOBODY, ""),
        }
    )
    for letter, size in sizes.items():
        file.createDimension(letter, size)
    for name, letters, value, attributes in lists:
        variable = file.createVariable(name, "f8", tuple(letters), zlib=True, complevel=4)
        variable.setncatts(attributes)
        shape = tuple(sizes[letter] for letter in letters)
        # One place counts for all measurements; what has a trailing I is a column.
        variable[:] = np.broadcast_to(np.reshape(value, shape) if letters.endswith("CI") else value, shape)
    return bytes(file.close())


def read_sofa(data: bytes, *, name: str) -> RoomResponses:
    """Responses of a file: its first receiver and emitter.

    A file may hold 16 million values in all, whatever its own size: a packed one of some kilobytes can declare as much
    as fills the memory. What it declares is looked at before anything is unpacked, and one file is read at a time.

    Raises
    ------
    FormatError
        Where it can't be read, declares more than that, or holds no impulse responses.
    """
    if len(data) > _MOST_BYTES:
        raise FormatError(
            f"{len(data) / 1e6:.0f} MB are too much.", where=name, remedy="Save fewer places in one file."
        )
    try:
        with _ONE_AT_A_TIME, closing(_opened(memory=data)) as file:
            _declares_no_more_than_is_read(file, name)
            read = _responses(file)
    except FormatError:
        raise
    except Exception as error:  # whatever a stranger's file makes of the library
        raise FormatError(
            "this SOFA file can't be read.", where=name, remedy="Save impulse responses (Data.IR) at one sample rate."
        ) from error
    if not read.samples.size or not np.isfinite(read.samples).all() or not 8000 <= read.sample_rate_hz <= 400_000:
        raise FormatError(
            "it holds no impulse responses that can be used.",
            where=name,
            remedy="Save impulse responses (Data.IR) at one sample rate.",
        )
    return read


def _opened(*, memory: bytes | int, mode: Literal["r", "w"] = "r") -> "netCDF4.Dataset":
    """A file in memory: the bytes of one, or a new one. AES69 files are netCDF-4, thus HDF5."""
    import netCDF4  # takes a fifth of a second, and is rarely asked for

    file = netCDF4.Dataset("responses.sofa", mode, memory=memory)
    file.set_auto_mask(False)
    return file


def _responses(file: "netCDF4.Dataset") -> RoomResponses:
    """What a file holds of its first receiver and emitter."""
    samples = _of_first(file["Data.IR"])
    places = len(samples)
    delay = np.ravel(_of_first(file["Data.Delay"]))
    return RoomResponses(
        samples=samples,
        sample_rate_hz=round(float(np.ravel(file["Data.SamplingRate"][:])[0])),
        source_m=_in_metres(file["SourcePosition"])[0],
        microphones_m=np.array(np.broadcast_to(_in_metres(file["ListenerPosition"]), (places, 3))),
        delay_samples=np.array(np.broadcast_to(delay[:places], places)),
        title=str(getattr(file, "Title", ""))[:80],
    )


def _of_first(variable: "netCDF4.Variable") -> NDArray[np.float64]:
    """Values of the first receiver and emitter: the dimensions M and N (AES69 names them) are kept."""
    part = tuple(0 if letter in "RE" else slice(None) for letter in variable.dimensions)
    return np.asarray(variable[part], dtype=np.float64)


def _in_metres(variable: "netCDF4.Variable") -> NDArray[np.float64]:
    """Places, shape (any, 3), cartesian, also where they are given as azimuth and elevation in degrees, and radius."""
    place = np.atleast_2d(np.asarray(variable[:], dtype=np.float64))[:, :3]
    if str(getattr(variable, "Type", "cartesian")) != "spherical":
        return place
    azimuth, elevation, radius = np.radians(place[:, 0]), np.radians(place[:, 1]), place[:, 2]
    flat = radius * np.cos(elevation)
    return np.stack([flat * np.cos(azimuth), flat * np.sin(azimuth), radius * np.sin(elevation)], axis=1)


def _declares_no_more_than_is_read(file: "netCDF4.Dataset", name: str) -> None:
    """Shapes and types of all that a file holds, by its directory alone."""
    values = 0
    if file.groups:
        raise FormatError(
            "it holds groups, which SOFA files don't have.",
            where=name,
            remedy="Save impulse responses (Data.IR) at one sample rate.",
        )
    for title, variable in file.variables.items():
        count = math.prod(variable.shape)
        numbers = getattr(variable.dtype, "kind", "") in ("f", "i", "u", "S")
        if not numbers and (variable.dtype is not str or count > _MOST_WORDS):
            raise FormatError(
                f"{title} holds what are no numbers.",
                where=name,
                remedy="Save impulse responses (Data.IR) at one sample rate.",
            )
        values += count
    if values > _MOST_VALUES:
        raise FormatError(
            f"it declares {values / 1e6:.1f} million values; {_MOST_VALUES / 1e6:.0f} million are read.",
            where=name,
            remedy="Save fewer places, or shorter responses, in one file.",
        )
