"""Measuring microphones: what is known of each, how it points, and which curve that asks for."""

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from dolce.core.checked import Range, limited, range_of, ranges
from dolce.core.response import ANALYSIS_GRID_HZ, MicrophoneCurve, smoothed_level_db
from dolce.errors import InvalidValue

MOST_INPUTS = 64
FULL_SCALE_DBU = Range(-80, 40, "full scale", "dBu")
Angle = Literal[0, 90]
MicrophoneFault = Literal["none", "no curve", "wrong angle", "not asked", "one input twice", "not compared"]
ANGLES: tuple[Angle, ...] = (0, 90)
Pointing = Literal["", "speakers", "ceiling", "floor"]
# What sound that comes along the floor plan meets: the front of a microphone, or its side.
POINTINGS: dict[str, tuple[str, Angle]] = {
    "speakers": ("at the speakers", 0),
    "ceiling": ("at the ceiling", 90),
    "floor": ("at the floor", 90),
}
_DIFFERENCE_PER_OCTAVE = 3.0
_DIFFERENCE_POINTS_HZ = np.geomspace(20, 20_000, 61)


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Microphone:
    """One microphone of the calibrator's, for all jobs.

    Attributes
    ----------
    id : int or None
        None before it is kept.
    sensitivity_mv_pa : float or None
        Millivolts per pascal, 0.1 to 1,000.
    curves : mapping of 0 or 90 (degrees) to MicrophoneCurve
    curve_files : mapping of 0 or 90 to the name of the file it came from
    """

    id: int | None = None
    name: str
    serial: str = ""
    sensitivity_mv_pa: float | None = limited(0.1, 1000, where="sensitivity", unit="mV/Pa", default=None)
    curves: Mapping[int, MicrophoneCurve] = field(default_factory=dict)
    curve_files: Mapping[int, str] = field(default_factory=dict)

    def __post_init__(self) -> None:
        if not self.name.strip():
            raise InvalidValue("a microphone needs a name.", where="name", remedy="Type one.")
        ranges(self)
        if not set(self.curves) <= set(ANGLES):
            raise InvalidValue(
                f"curves for {sorted(self.curves)} degrees.", where="curves", remedy="0 and 90 degrees are kept."
            )


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class MicrophoneInUse:
    """A microphone in a job, on an input of the interface, as it was known when it was chosen.

    Attributes
    ----------
    difference : MicrophoneCurve or None
        What it reads more than the first microphone, curves taken out, both in one place; None before that was heard.
    """

    microphone: Microphone
    input: int = limited(1, MOST_INPUTS, where="microphone input", whole=True, default=1)
    difference: MicrophoneCurve | None = None

    def __post_init__(self) -> None:
        ranges(self)

    def curve(self, pointing: str) -> tuple[MicrophoneCurve | None, Angle | None]:
        """The curve to take out and its angle: the one the pointing asks for, else the other one, else none."""
        wanted = POINTINGS[pointing][1] if pointing else 0
        for angle in (wanted, *(a for a in ANGLES if a != wanted)):
            if angle in self.microphone.curves:
                return self.microphone.curves[angle], angle
        return None, None

    def taken_out(self, pointing: str) -> MicrophoneCurve | None:
        """Curve and difference as one; None where neither is known."""
        curve, _ = self.curve(pointing)
        if self.difference is None:
            return curve
        frequency = _DIFFERENCE_POINTS_HZ
        curve_response = curve.on(frequency) if curve is not None else np.ones(frequency.size)
        both = curve_response * self.difference.on(frequency)
        return MicrophoneCurve(
            frequency_hz=frequency,
            level_db=20 * np.log10(np.abs(both)),
            phase_deg=np.degrees(np.unwrap(np.angle(both))),
        )


@dataclass(frozen=True, slots=True, kw_only=True)
class MicrophoneFinding:
    """Something about the microphones that spoils results; the words are the page's.

    Attributes
    ----------
    kind : MicrophoneFault
    microphone : str
    has, needs : int or None
        Angles in degrees.
    """

    kind: MicrophoneFault
    microphone: str = ""
    has: int | None = None
    needs: int | None = None


REFERENCE_PA = 20e-6  # 0 dB SPL; 1 Pa is 93.98 dB
_DBU_V = 0.6**0.5  # 0 dBu: 1 mW in 600 ohms, 0.7746 V


def full_scale_by_sensitivity_db(sensitivity_mv_pa: float, *, full_scale_dbu: float) -> float:
    """Sound pressure level of a full-scale sine, from the microphone's sensitivity and what drives the input full.

    Parameters
    ----------
    sensitivity_mv_pa : float
        Millivolts per pascal, into the input as it is.
    full_scale_dbu : float
        RMS level at the input's terminals that reads 0 dBFS, at the present gain; -80 to 40 dBu (0 dBu is 0.775 V).
    """
    range_of(Microphone, "sensitivity_mv_pa").holds(sensitivity_mv_pa)
    FULL_SCALE_DBU.holds(full_scale_dbu)
    pascal = _DBU_V * 10 ** (full_scale_dbu / 20) / (sensitivity_mv_pa / 1000)
    return float(20 * np.log10(pascal / REFERENCE_PA))


def microphone_findings(used: Sequence[MicrophoneInUse], pointing: str) -> list[MicrophoneFinding]:
    """What is missing or does not fit, the weightiest first."""
    if not used:
        return [MicrophoneFinding(kind="none")]
    found = []
    for microphone in used:
        _, angle = microphone.curve(pointing)
        name = microphone.microphone.name
        if angle is None:
            found.append(MicrophoneFinding(kind="no curve", microphone=name))
        elif pointing and angle != POINTINGS[pointing][1]:
            found.append(
                MicrophoneFinding(kind="wrong angle", microphone=name, has=angle, needs=POINTINGS[pointing][1])
            )
    if not pointing:
        found.append(MicrophoneFinding(kind="not asked"))
    inputs = [microphone.input for microphone in used]
    if len(set(inputs)) < len(inputs):
        found.append(MicrophoneFinding(kind="one input twice"))
    found += [
        MicrophoneFinding(kind="not compared", microphone=microphone.microphone.name)
        for microphone in used[1:]
        if microphone.difference is None
    ]
    return found


def differences(levels_db: NDArray[np.float64]) -> list[MicrophoneCurve | None]:
    """What each microphone reads more than the first, over 1/3-octave bands; None for the first.

    Parameters
    ----------
    levels_db : ndarray, shape (microphones, points)
        Of one source with all microphones together, on the analysis grid, curves taken out.
    """
    smooth = smoothed_level_db(np.asarray(levels_db), per_octave=_DIFFERENCE_PER_OCTAVE)
    found: list[MicrophoneCurve | None] = [None]
    for level in smooth[1:]:
        over = np.interp(np.log(_DIFFERENCE_POINTS_HZ), np.log(ANALYSIS_GRID_HZ), level - smooth[0])
        found.append(MicrophoneCurve(frequency_hz=_DIFFERENCE_POINTS_HZ, level_db=over, phase_deg=np.zeros(over.size)))
    return found
