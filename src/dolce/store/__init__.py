"""Keeps jobs and takes in one SQLite file."""

from dolce.store.database import Database
from dolce.store.repositories import AlignmentVersion, CorrectionVersion
from dolce.store.unit_of_work import UnitOfWork

__all__ = ["AlignmentVersion", "CorrectionVersion", "Database", "UnitOfWork"]
