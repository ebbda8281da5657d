"""Levels again after the bands: a band that reaches into where channels are matched changes their level there."""

from collections.abc import Mapping


def levelled_again(change_db: Mapping[str, float], *, step_db: float) -> dict[str, float]:
    """Trims in dB, none above 0, that leave all channels as far apart in level as they were before their bands.

    Parameters
    ----------
    change_db : mapping of channel to what its bands change of its level in the band where it is matched
    step_db : float
        Steps of the processor's trims.

    Notes
    -----
    Differences that the calibrator has chosen stay: only what the bands did is made up for.
    """
    if len(change_db) < 2:
        return {}
    least = min(change_db.values())
    found = {channel: round(round((least - change) / step_db) * step_db, 3) for channel, change in change_db.items()}
    return {channel: trim for channel, trim in found.items() if trim}
