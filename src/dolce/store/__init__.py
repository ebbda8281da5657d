"""Keeps jobs and takes in one SQLite file."""

from dolce.store.backup import Manifest, clear_leftovers, read_manifest, write_backup
from dolce.store.database import Database
from dolce.store.durable import PART, move_in, write_whole
from dolce.store.folder import DATABASE, DataFolder, is_untouched
from dolce.store.repositories import AlignmentVersion, CorrectionVersion
from dolce.store.restoring import restore_backup
from dolce.store.unit_of_work import UnitOfWork

__all__ = [
    "DATABASE",
    "PART",
    "AlignmentVersion",
    "CorrectionVersion",
    "DataFolder",
    "Database",
    "Manifest",
    "UnitOfWork",
    "clear_leftovers",
    "is_untouched",
    "move_in",
    "read_manifest",
    "restore_backup",
    "write_backup",
    "write_whole",
]
