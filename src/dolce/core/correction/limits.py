"""What a correction may do."""

from dataclasses import dataclass

from dolce.core.checked import limited, ranges
from dolce.errors import InvalidValue


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """What the correction may do.

    Attributes
    ----------
    from_hz, to_hz : float
        Range to correct, at least a third of an octave wide, 10 Hz to 20 kHz.
    max_boost_db, max_cut_db : float
        0 to 12, 0 to 24; for the sum of all bands.
    min_q, max_q : float
        0.2 to 20; narrow bands are for what rings.
    max_q_above : float
        The largest Q above `narrow_to_hz`.
    narrow_to_hz : float
    good_enough_db : float
        0 to 6: what is off by less is left as it is.
    bands : int
        1 to 31.
    shelves : bool
        Whether found bands may be shelves, where the range reaches to the end of what is heard.
    highest_gain_db : float
        What a processor holds of a single band; nobody types it here.
    """

    from_hz: float = limited(10, 20_000, where="range from", unit="Hz", default=20.0)
    to_hz: float = limited(10, 20_000, where="range to", unit="Hz", default=500.0)
    max_boost_db: float = limited(0, 12, where="largest boost", unit="dB", default=3.0)
    max_cut_db: float = limited(0, 24, where="largest cut", unit="dB", default=15.0)
    min_q: float = limited(0.2, 20, where="Q from", default=0.5)
    max_q: float = limited(0.2, 20, where="Q to", default=10.0)
    max_q_above: float = limited(0.2, 20, where="Q above", default=10.0)
    narrow_to_hz: float = limited(10, 20_000, where="narrow up to", unit="Hz", default=300.0)
    good_enough_db: float = limited(0, 6, where="good enough", unit="dB", default=0.0)
    bands: int = limited(1, 31, where="bands", whole=True, default=10)
    shelves: bool = True
    max_boost_q: float = limited(0.2, 20, where="Q of boosts to", default=4.0)
    more_for_one_db: float = limited(0, 12, where="more for a single filter", unit="dB", default=1.0)
    highest_gain_db: float = 24.0

    def __post_init__(self) -> None:
        ranges(self)
        if self.to_hz < self.from_hz * 2 ** (1 / 3):
            raise InvalidValue(
                f"{self.from_hz:g} to {self.to_hz:g} Hz is upside down or too narrow.",
                where="range to",
                remedy=f"End at {self.from_hz * 2 ** (1 / 3):.0f} Hz or above.",
            )
        if self.max_q <= self.min_q:
            raise InvalidValue(
                f"Q {self.min_q:g} to {self.max_q:g} is upside down.", where="Q to", remedy="End above the start."
            )
