"""The neutral processor: what must be neutral in the chain before the first take, where it can't be read."""

# Keys stay in kept jobs; the words may change. In general words, since every device calls them otherwise.
SLATE: dict[str, str] = {
    "equaliser": "Equalisers and tone controls flat, also the switches at the speakers' backs",
    "delay": "Delays and speaker distances at zero or all equal",
    "trim": "Channel trims at zero",
    "bass": "Speaker sizes full range, crossovers off, or as they shall stay",
    "automatic": "Automatic room processing off",
    "dynamics": "Night, loudness, dynamic and limiting functions off",
    "upmix": "Upmixing and sound effects off: every channel plays alone",
    "sync": "Lip-sync delay at zero",
    "system": "Sound settings of the computer's system off: enhancements, mixing, another rate",
    "volume": "Volume control at a mark that can be found again",
}


def slate_missing(ticked: tuple[str, ...]) -> tuple[str, ...]:
    """Keys of what isn't ticked yet, in order."""
    return tuple(key for key in SLATE if key not in ticked)
