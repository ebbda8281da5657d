"""What the rig found, in words: lines, microphones, ramp."""

from collections.abc import Sequence

from dolce.core.levels import LevelReading
from dolce.core.processor import BassManagement
from dolce.core.rig import LineFinding, MicrophoneFinding, RampStep
from dolce.words.numbers import hertz, length, plain, signed


def line_words(finding: LineFinding, units: str) -> str:
    """What was noticed on a line and what to do, lengths in the job's units."""
    value = finding.value
    match finding.kind:
        case "howls":
            return "It goes on when the sweep is over: feedback. Switch off input monitoring in the interface."
        case "clips":
            return "The microphone input clips. Turn its gain down and check again."
        case "silent":
            return "No sound. Check cable, power, and mutes along the chain."
        case "inverted":
            return "Polarity inverted."
        case "unsure":
            return "Polarity not sure: its first swing goes both ways alike."
        case "distance":
            direction = "farther away" if value > 0 else "nearer"
            return (
                f"Sounds {length(abs(value), units)} {direction} than the plan has it: another speaker, a delay left "
                "on, or the plan is off."
            )
        case "level":
            direction = "louder" if value > 0 else "softer"
            return f"{abs(value):.0f} dB {direction} than the others, distance taken out. Check its gain."
        case "no bass":
            return "No bass, though the plan says it plays that low: is a crossover or high-pass left on?"
        case "hump":
            at = f" around {hertz(finding.at_hz)}" if finding.at_hz else ""
            return f"A hump of {value:.0f} dB{at}: is an equaliser left on?"
        case "hump everywhere":
            return f"A hump of {value:.0f} dB as on every line: does the microphone's curve belong to it?"
        case "treble":
            return (
                f"{-value:.0f} dB less than {finding.other} above {hertz(finding.at_hz)}: something stands before "
                "it, it points elsewhere, its tweeter is damaged, or a switch on its back differs."
            )
        case "unlike its pair":
            return (
                f"{value:.0f} dB more than {finding.other} around {hertz(finding.at_hz)}: is an equaliser or a "
                "switch set otherwise?"
            )
        case "hum":
            return f"Mains hum, {value:.0f} dB above the noise around it. Check the microphone's cable."


def level_words(reading: LevelReading) -> str:
    """What to change after a level check, and by how much."""
    part, change_db = reading.remedy
    if reading.verdict == "clipped":
        return f"The input runs out of range. Turn the microphone gain down by {-change_db:.0f} dB and check again."
    match part:
        case "none":
            return "Leave it as it is."
        case "microphone gain":
            return f"Turn the microphone gain down by about {-change_db:.0f} dB."
        case "sweep level" if change_db < 0:
            return (
                f"That is {reading.over_db or 0:.0f} dB louder than suits this room, for ears and speakers. "
                f"Turn the sweep level down by about {-change_db:.0f} dB."
            )
        case "sweep level":
            return f"Play about {change_db:.0f} dB louder. More microphone gain lifts the room noise as well."


def microphone_words(finding: MicrophoneFinding) -> str:
    """What is missing or does not fit, and what to do."""
    match finding.kind:
        case "none":
            return "No microphone is chosen: what it adds will be taken for the room and the speakers."
        case "no curve":
            return f"{finding.microphone} has no curve: what it adds will be taken for the room and the speakers."
        case "wrong angle":
            return (
                f"{finding.microphone} points so that sound meets it at {finding.needs}°, but only its curve for "
                f"{finding.has}° is known. Read the other file, or turn the microphone."
            )
        case "not asked":
            return "Say which way the microphone points: the curve for 0° is used until then."
        case "one input twice":
            return "Two microphones are on the same input."
        case "not compared":
            return f"{finding.microphone} was not compared with the first one yet: put them together and play."


def ramp_words(step: RampStep) -> str:
    """Where the ramp stands."""
    margins = f"{step.above_noise_db:.0f} dB above noise, {step.to_clipping_db:.0f} dB to clipping"
    match step.word:
        case "rising":
            return f"Coming up: {margins}."
        case "good":
            return f"Good: {margins}."
        case "ceiling":
            return f"Ended at the ceiling: {margins}. Raise it, or turn the power amplifier or monitor up."
        case "clipping":
            return f"Ended before clipping: {margins}. Turn the microphone gain down and begin anew."
        case "loudest":
            return f"As loud as noise can be: {margins}. Turn the monitors up."


def change_words(change_db: float, step_db: float = 0.1) -> str:
    """Which way to turn, and how far."""
    digits = 2 if step_db < 0.1 else 1
    if abs(change_db) < step_db / 2:
        return "leave it"
    return f"{'up' if change_db > 0 else 'down'} {signed(abs(change_db), digits).lstrip('+')} dB"


def bass_words(bass: BassManagement, main_channels: Sequence[str]) -> str:
    """What a processor does with the bass, in one sentence or two."""
    by_crossover: dict[float, list[str]] = {}
    for channel in main_channels:
        crossover = bass.of(channel)
        if crossover is not None:
            by_crossover.setdefault(crossover.frequency_hz, []).append(channel)
    players, plays = bass.subs, "goes to"
    if bass.common is not None:
        players, plays = tuple(bass.common.convolutions), "is played together, each through a filter of its own, by"
    parts = [f"{', '.join(channels)} below {at_hz:g} Hz" for at_hz, channels in by_crossover.items()]
    words = f"Bass of {'; of '.join(parts)} {plays} {', '.join(players)}." if parts else ""
    if bass.common is not None:
        words += f" Channels' own sound waits {plain(1000 * bass.common.latency_s)} ms for it."
    if bass.effects is not None:
        words += (
            f" The effects channel goes there up to {bass.effects.low_pass.frequency_hz:g} Hz, "
            f"{bass.effects.gain_db:+g} dB."
        )
    for channel, outputs in bass.sends.items():
        words += "".join(f" {channel} plays on {output} too, {gain:+g} dB." for output, gain in outputs.items())
    return words.strip()
