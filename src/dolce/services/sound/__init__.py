"""What sounds now: one thread, one pass at a time, and stop."""
