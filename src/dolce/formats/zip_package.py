"""Several files in one ZIP, piece by piece, the same bytes for the same contents."""

import io
import zipfile
from collections.abc import Iterable, Iterator

_NOT_WORTH_DEFLATING = (".wav", ".flac")


class _Passing(io.RawIOBase):
    """Takes bytes on and hands them out; nothing is kept, so nothing can be sought."""

    def __init__(self) -> None:
        self._parts: list[bytes] = []

    def writable(self) -> bool:
        return True

    def write(self, data: bytes) -> int:  # type: ignore[override]
        self._parts.append(bytes(data))
        return len(data)

    def taken(self) -> bytes:
        parts, self._parts = self._parts, []
        return b"".join(parts)


def zip_parts(files: Iterable[tuple[str, bytes]]) -> Iterator[bytes]:
    """A ZIP of named files, a part as soon as each is there; dates are fixed, so equal contents give equal bytes.

    Text is deflated. Sound is stored as it is: noise-like samples cost much time and hardly shrink.
    """
    out = _Passing()
    with zipfile.ZipFile(out, "w") as package:
        for name, data in files:
            info = zipfile.ZipInfo(name, date_time=(2020, 1, 1, 0, 0, 0))
            info.compress_type = zipfile.ZIP_STORED if name.endswith(_NOT_WORTH_DEFLATING) else zipfile.ZIP_DEFLATED
            info.external_attr = 0o644 << 16
            package.writestr(info, data)
            yield out.taken()
    yield out.taken()
