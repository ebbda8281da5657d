"""Sentences for values of the core that pages, commands, files and reports say alike."""
