"""Loudspeaker layouts with the direction each channel should have, seen from the main seat.

Angles are in degrees, positive to the right of straight ahead and upward. The tables of Rec. ITU-R BS.2051 count to
the left; here the sign is turned, as everywhere in this application.

References
----------
Rec. ITU-R BS.775-4 (stereo and 5.1); Rec. ITU-R BS.2051-3, systems A, B, C, D, H, I and J.
"""

from dataclasses import dataclass

from dolce.core.room.channels import partner_of

FREE = "free"
# Where a document gives an angle without a range: what is commonly accepted (common practice).
_EXACT_TOLERANCE_DEG = 3.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Reference:
    """Where a channel belongs.

    Attributes
    ----------
    azimuth_deg, elevation_deg : float
        Its nominal direction.
    azimuth_range_deg, elevation_range_deg : (float, float)
        The directions allowed; low to high.
    source : str
        The document.
    """

    azimuth_deg: float
    azimuth_range_deg: tuple[float, float]
    elevation_deg: float
    elevation_range_deg: tuple[float, float]
    source: str

    def mirrored(self) -> "Reference":
        """The same on the other side."""
        low, high = self.azimuth_range_deg
        return Reference(
            azimuth_deg=-self.azimuth_deg,
            azimuth_range_deg=(-high, -low),
            source=self.source,
            elevation_deg=self.elevation_deg,
            elevation_range_deg=self.elevation_range_deg,
        )

    @property
    def overhead(self) -> bool:
        return self.elevation_deg > 15


def _ear(source: str, nominal: float, low: float | None = None, high: float | None = None) -> Reference:
    """A direction at ear height, on the right; without a range, the nominal angle with what is commonly accepted."""
    least = nominal - _EXACT_TOLERANCE_DEG if low is None else low
    most = nominal + _EXACT_TOLERANCE_DEG if high is None else high
    top = 15.0 if abs(nominal) > 90 else 10.0
    return Reference(
        azimuth_deg=nominal,
        azimuth_range_deg=(least, most),
        elevation_deg=0.0,
        elevation_range_deg=(-10.0, top),
        source=source,
    )


def _top(source: str, nominal: float, low: float, high: float) -> Reference:
    """A direction overhead, on the right."""
    return Reference(
        azimuth_deg=nominal,
        azimuth_range_deg=(low, high),
        elevation_deg=30.0,
        elevation_range_deg=(30.0, 55.0),
        source=source,
    )


_C = _ear("ITU-R BS.775", 0)
_STEREO = _ear("ITU-R BS.775", 30)
_FRONT_2051 = _ear("ITU-R BS.2051 system J", 30, 30, 45)
_FIVE = {"L": _STEREO, "C": _C, "Ls": _ear("ITU-R BS.775", 110, 100, 120)}
_SEVEN = {
    "L": _FRONT_2051,
    "C": _C,
    "Ls": _ear("ITU-R BS.2051 system I", 90, 85, 110),
    "Lrs": _ear("ITU-R BS.2051 system I", 135, 120, 150),
}
_TOP_MIDDLE = _top("ITU-R BS.2051 system H", 90, 80, 100)
_TOP_J = {"Ltf": _top("ITU-R BS.2051 system J", 45, 30, 45), "Ltr": _top("ITU-R BS.2051 system J", 135, 100, 150)}
# One side of each layout; the other mirrors it.
_HALVES: dict[str, dict[str, Reference]] = {
    "1.0": {"C": _C},
    "2.0": {"L": _STEREO},
    "2.1": {"L": _STEREO},
    "3.1": {"L": _STEREO, "C": _C},
    "5.1": _FIVE,
    "5.1.2": {**_FIVE, "Ltf": _top("ITU-R BS.2051 system C", 30, 30, 45)},
    "5.1.4": {
        **_FIVE,
        "Ltf": _top("ITU-R BS.2051 system D", 30, 30, 45),
        "Ltr": _top("ITU-R BS.2051 system D", 110, 100, 135),
    },
    "7.1": _SEVEN,
    "7.1.2": {**_SEVEN, "Ltm": _TOP_MIDDLE},
    "7.1.4": {**_SEVEN, **_TOP_J},
    "9.1.6": {**_SEVEN, "Lw": _ear("ITU-R BS.2051 system H", 60, 45, 60), **_TOP_J, "Ltm": _TOP_MIDDLE},
}
_ORDER = ("L", "R", "C", "Lw", "Rw", "Ls", "Rs", "Lrs", "Rrs", "Ltf", "Rtf", "Ltm", "Rtm", "Ltr", "Rtr")


def _both_sides(half: dict[str, Reference]) -> dict[str, Reference]:
    whole = {}
    for code, right in half.items():
        partner = partner_of(code)
        if partner is None:
            whole[code] = right
        else:
            whole[code], whole[partner] = right.mirrored(), right
    return {code: whole[code] for code in _ORDER if code in whole}


LAYOUTS: dict[str, dict[str, Reference]] = {name: _both_sides(half) for name, half in _HALVES.items()}
LAYOUT_NAMES = (*LAYOUTS, FREE)


def reference_of(layout: str, channel: str) -> Reference | None:
    """Where a channel of a layout belongs; in a free layout as in the largest; None for subs and free codes."""
    return LAYOUTS.get(layout, LAYOUTS["9.1.6"]).get(channel)


def usual_subs(layout: str) -> int:
    """How many subs a layout usually comes with: one where it has an effects channel."""
    return 1 if ".1" in layout else 0
