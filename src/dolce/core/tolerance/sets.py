"""Sets of tolerances, each line with its source."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from dolce.core import checked
from dolce.core.checked import limited, ranges
from dolce.errors import InvalidValue

MEAN_HZ = (200.0, 4000.0)  # the mean about which a response may move


@dataclass(frozen=True, slots=True, kw_only=True)
class ToleranceSet:
    """What a room has to hold.

    Attributes
    ----------
    id : int or None
        Of a set of the calibrator's own, once it is kept.
    response_hz, upper_db, lower_db : tuples of equally many numbers
        1/3-octave bands about their mean over 200 Hz to 4 kHz, straight over log frequency between points; empty for
        no such line.
    about : "mean" or "target"
        Whether bounds of the response lie about that mean alone, or about the channel's own target hung at it.
    tilt_db_per_octave : (float, float) or None
        Least and largest slope from 200 Hz to 10 kHz.
    level_db : float or None
        By which channels may differ.
    arrival_s : float or None
        Likewise.
    reverberation_s : float or None
        By which the decay time may be off 0.25 (V / 100)^(1/3), 200 Hz to 4 kHz.
    noise_nr : float or None
        Noise rating, at most.
    seats_db : float or None
        Seat-to-seat variation of any channel's bass, at most.
    angles : bool
        Whether channels have to stand where their layout wants them.
    sources : mapping of line to its document, with its edition and clause as far as they are known
        "from memory" where there was no copy of it.
    """

    id: int | None = None
    name: str
    response_hz: tuple[float, ...] = ()
    upper_db: tuple[float, ...] = ()
    lower_db: tuple[float, ...] = ()
    about: Literal["mean", "target"] = "mean"
    tilt_db_per_octave: tuple[float, float] | None = None
    level_db: float | None = limited(0.1, 12, where="level between channels", unit="dB", default=None)
    arrival_s: float | None = limited(1e-5, 0.05, where="arrival between channels", unit="s", default=None)
    reverberation_s: float | None = limited(0.01, 1, where="decay time", unit="s", default=None)
    noise_nr: float | None = limited(0, 60, where="noise", unit="NR", default=None)
    seats_db: float | None = limited(0.1, 12, where="seat-to-seat variation", unit="dB", default=None)
    angles: bool = False
    sources: Mapping[str, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        checked.text(self.name, longest=60, where="name of the tolerances")
        if not self.name.strip():
            raise InvalidValue("a set of tolerances needs a name.", where="name of the tolerances", remedy="Type one.")
        ranges(self)
        if not len(self.response_hz) == len(self.upper_db) == len(self.lower_db):
            raise InvalidValue(
                "the response needs two bounds for each frequency.",
                where="response",
                remedy="Write frequency, lower and upper bound, a line each.",
            )
        if self.response_hz:
            checked.rising(self.response_hz, where="response")
            for low, high in zip(self.lower_db, self.upper_db, strict=True):
                if not -40 <= low < high <= 40:
                    raise InvalidValue(
                        f"{low:g} to {high:g} dB is upside down.",
                        where="response",
                        remedy="Write the lower bound first; -40 to 40 dB.",
                    )

    def bounds_db(self, at_hz: ArrayLike) -> tuple[NDArray[np.float64], NDArray[np.float64]]:
        """Lower and upper bound at frequencies, NaN outside the points, shape as given."""
        at = np.log(np.asarray(at_hz, dtype=float))
        points = np.log(self.response_hz)
        return tuple(np.interp(at, points, row, left=np.nan, right=np.nan) for row in (self.lower_db, self.upper_db))


def wanted_reverberation_s(volume_m3: float) -> float:
    """Decay time that suits a reference room: 0.25 (V / 100 m3)^(1/3) s (ITU-R BS.1116-3, EBU Tech 3276)."""
    checked.within(volume_m3, low=5, high=20_000, where="volume", unit="m³")
    return 0.25 * (volume_m3 / 100.0) ** (1 / 3)


_EBU, _BS1116 = "EBU Tech 3276", "ITU-R BS.1116-3"
# Editions and clauses as remembered: no copy of the documents was there.
_OF_EBU = f"{_EBU}, 2nd edition (May 1998), from memory; clause not known"
_OF_BS1116 = f"{_BS1116} (February 2015), from memory"
_SOUND_FIELD = f"{_OF_BS1116}; steady-state sound field, 8.3.4"
_ROOM = f"{_OF_BS1116}; reference listening room, 8.2"
_BS775 = "ITU-R BS.775-3 (August 2012), figure 1"
PUBLISHED: dict[str, ToleranceSet] = {
    tolerances.name: tolerances
    for tolerances in (
        ToleranceSet(
            name=_EBU,
            response_hz=(50.0, 2000.0, 16_000.0),
            upper_db=(3.0, 3.0, 3.0),
            lower_db=(-3.0, -3.0, -6.0),
            level_db=1.0,
            arrival_s=100e-6,
            reverberation_s=0.05,
            noise_nr=15.0,
            angles=True,
            sources={
                "response": _OF_EBU,
                "level": f"{_OF_BS1116}; clause not known",
                "arrival": f"{_OF_BS1116}; clause not known",
                "decay": _OF_EBU,
                "noise": _OF_EBU,
                "angles": _BS775,
            },
        ),
        ToleranceSet(
            name=_BS1116,
            response_hz=(50.0, 2000.0, 16_000.0),
            upper_db=(3.0, 3.0, 3.0),
            lower_db=(-3.0, -3.0, -7.5),
            level_db=1.0,
            arrival_s=100e-6,
            reverberation_s=0.05,
            noise_nr=15.0,
            angles=True,
            sources={
                "response": _SOUND_FIELD,
                "level": f"{_OF_BS1116}; clause not known",
                "arrival": f"{_OF_BS1116}; clause not known",
                "decay": _ROOM,
                "noise": f"{_OF_BS1116}; clause not known",
                "angles": _BS775,
            },
        ),
    )
}
# What a set of one's own begins with: bounds that small rooms can hold (our choice).
OWN = ToleranceSet(
    name="Own",
    response_hz=(40.0, 300.0, 2000.0, 16_000.0),
    upper_db=(6.0, 4.0, 3.0, 3.0),
    lower_db=(-6.0, -4.0, -3.0, -6.0),
    level_db=1.0,
    arrival_s=250e-6,
    noise_nr=20.0,
    sources={"response": "own", "level": "own", "arrival": "own", "noise": "own"},
)
