"""What plays, records and processes."""
