"""Numbered steps of the tables. Each brings its own picture of what it needs."""
