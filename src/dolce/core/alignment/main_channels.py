"""Levels, delays and polarity of main channels from their impulse responses at the spots of a seat."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from numpy.typing import NDArray

from dolce.core.alignment.level_match import matched_levels_db
from dolce.core.alignment.polarity import common_polarity
from dolce.core.alignment.table import ChannelReading, level_band_hz, table_of_arrivals
from dolce.core.dsp import energy_mean_db
from dolce.core.response import ANALYSIS_GRID_HZ, Arrival, ImpulseResponse, Polarity, find_arrival, level_on_grid
from dolce.errors import InvalidValue

_FINE_S, _FINE_DB = 1e-8, 1e-3  # steps of a list that is read by machines


@dataclass(frozen=True, slots=True, kw_only=True)
class MainSetting:
    """What one main channel gets, and what it follows from.

    Attributes
    ----------
    trim_db : float
        None above 0; the softest channel's is 0.
    delay_s : float
        Up to the last arrival; none below 0.
    polarity : "normal" or "inverted"
        What to set.
    polarity_measured : "normal", "inverted" or "unsure"
    level_db : float
        500 Hz to 2 kHz, energy mean over the spots of the seat, relative to the stimulus; see `matched_levels_db`.
    arrival_s : float
        Of the direct sound at the seat's first spot.
    """

    trim_db: float
    delay_s: float
    polarity: Polarity
    polarity_measured: Polarity
    level_db: float
    arrival_s: float


def align_main_channels(responses: Mapping[str, Sequence[ImpulseResponse]]) -> dict[str, MainSetting]:
    """Settings of all main channels.

    Parameters
    ----------
    responses : mapping of channel to its responses at the spots of one seat, the centre first

    Raises
    ------
    InvalidValue
        If a channel has no response there, or one that is silent.
    """
    means: dict[str, NDArray] = {}
    found: dict[str, list[Arrival]] = {}
    for channel, of_channel in responses.items():
        if not of_channel:
            raise InvalidValue(
                "it was not taken at the seat that levels are matched at.",
                where=channel,
                remedy="Take it there, or name another seat.",
            )
        if not all(response.sample.any() for response in of_channel):
            raise InvalidValue("one of its responses is silent.", where=channel, remedy="Take it again.")
        means[channel] = energy_mean_db(
            [level_on_grid(response, at_hz=ANALYSIS_GRID_HZ, per_octave=48) for response in of_channel]
        )
        found[channel] = [find_arrival(response) for response in of_channel]
    levels = matched_levels_db(ANALYSIS_GRID_HZ, means, band_hz=level_band_hz(is_sub=False))
    readings = {
        channel: ChannelReading(
            channel=channel,
            level_db=levels[channel],
            arrival_s=arrivals[0].time_s,
            polarity=common_polarity([arrival.polarity for arrival in arrivals]),
        )
        for channel, arrivals in found.items()
    }
    proposed = {}
    if len(readings) > 1:  # one alone is matched to nothing
        table = table_of_arrivals(tuple(readings.values()), delay_step_s=_FINE_S, trim_step_db=_FINE_DB)
        proposed = {row.reading.channel: (row.trim_db, row.delay_s) for row in table.channel_rows}
    return {
        channel: MainSetting(
            trim_db=proposed.get(channel, (0.0, 0.0))[0],
            delay_s=proposed.get(channel, (0.0, 0.0))[1],
            polarity="inverted" if reading.polarity == "inverted" else "normal",
            polarity_measured=reading.polarity,
            level_db=levels[channel],
            arrival_s=found[channel][0].time_s,
        )
        for channel, reading in readings.items()
    }
