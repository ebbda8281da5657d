"""Frequency bands in which levels are compared (common practice)."""

LEVEL_BAND_HZ = (500.0, 2000.0)  # neither the room's bass nor the directivity of tweeters rules
SUB_LEVEL_BAND_HZ = (30.0, 80.0)  # where subs play, clear of crossovers
