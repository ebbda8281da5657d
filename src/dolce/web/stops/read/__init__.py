"""The Read stop."""
