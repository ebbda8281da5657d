"""Faults that a rehearsal can be given, to practise finding them."""

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace

from dolce.errors import InvalidValue


@dataclass(frozen=True, slots=True, kw_only=True)
class Fault:
    """What is wrong in the simulated rig.

    Attributes
    ----------
    kind : a key of FAULTS
    channels : tuple of str
        Those concerned: two for swapped outputs, one for most, none for faults of the whole rig.
    outputs : tuple of int
        For swapped outputs: where the two hung when the fault was made. Their cables stay crossed, whatever the plan
        says later.
    """

    kind: str
    channels: tuple[str, ...] = ()
    outputs: tuple[int, ...] = ()


# Kind: (words, how many channels it takes).
FAULTS: dict[str, tuple[str, int]] = {
    "inverted": ("Polarity inverted", 1),
    "swapped": ("Outputs swapped", 2),
    "dead": ("No sound", 1),
    "crossover": ("A crossover left on: no bass below 200 Hz", 1),
    "equaliser": ("An equaliser left on: +8 dB at 2 kHz", 1),
    "covered": ("A cloth before the speaker: 6 dB less treble", 1),
    "gain": ("8 dB too loud", 1),
    "soft": ("3 dB too soft", 1),
    "hum": ("Mains hum in the microphone line", 0),
    "burst": ("A door slams in one take", 0),
    "clipping": ("Microphone gain 50 dB too high", 0),
    "distorting": ("A microphone preamplifier that distorts", 0),
    "drift": ("Player's clock 60 ppm fast", 0),
    "feedback": ("The interface feeds the microphone back to the speakers", 0),
    "calibrator": ("The calibrator gives 20 dB less than it says", 0),
    "microphone": ("Another microphone than its curve belongs to", 0),
}


def checked_faults(faults: Iterable[Fault], outputs: Mapping[str, int]) -> tuple[Fault, ...]:
    """The faults, if each is known and concerns channels that are there; new swaps take note of the outputs.

    Parameters
    ----------
    outputs : physical output by channel

    Raises
    ------
    InvalidValue
        Naming the fault.
    """
    found = []
    for fault in faults:
        if fault.kind not in FAULTS:
            raise InvalidValue(f"{fault.kind!r} is not a fault.", where="faults", remedy=f"Choose {', '.join(FAULTS)}.")
        words, count = FAULTS[fault.kind]
        if len(set(fault.channels)) != count or not set(fault.channels) <= set(outputs):
            raise InvalidValue(
                f"{words}: {count} of the job's channels {'is' if count == 1 else 'are'} needed.",
                where="faults",
                remedy="Choose from the list of channels.",
            )
        crossed = fault.kind == "swapped" and not fault.outputs
        found.append(replace(fault, outputs=tuple(outputs[c] for c in fault.channels)) if crossed else fault)
    return tuple(found)
