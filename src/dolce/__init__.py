"""Dolce: measure, align, correct and prove the loudspeakers of a small room."""

__version__ = "0.1.0"
