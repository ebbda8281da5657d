"""The Load stop."""
