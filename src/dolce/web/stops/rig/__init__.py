"""The Rig stop."""
