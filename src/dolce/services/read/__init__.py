"""The Read stop, and the curves of a round."""
