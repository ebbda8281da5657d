"""When channels arrive at a seat, by all of its spots: a microphone never stands just where it was to be."""

from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core.uncertainty import SURE, jackknife_error

# Of takes without anything moved in between, arrivals differ by less than this: a fiftieth of a sample in quiet, with
# the noise of a room 10 us (tests of the rehearsal and of known delays).
ARRIVAL_ERROR_S = 0.01e-3


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class SeatArrivals:
    """Arrivals at one place.

    Attributes
    ----------
    arrival_s : mapping of channel to s
    late_s : mapping of channel to ndarray, shape (spots,)
        Later than its flight to each spot, the latency included.
    """

    arrival_s: Mapping[str, float]
    late_s: Mapping[str, NDArray[np.float64]]

    def error_s(self, channel: str, other: str, *, share: float = SURE) -> float:
        """Half of the interval that holds the difference of two channels in a share of cases, by what the spots differ.

        Of one spot it is that of the take: it holds where the microphone stood, and not where it was to stand.
        """
        apart = self.late_s[channel] - self.late_s[other]
        if apart.size < 2:
            return ARRIVAL_ERROR_S
        error = jackknife_error(lambda rows: apart[rows].mean(), np.ones(apart.size), share=share)
        return max(ARRIVAL_ERROR_S, float(error))


def seat_arrivals(
    arrival_s: Mapping[str, ArrayLike], flight_s: Mapping[str, ArrayLike], to_seat_s: Mapping[str, float]
) -> SeatArrivals:
    """Arrivals at a seat's centre from takes at its spots.

    Parameters
    ----------
    arrival_s : mapping of channel to shape (spots,)
        As measured, at the same spots for all channels, on one clock for each spot.
    flight_s : mapping of channel to shape (spots,)
        From the loudspeaker to each spot by the plan.
    to_seat_s : mapping of channel to s
        From the loudspeaker to the seat's centre by the plan.

    Notes
    -----
    Each spot tells by how much a channel is later than its flight. A microphone that stands 2 cm off moves that by
    up to 58 us, and opposite channels by as much apart; over n spots it averages out as 1/sqrt(n). Spots around the
    seat cancel what places of loudspeakers are typed wrong by, to first order.
    """
    late = {
        channel: np.asarray(times, dtype=float) - np.asarray(flight_s[channel], dtype=float)
        for channel, times in arrival_s.items()
    }
    return SeatArrivals(
        arrival_s={channel: float(delay_s.mean()) + to_seat_s[channel] for channel, delay_s in late.items()},
        late_s=late,
    )
