"""Sentences for values of the core that pages, commands, files and reports share."""
