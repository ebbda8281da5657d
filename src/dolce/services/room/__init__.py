"""The Room stop."""
