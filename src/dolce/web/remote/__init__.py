"""The remote: a phone or tablet in the listening seat, let in by a code, that may do little and see less."""
