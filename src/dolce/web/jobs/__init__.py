"""The list of jobs."""
