"""One folder per stop: everything of a page in one place."""
