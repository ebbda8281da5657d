"""Bytes in, value objects out, and back. Nothing here opens a path."""
