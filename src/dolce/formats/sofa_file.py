"""Impulse responses of a room as AES69 (SOFA), written and read by a library for it."""

import math
import tempfile
import threading
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from dolce.errors import FormatError, InvalidValue, StorageError

CONVENTION = "SingleRoomSRIR"  # one source, a microphone at several places, a room
_MAGIC = b"\x89HDF\r\n\x1a\n"
_MOST_BYTES = 400_000_000
_MOST_VALUES = 16_000_000  # 128 MB as they are read: 50 places with 1.6 s at 192 kHz
_MOST_WORDS = 10_000  # of text, each of any length
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
    import sofar  # takes a third of a second, and is rarely asked for

    if (responses.delay_samples < 0).any():
        raise InvalidValue(
            f"a delay of {responses.delay_samples.min():g} samples.",
            where="Data.Delay",
            remedy="Begin all responses when the sound is emitted, or later.",
        )
    places = len(responses.samples)
    made = sofar.Sofa(CONVENTION)
    for empty in ("ReceiverDescriptions", "EmitterDescriptions"):  # the library can't write its own empty ones
        made.delete(empty)
    made.GLOBAL_Title = responses.title
    if responses.comment:
        made.GLOBAL_Comment = responses.comment
    made.GLOBAL_RoomType = "shoebox" if responses.room_m else "reverberant"
    made.GLOBAL_ApplicationName = "Dolce"
    made.GLOBAL_DateCreated = made.GLOBAL_DateModified = date
    if responses.room_m:
        made.RoomCornerA, made.RoomCornerB = np.zeros((1, 3)), np.array([responses.room_m])
    made.Data_IR = responses.samples[:, None, :]
    made.Data_SamplingRate = float(responses.sample_rate_hz)
    made.Data_Delay = responses.delay_samples[:, None]
    made.SourcePosition = np.tile(responses.source_m, (places, 1))
    made.SourcePosition_Type = "cartesian"
    made.SourcePosition_Units = "metre"
    made.ListenerPosition = responses.microphones_m
    made.ListenerView = np.tile([[0.0, -1.0, 0.0]], (places, 1))
    made.ListenerUp = np.tile([[0.0, 0.0, 1.0]], (places, 1))
    made.MeasurementDate = np.zeros(places)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "responses.sofa"
        try:
            sofar.write_sofa(str(path), made, compression=4)
        except (OSError, RuntimeError) as error:  # the library says the one or the other of a full disk
            raise StorageError(
                "the file can't be written beside the other temporary ones.",
                where="responses.sofa",
                remedy="Make room on the disk, then do it again.",
            ) from error
        return path.read_bytes()


def read_sofa(data: bytes, *, name: str) -> RoomResponses:
    """Responses of a file: its first receiver and emitter.

    A file may hold 16 million values in all, whatever its own size: a packed one of some kilobytes can declare as much
    as fills the memory. What it declares is looked at before anything is unpacked, and one file is read at a time.

    Raises
    ------
    FormatError
        Where it can't be read, declares more than that, or holds no impulse responses.
    """
    import sofar

    if len(data) > _MOST_BYTES:
        raise FormatError(
            f"{len(data) / 1e6:.0f} MB are too much.", where=name, remedy="Save fewer places in one file."
        )
    with _ONE_AT_A_TIME, tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "responses.sofa"
        path.write_bytes(data)
        try:
            _declares_no_more_than_is_read(path, name)
            read = sofar.read_sofa(str(path), verify=False, verbose=False)
            samples = np.asarray(read.Data_IR, dtype=np.float64)
            samples = samples.reshape(samples.shape[0], -1, samples.shape[-1])[:, 0]
            rate = round(float(np.ravel(read.Data_SamplingRate)[0]))
            place = np.broadcast_to(np.atleast_2d(np.asarray(read.ListenerPosition, dtype=float)), (len(samples), 3))
            source = np.ravel(np.atleast_2d(np.asarray(read.SourcePosition, dtype=float))[0])[:3]
            delay = np.broadcast_to(np.ravel(np.asarray(read.Data_Delay, dtype=float))[: len(samples)], len(samples))
        except FormatError:
            raise
        except Exception as error:  # whatever a stranger's file makes of the library
            raise FormatError(
                "this SOFA file can't be read.",
                where=name,
                remedy="Save impulse responses (Data.IR) at one sample rate.",
            ) from error
    if not samples.size or not np.isfinite(samples).all() or not 8000 <= rate <= 400_000:
        raise FormatError(
            "it holds no impulse responses that can be used.",
            where=name,
            remedy="Save impulse responses (Data.IR) at one sample rate.",
        )
    return RoomResponses(
        samples=samples,
        sample_rate_hz=rate,
        source_m=source,
        microphones_m=np.array(place),
        delay_samples=np.array(delay),
        title=str(getattr(read, "GLOBAL_Title", ""))[:80],
    )


def _declares_no_more_than_is_read(path: Path, name: str) -> None:
    """Shapes and types of all that a file holds, by its directory alone."""
    import netCDF4

    values = 0
    with netCDF4.Dataset(str(path)) as file:
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
