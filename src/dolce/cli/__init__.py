"""The same jobs from a terminal."""
