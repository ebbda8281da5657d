"""The Takes stop."""
