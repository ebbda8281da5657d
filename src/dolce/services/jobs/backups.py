"""Backups of jobs: written into a folder of their own behind the pages, listed, fetched, and put back."""

import os
import re
from collections.abc import Callable, Sequence
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import IO

from dolce.errors import Conflict, DolceError, FormatError, InvalidValue, NotFound
from dolce.services.context import Context
from dolce.services.jobs.folder_work import FolderWork, Work
from dolce.store import PART, Manifest, clear_leftovers, move_in, read_manifest, restore_backup, write_backup

FOLDER, SUFFIX = "backups", ".dolce-backup"
_PIECE = 1 << 20
_LONGEST_NAME = 80


@dataclass(frozen=True, slots=True, kw_only=True)
class BackupFile:
    """A file of the folder; `manifest` is None where it is no backup, with the reason."""

    name: str
    size_bytes: int
    manifest: Manifest | None
    fault: str = ""


class Backups:
    """Backups of one data folder."""

    def __init__(self, context: Context, folder_work: FolderWork) -> None:
        self._context = context
        self._folder_work = folder_work
        self._folder = context.database.folder / FOLDER
        clear_leftovers(self._folder, SUFFIX)

    @property
    def folder(self) -> Path:
        """Where backups lie; files that are copied there can be put back."""
        return self._folder

    def files(self) -> list[BackupFile]:
        """The latest first."""
        if not self._folder.is_dir():
            return []
        found: list[tuple[float, BackupFile]] = []
        for path in self._folder.glob(f"*{SUFFIX}"):
            with suppress(FileNotFoundError):  # deleted since the folder was listed
                found.append((path.stat().st_mtime, self._read(path)))
        return [file for _, file in sorted(found, key=lambda timed: timed[0], reverse=True)]

    def begin_backup(self, job_ids: Sequence[int]) -> Work:
        """Write jobs into one file, behind the pages.

        Raises
        ------
        Conflict
            While another one is written or put back.
        InvalidValue
            Where there is no job.
        """
        with self._context.look() as work:
            jobs, _ = work.jobs.listing()
        names = [job.name for job in jobs if job.id in job_ids]
        if not names:
            raise InvalidValue("there is no job to keep.", where="backup", remedy="Create one first.")
        now = self._context.now()
        what = names[0] if len(names) == 1 else f"{len(names)} jobs"
        plain = re.sub(r"[^A-Za-z0-9]+", "-", what).strip("-").lower() or "job"
        self._folder.mkdir(mode=0o700, exist_ok=True)
        path = self._free(f"{plain[:_LONGEST_NAME]}-{now:%Y-%m-%d-%H%M%S}")

        def write(on_progress: Callable[[float], None]) -> str:
            made = write_backup(
                self._context.database, list(job_ids), path, made_at=f"{now:%Y-%m-%d %H:%M}", on_progress=on_progress
            )
            return f"{what}: {made.takes} takes kept in {path.name}."

        return self._folder_work.begin(Work(kind="backup", what=what), write)

    def begin_restore(self, name: str) -> Work:
        """Put back what is in a file of the folder, beside what is there.

        Raises
        ------
        Conflict
            While a pass is running, or another one is written or put back.
        FormatError
            Where it is no backup.
        """
        path = self._path(name)
        manifest = read_manifest(path)
        with self._context.look() as work:
            if work.passes.running() is not None:
                raise Conflict(
                    "a pass is running.", where="restore", remedy="Stop it first, or wait until it has ended."
                )

        def put_back(on_progress: Callable[[float], None]) -> str:
            new = restore_backup(self._context.database, path, renamed=_renamed, on_progress=on_progress)
            with self._context.change() as work:
                for job_id in new:
                    work.logbook.add(
                        job_id, f"Restored from {path.name}, written {manifest.made_at}.", at=self._context.now()
                    )
            return f"{', '.join(manifest.jobs[:5])}: put back from {path.name}."

        return self._folder_work.begin(Work(kind="restore", what=path.name), put_back)

    def add(self, file: IO[bytes], name: str) -> str:
        """Keep an uploaded file in the folder; its name there. FormatError where it is no backup: it is gone then."""
        self._folder.mkdir(mode=0o700, exist_ok=True)
        plain = re.sub(r"[^A-Za-z0-9-]+", "-", Path(name).name.removesuffix(SUFFIX)).strip("-") or "backup"
        path = self._free(plain[:_LONGEST_NAME])
        beside = path.with_name(path.name + PART)
        try:
            with os.fdopen(os.open(beside, os.O_CREAT | os.O_EXCL | os.O_WRONLY, 0o600), "wb") as out:
                while piece := file.read(_PIECE):
                    out.write(piece)
            read_manifest(beside, name=path.name)
            move_in(beside, path)
        except (DolceError, OSError):
            beside.unlink(missing_ok=True)
            raise
        return path.name

    def open(self, name: str) -> tuple[Path, str]:
        """A file of the folder, to be saved elsewhere, and its name."""
        path = self._path(name)
        return path, path.name

    def delete(self, name: str) -> None:
        """Take a file from the folder for good."""
        self._path(name).unlink(missing_ok=True)

    def _path(self, name: str) -> Path:
        """A file of the folder by its name, or NotFound: nothing outside is ever touched."""
        path = self._folder / name
        if Path(name).name != name or not name.endswith(SUFFIX) or not path.is_file() or path.is_symlink():
            raise NotFound(f"there is no backup {name[:60]!r}.", where="backups", remedy="Reload the page.")
        return path

    def _free(self, start: str) -> Path:
        path, number = self._folder / f"{start}{SUFFIX}", 1
        while path.exists():
            number += 1
            path = self._folder / f"{start}-{number}{SUFFIX}"
        return path

    @staticmethod
    def _read(path: Path) -> BackupFile:
        try:
            return BackupFile(name=path.name, size_bytes=path.stat().st_size, manifest=read_manifest(path))
        except (FormatError, DolceError) as error:
            return BackupFile(name=path.name, size_bytes=path.stat().st_size, manifest=None, fault=str(error))


def _renamed(name: str, taken: set[str]) -> str:
    """The name of a job that is put back; another where one of that name is there."""
    if name not in taken:
        return name
    number = 1
    while (wanted := f"{name[:60]}, put back{'' if number == 1 else f' {number}'}") in taken:
        number += 1
    return wanted
