"""Files of the commands: read with a limit, written all or none."""

import os
import stat
import tempfile
from collections.abc import Mapping
from pathlib import Path

from dolce.errors import InvalidValue
from dolce.formats.audio_file import Audio, read_audio

_LARGEST_BYTES = 200 * 1024 * 1024


def read_sound(path: Path) -> Audio:
    return read_audio(read_bytes(path), name=path.name)


def read_bytes(path: Path) -> bytes:
    with path.open("rb") as file:
        data = file.read(_LARGEST_BYTES + 1)
    if len(data) > _LARGEST_BYTES:
        raise InvalidValue(
            f"more than {_LARGEST_BYTES / 2**20:.0f} MB is too large.",
            where=path.name,
            remedy="Cut the recording to one sweep.",
        )
    return data


def keep_files(files: Mapping[Path, bytes]) -> None:
    """Write all files beside their places first, then move them in; on an error none of them is there.

    A link is followed, so that it stays one. What is no file, such as a device or a pipe, is written to.
    """
    places = {Path(os.path.realpath(path)): data for path, data in files.items()}
    streams = {path: data for path, data in places.items() if path.exists() and not path.is_file()}
    for path in streams:
        if path.is_dir():
            raise InvalidValue("is a folder.", where=str(path), remedy="Name a file in it.")
    written: list[tuple[str, Path]] = []
    try:
        for path, data in places.items():
            if path in streams:
                continue
            path.parent.mkdir(parents=True, exist_ok=True)
            handle, name = tempfile.mkstemp(dir=path.parent, prefix=".dolce-")
            written.append((name, path))
            with os.fdopen(handle, "wb") as file:
                file.write(data)
            os.chmod(name, stat.S_IMODE(path.stat().st_mode) if path.exists() else 0o644)
        for path, data in streams.items():
            with path.open("wb") as stream:
                stream.write(data)
        for name, path in written:
            os.replace(name, path)
    finally:
        for name, _ in written:
            Path(name).unlink(missing_ok=True)
