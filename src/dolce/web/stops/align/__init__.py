"""The Align stop."""
