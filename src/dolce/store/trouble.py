"""What the database complains of, as something to act on."""

import sqlite3

from sqlalchemy.exc import DBAPIError

from dolce.errors import StorageError

_SAFE = "Everything kept before is safe."


def in_words(error: DBAPIError | sqlite3.Error, *, where: str = "data folder") -> StorageError:
    """The complaint of SQLite or of SQLAlchemy as a StorageError: what is wrong, what is safe, what to do.

    References
    ----------
    SQLite, "Result and Error Codes"; the primary code is the low byte of the extended one.
    """
    cause = error.orig if isinstance(error, DBAPIError) else error
    code = getattr(cause, "sqlite_errorcode", None)
    problem, remedy = _WORDS.get(
        None if code is None else code & 0xFF,
        (f"the database can't be used: {cause}.", "Check the disk and the folder, then try again."),
    )
    return StorageError(problem, where=where, remedy=f"{_SAFE} {remedy}")


_WORDS: dict[int | None, tuple[str, str]] = {
    sqlite3.SQLITE_FULL: (
        "the disk is full, so this could not be kept.",
        "Make room on the disk, then go on; Dolce need not be started again.",
    ),
    sqlite3.SQLITE_IOERR: (
        "the disk could not be written or read.",
        "Check that it is there, healthy and has room, then go on.",
    ),
    sqlite3.SQLITE_BUSY: (
        "the database is held by something else, such as a backup.",
        "Wait until that has ended, then do it again.",
    ),
    sqlite3.SQLITE_PROTOCOL: (
        "the computer is so busy that the database's locks were not had in time.",
        "Do it again.",
    ),
    sqlite3.SQLITE_LOCKED: ("the database is held by something else.", "Wait until that has ended, then do it again."),
    sqlite3.SQLITE_READONLY: ("the data folder can't be written.", "Give yourself the right to write there."),
    sqlite3.SQLITE_PERM: ("the data folder can't be used.", "Give yourself the right to read and write there."),
    sqlite3.SQLITE_CANTOPEN: ("dolce.sqlite can't be opened.", "Check that the folder is there and may be written."),
    sqlite3.SQLITE_CORRUPT: ("dolce.sqlite is damaged.", "Copy the folder away, then restore a backup."),
    sqlite3.SQLITE_NOTADB: (
        "dolce.sqlite is not a database, or its beginning was overwritten.",
        "Copy the folder away, then restore a backup.",
    ),
}
