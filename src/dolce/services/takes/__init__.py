"""The Takes stop: passes, and what becomes of a recording."""
