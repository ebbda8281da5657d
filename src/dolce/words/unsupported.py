"""What a device can't hold, in words."""

from collections.abc import Sequence

from dolce.core.processor import Rounded, UnsupportedSetting


def unsupported_words(unsupported: UnsupportedSetting, *, band: str = "") -> str:
    """One sentence without its end; `band` names a band that stands alone."""
    value, low, high = unsupported.value, unsupported.low, unsupported.high
    what = band or f"band {unsupported.band}"
    match unsupported.kind:
        case "bands":
            text = f"{value:.0f} bands, the device has {high:.0f}"
        case "gain":
            text = f"{what} has {value:+.1f} dB, the device allows {low:g} to {high:g} dB"
        case "gain step":
            text = f"{what} has {value:+.2f} dB, the device goes in steps of {high:g} dB"
        case "q":
            text = f"{what} has Q {value:.2f}, the device allows {low:g} to {high:g}"
        case "trim":
            text = f"trim {value:+.1f} dB, the device allows {low:g} to {high:g} dB"
        case "trim step":
            text = f"trim {value:+.2f} dB, the device goes in steps of {high:g} dB"
        case "delay":
            text = f"delay {value * 1000:.2f} ms, the device allows {high * 1000:g} ms"
        case "delay step":
            text = f"delay {value * 1000:.3f} ms, the device goes in steps of {high * 1000:g} ms"
        case "crossover":
            text = "crossover, the device has none"
        case "routing":
            text = "bass goes to the subs, the device has no crossovers"
        case "all-passes":
            text = f"{value:.0f} all-passes, the device has {high:.0f}"
        case "shelf":
            text = f"{what} is a shelf, the device has none"
        case "taps":
            text = f"{value:.0f} taps, the device has {high:.0f}"
        case "bass taps":
            text = (
                f"filters of the common bass have {value:.0f} taps, the device holds {high:.0f} on the way to an output"
            )
    return f"{unsupported.channel}: {text}" if unsupported.channel else text


def rounded_words(rounded: Rounded) -> str:
    """What became of a value that a device can't take."""
    band = f"{rounded.at_hz:.0f} Hz"
    match rounded.kind:
        case "band left out":
            return f"the band at {band}, {rounded.was:+.1f} dB, is left out"
        case "gain":
            return f"{band} {rounded.was:+.2f} dB became {rounded.now:+.2f} dB"
        case "q":
            return f"{band} Q {rounded.was:.2f} became {rounded.now:.2f}"
        case "trim":
            return f"trim {rounded.was:+.2f} dB became {rounded.now:+.2f} dB"
        case "delay":
            return f"delay {rounded.was * 1000:.3f} ms became {rounded.now * 1000:.3f} ms"
        case "all-passes":
            return f"{rounded.was:.0f} all-passes, {rounded.now:.0f} are left"
        case "crossover":
            return f"the crossover at {rounded.was:g} Hz is left out"


def first_words(unsupported: Sequence[UnsupportedSetting], *, most: int = 3) -> str:
    """The first of several, and whether there are more."""
    return "; ".join(unsupported_words(setting) for setting in unsupported[:most]) + (
        " and more" if len(unsupported) > most else ""
    )
