"""A level check of one channel, drawn as a bar from -100 to 0 dBFS."""

from dataclasses import dataclass

from dolce.core.levels import LevelReading
from dolce.words.rig import level_words

_LOWEST_DBFS = -100.0


@dataclass(frozen=True, slots=True, kw_only=True)
class LevelMeter:
    """Places on the bar, from its left end; `good_x` is where the signal is wanted."""

    reading: LevelReading
    width: int
    noise_x: float
    signal_x: float
    peak_x: float
    good_x: tuple[float, float]
    words: str

    @classmethod
    def of(cls, reading: LevelReading, *, width: int = 320) -> "LevelMeter":
        def x(level_dbfs: float) -> float:
            return round(min(max(0.0, 1 - level_dbfs / _LOWEST_DBFS), 1.0) * width, 1)

        low, high = reading.good_dbfs
        return cls(
            reading=reading,
            width=width,
            noise_x=x(reading.noise_dbfs),
            signal_x=x(reading.signal_dbfs),
            peak_x=x(reading.peak_dbfs),
            good_x=(x(low), x(high)),
            words=level_words(reading),
        )
