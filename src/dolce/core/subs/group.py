"""Several subs as one: what each gets among them, and what they get together against the main channels."""

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Literal, Self

from dolce.core.checked import limited, ranges, within
from dolce.core.subs.field import SubSetting

SUBS = "subs"  # what the group is called where channels are listed
How = Literal["as they are", "distances", "search", "by hand"]


@dataclass(frozen=True, slots=True, kw_only=True)
class SubGroup:
    """A group of subs.

    Attributes
    ----------
    settings : mapping of sub to SubSetting
        Among themselves: delays from 0, the loudest at 0 dB.
    how : str
        Where these come from.
    delay_s, polarity : float, 1 or -1
        What all of them get against the main channels once these arrive together; a delay below 0 makes these later.
    most_wait_s : float
        How much later than need be the subs may make the main channels.
    held : bool
        Whether these two were set by hand, and are not looked for.
    """

    settings: Mapping[str, SubSetting]
    how: How = "as they are"
    delay_s: float = 0.0
    polarity: Literal[1, -1] = 1
    most_wait_s: float = limited(0, 0.1, where="wait of the main channels", unit="s", default=0.01)
    held: bool = False

    def __post_init__(self) -> None:
        ranges(self)
        for sub, setting in self.settings.items():
            within(setting.delay_s, low=0, high=0.2, where=f"delay of {sub}", unit="s")
            within(setting.gain_db, low=-40, high=12, where=f"gain of {sub}", unit="dB")
        within(self.delay_s, low=-0.1, high=0.1, where="delay of the subs", unit="s")

    @classmethod
    def of(cls, settings: Mapping[str, SubSetting], *, how: How) -> Self:
        """Of any settings, brought to delays from 0 and a loudest gain of 0 dB."""
        first = min((setting.delay_s for setting in settings.values()), default=0.0)
        loudest = max((setting.gain_db for setting in settings.values()), default=0.0)
        return cls(
            how=how,
            settings={
                sub: replace(
                    setting, delay_s=round(setting.delay_s - first, 7), gain_db=round(setting.gain_db - loudest, 3)
                )
                for sub, setting in settings.items()
            },
        )

    def against_main_channels(self, *, delay_s: float, polarity: Literal[1, -1], held: bool = False) -> Self:
        """The same with another delay and polarity of all."""
        return replace(self, delay_s=delay_s, polarity=polarity, held=held)

    def delay_of(self, sub: str) -> float:
        """Whole delay of a sub against main channels that arrive together, in s."""
        return self.delay_s + self.settings[sub].delay_s

    def inverted(self, sub: str) -> bool:
        """Whether a sub is turned round."""
        return self.polarity * self.settings[sub].polarity < 0


def by_distance(distance_m: Mapping[str, float], *, speed_m_s: float, step_s: float = 1e-5) -> SubGroup:
    """Subs that arrive together at one place, by the plan."""
    farthest = max(distance_m.values())
    return SubGroup.of(
        {
            sub: SubSetting(delay_s=round((farthest - far) / speed_m_s / step_s) * step_s)
            for sub, far in distance_m.items()
        },
        how="distances",
    )
