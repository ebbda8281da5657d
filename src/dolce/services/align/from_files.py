"""The command `align`: settings from a list of impulse responses in files."""

import json
from collections.abc import Sequence
from dataclasses import asdict
from pathlib import Path

from dolce.core.alignment.mains import align_mains
from dolce.core.response import ImpulseResponse
from dolce.errors import DolceError, FormatError, InvalidValue
from dolce.formats.takes_csv import ListedTake, read_takes
from dolce.services.files import keep_files, read_bytes, read_sound

_DIGITS = {"trim_db": 3, "delay_s": 8, "level_db": 3, "arrival_s": 8}


def write_alignment(listed: Path, *, main_seat: str | None, out: Path) -> None:
    """Write levels, delays and polarity of the main channels of a list of takes.

    `main_seat` is where they are matched: the first seat of the list where none is named.
    """
    takes = read_takes(read_bytes(listed), name=listed.name)
    seats = list(dict.fromkeys(take.seat for take in takes))
    seat = seats[0] if main_seat is None else main_seat
    if seat not in seats:
        raise InvalidValue(f"{seat[:60]!r} is no seat of the list.", where="--main-seat",
                           remedy=f"There are {', '.join(seats[:8])}.")
    mains = list(dict.fromkeys(take.channel for take in takes if take.kind == "main"))
    if not mains:
        raise InvalidValue("no main channel is listed.", where=listed.name, remedy="Give lines of the kind main.")
    found = align_mains({channel: _responses(listed, [
        take for take in takes if (take.channel, take.seat) == (channel, seat)]) for channel in mains})
    channels = {channel: {name: round(value, _DIGITS[name]) if name in _DIGITS else value
                          for name, value in asdict(setting).items()} for channel, setting in found.items()}
    keep_files({out: (json.dumps({"main_seat": seat, "channels": channels}, indent=2) + "\n").encode()})


def _responses(listed: Path, takes: Sequence[ListedTake]) -> list[ImpulseResponse]:
    """The files of takes, each beginning at its own moment."""
    responses = []
    for take in takes:
        where = f"{listed.name}, line {take.line}"
        try:
            sound = read_sound(listed.parent / take.file)
        except DolceError as error:
            raise _at_line(error, where) from error
        responses.append(ImpulseResponse(sample=sound.sample, sample_rate_hz=sound.sample_rate_hz,
                                         start_s=take.start_s))
    return responses


def _at_line(error: DolceError, where: str) -> FormatError:
    """The same fault, named by the line of the list that it came from."""
    return FormatError(error.problem, where=f"{where}, {error.where}" if error.where else where, remedy=error.remedy)
