"""Sentences of pages alone: the next line, findings, the rig."""
