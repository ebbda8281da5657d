"""The report of a job as a page for clients: read, printed, or saved as one file."""
