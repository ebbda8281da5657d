"""The Shape stop."""
