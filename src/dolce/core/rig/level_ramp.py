"""Coming up from silence to the level that measures well."""

from dataclasses import dataclass
from typing import Literal

from dolce.core.levels.level_check import ENOUGH_ABOVE_NOISE_DB, MARGIN_TO_CLIPPING_DB

START_DBFS = -60.0
STEP_DB = 1.0  # a second, by itself
_MOST_DBFS = -12.0  # pink noise above it runs out of range

Word = Literal["rising", "good", "ceiling", "clipping", "loudest"]


@dataclass(frozen=True, slots=True, kw_only=True)
class RampStep:
    """Where the ramp stands.

    Attributes
    ----------
    level_dbfs : float
        To play next.
    word : "rising", "good", "ceiling" (no louder allowed), "clipping" (too near to it) or "loudest"
    above_noise_db, to_clipping_db : float
    """

    level_dbfs: float
    word: Word
    above_noise_db: float
    to_clipping_db: float

    @property
    def ended(self) -> bool:
        return self.word != "rising"


def ramp_step(
    level_dbfs: float,
    *,
    heard_dbfs: float,
    peak_dbfs: float,
    noise_dbfs: float,
    peak_above_rms_db: float,
    ceiling_peak_dbfs: float,
) -> RampStep:
    """The next step of a ramp, from what the microphone hears at the present level.

    Ends 40 dB above the noise, or before the ceiling, or 6 dB before clipping: whatever comes first.

    Parameters
    ----------
    heard_dbfs, peak_dbfs, noise_dbfs : float
        At the microphone: level and peak of the last second, and the noise before anything played.
    peak_above_rms_db : float
        Of the sound that is played.
    ceiling_peak_dbfs : float
        Highest sample that may be played.
    """
    above, room = heard_dbfs - noise_dbfs, -peak_dbfs
    if room < MARGIN_TO_CLIPPING_DB:
        # Back out of the danger at once.
        return RampStep(
            level_dbfs=max(START_DBFS, level_dbfs - (MARGIN_TO_CLIPPING_DB - room)),
            word="clipping",
            above_noise_db=above,
            to_clipping_db=room,
        )
    if above >= ENOUGH_ABOVE_NOISE_DB:
        word: Word = "good"
    elif level_dbfs + STEP_DB + peak_above_rms_db > ceiling_peak_dbfs:
        word = "ceiling"
    elif level_dbfs + STEP_DB > _MOST_DBFS:
        word = "loudest"
    elif room - STEP_DB < MARGIN_TO_CLIPPING_DB:
        word = "clipping"
    else:
        return RampStep(level_dbfs=level_dbfs + STEP_DB, word="rising", above_noise_db=above, to_clipping_db=room)
    return RampStep(level_dbfs=level_dbfs, word=word, above_noise_db=above, to_clipping_db=room)
