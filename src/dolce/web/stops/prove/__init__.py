"""The Prove stop."""
