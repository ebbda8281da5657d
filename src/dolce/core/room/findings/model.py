"""A finding: something noticed about a plan, with its evidence as numbers."""

from collections.abc import Mapping
from dataclasses import dataclass, field

MATTERS = 0.3


@dataclass(frozen=True, slots=True, kw_only=True)
class Finding:
    """One thing noticed.

    Attributes
    ----------
    kind : str
        What it is about; decides the words.
    subjects : tuple of str
        Keys of the things concerned ("L", "seat-1").
    about : str
        What else belongs to its name, such as the boundary or the orders of a mode.
    weight : float
        How much it matters, 0 to 1; from 0.3 on it stands among the first.
    values : mapping of str to float
        The evidence and what moving would do, each with its unit in its name.
    """

    kind: str
    subjects: tuple[str, ...]
    weight: float
    about: str = ""
    values: Mapping[str, float] = field(default_factory=dict)

    @property
    def key(self) -> str:
        """Its name, the same as long as kind, things and boundary are."""
        return ":".join((self.kind, *self.subjects, *([self.about] if self.about else [])))

    @property
    def evidence(self) -> str:
        """The evidence as text, rounded as shown; a dismissal holds as long as this stays the same."""
        return ";".join(f"{name}={_rounded(name, value):g}" for name, value in sorted(self.values.items()))

    @property
    def matters(self) -> bool:
        return self.weight >= MATTERS


def _rounded(name: str, value: float) -> float:
    """To a centimetre, a hertz, half a degree, a tenth of the rest."""
    if name.endswith("_m"):
        return round(value, 2)
    if name.endswith("_hz"):
        return round(value)
    return round(value * 2) / 2 if name.endswith("_deg") else round(value, 1)
