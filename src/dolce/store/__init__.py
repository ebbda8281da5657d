"""Keeps jobs and takes in one SQLite file."""

from dolce.store.backup import Manifest, read_manifest, restore_backup, write_backup
from dolce.store.database import Database
from dolce.store.repositories import AlignmentVersion, CorrectionVersion
from dolce.store.unit_of_work import UnitOfWork

__all__ = [
    "AlignmentVersion",
    "CorrectionVersion",
    "Database",
    "Manifest",
    "UnitOfWork",
    "read_manifest",
    "restore_backup",
    "write_backup",
]
