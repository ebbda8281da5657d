"""What the common bass is at every seat, as outputs play it, by the measures of other settings of the subs."""

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.dsp import in_band, power_db
from dolce.core.processor import BASS
from dolce.core.subs import BAND_HZ, BassField, SubState, neutral, smoothing, state_of_levels
from dolce.core.tuning.alignment import Alignment
from dolce.core.tuning.bass_sums import SUM_HZ, signal_paths_of
from dolce.core.tuning.outputs import Outputs
from dolce.core.tuning.prediction import Responses

_NEAR = in_band(SUM_HZ, BAND_HZ, octaves=1 / 6)


@dataclass(frozen=True, slots=True, kw_only=True)
class BassPlayer:
    """What one loudspeaker has to do with the common bass.

    Attributes
    ----------
    output : str
    share : float
        Of the energy that all would make at the spots, each alone.
    highest_gain_db : float
        Of its filter.
    end_hz : float or None
        Where it ends; None for a sub.
    """

    output: str
    share: float
    highest_gain_db: float
    end_hz: float | None


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class BassAtSeats:
    """The common bass at every seat, and who plays it."""

    state: SubState
    players: tuple[BassPlayer, ...]


def bass_at_seats(
    alignment: Alignment, field: BassField, responses: Responses, *, sample_rate_hz: int
) -> BassAtSeats | None:
    """The common bass of an alignment; None where it has none, or a seat has no spot with all that play it.

    Parameters
    ----------
    field : BassField
        Of the subs, at the spots of responses.
    responses : Responses
        Of all outputs at `SUM_HZ`; NaN where a take is missing.

    Notes
    -----
    Levels are with subs at their full level, so that the output compares with that of other settings.
    """
    found, routing = alignment.common_bass, alignment.routing
    if found is None or routing is None or any(output not in responses.channels for output in found.filters.outputs):
        return None
    rows = responses.complete(found.filters.outputs)
    here = field if rows.size == len(responses.spots) else field.at_spots(rows)
    if here is None or here.seats != field.seats:
        return None
    outputs = Outputs.of(alignment, None, found.filters.outputs, sample_rate_hz=sample_rate_hz)
    paths = signal_paths_of(outputs, responses.at(rows, found.filters.outputs), BASS)
    parts = np.array([part[:, _NEAR] for _, part in paths])
    smooth = smoothing(SUM_HZ[_NEAR], here.grid_hz)
    level = power_db((np.abs(parts.sum(axis=0)) ** 2) @ smooth) - alignment.settings(routing.subs[0]).trim_db
    plain = here.levels_db(here.weights_of(neutral(here.count)))
    energy: NDArray[np.float64] = (np.abs(parts) ** 2 / SUM_HZ[_NEAR]).mean(axis=(1, 2))
    by_output = {row.output: row for row in found.filters.filters}
    return BassAtSeats(
        state=state_of_levels(here, level, here.by_seat_db(plain).mean(axis=-1), settings={}),
        players=tuple(
            BassPlayer(
                output=route.output,
                share=float(share / energy.sum()),
                highest_gain_db=by_output[route.output].highest_gain_db,
                end_hz=by_output[route.output].end_hz,
            )
            for (route, _), share in zip(paths, energy, strict=True)
        ),
    )
