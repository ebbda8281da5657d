"""What is known of a room's decay: a typed time, or what its surfaces are made of."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Literal

from dolce.core.checked import limited, ranges
from dolce.errors import InvalidValue

OCTAVES_HZ = (125, 250, 500, 1000, 2000, 4000)
SURFACES = ("floor", "ceiling", "front wall", "back wall", "left wall", "right wall")
# Absorption coefficients by octave, 125 Hz to 4 kHz: M. Vorländer, "Auralization", Springer 2008, appendix.
MATERIALS: dict[str, tuple[float, ...]] = {
    "rendered brick": (0.01, 0.02, 0.02, 0.03, 0.03, 0.04),
    "rough concrete": (0.02, 0.03, 0.03, 0.03, 0.04, 0.07),
    "plasterboard on studs": (0.15, 0.10, 0.06, 0.04, 0.04, 0.05),
    "plasterboard ceiling": (0.20, 0.15, 0.10, 0.08, 0.04, 0.02),
    "wood on battens": (0.18, 0.12, 0.10, 0.09, 0.08, 0.07),
    "thin plywood panelling": (0.42, 0.21, 0.10, 0.08, 0.06, 0.06),
    "window": (0.10, 0.05, 0.04, 0.03, 0.03, 0.03),
    "hard floor": (0.02, 0.03, 0.03, 0.03, 0.03, 0.02),
    "thin carpet": (0.02, 0.04, 0.08, 0.20, 0.35, 0.40),
    "carpet on felt": (0.08, 0.08, 0.30, 0.60, 0.75, 0.80),
    "draped cotton curtain": (0.30, 0.45, 0.65, 0.56, 0.59, 0.71),
    "mineral wool 50 mm": (0.15, 0.70, 0.60, 0.60, 0.85, 0.90),
    "mineral wool 50 mm, 300 mm off the wall": (0.70, 0.45, 0.65, 0.60, 0.75, 0.65),
    "fissured ceiling tile": (0.49, 0.53, 0.53, 0.75, 0.92, 0.99),
}


DecaySource = Literal["typed", "surfaces"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Reverberation:
    """What is known about the decay.

    Attributes
    ----------
    source : "typed" or "surfaces"
    typed_s : float
        Reverberation time at low frequencies, 0.05 to 5 s.
    surfaces : mapping of surface to material
        One of MATERIALS for each of SURFACES.
    """

    source: DecaySource = "typed"
    typed_s: float = limited(0.05, 5, where="reverberation time", unit="s", default=0.3)
    surfaces: Mapping[str, str] = field(
        default_factory=lambda: (
            dict.fromkeys(SURFACES, "plasterboard on studs")
            | {"floor": "thin carpet", "ceiling": "plasterboard ceiling"}
        )
    )

    def __post_init__(self) -> None:
        if self.source not in ("typed", "surfaces"):
            raise InvalidValue(
                f"{self.source!r} is not a choice.", where="reverberation", remedy="Choose typed or surfaces."
            )
        ranges(self)
        if set(self.surfaces) != set(SURFACES):
            raise InvalidValue(
                "a material is needed for each surface.", where="surfaces", remedy=f"Name {', '.join(SURFACES)}."
            )
        for surface, material in self.surfaces.items():
            if material not in MATERIALS:
                raise InvalidValue(
                    f"{material!r} is not in the table.", where=surface, remedy=f"Choose {', '.join(MATERIALS)}."
                )
