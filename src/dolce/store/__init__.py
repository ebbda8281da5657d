"""Keeps jobs and takes in one SQLite file."""

from dolce.store.database import Database
from dolce.store.unit_of_work import UnitOfWork

__all__ = ["Database", "UnitOfWork"]
