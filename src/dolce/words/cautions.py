"""What a person should know of a take, in words."""

from dolce.core.response import Caution


def caution_words(caution: Caution) -> str:
    """One or two sentences."""
    value = caution.value
    match caution.kind:
        case "clipped":
            return (
                f"Clipped: {value:.0f} samples stand at the end of the range. Turn the microphone gain down and repeat."
            )
        case "noisy":
            return f"Only {value:.0f} dB above noise. Wait for quiet, or play louder."
        case "polarity unsure":
            return "Polarity not sure: the first swings up and down are about equal."
        case "starts late":
            return "The recording starts after the sweep began: its lowest part is missing."
        case "ends early":
            return "The recording ends before the sweep does: its highest part is missing."
        case "drop-outs":
            return f"The audio driver reported {value:.0f} drop-outs: look at the curve, and repeat if in doubt."
        case "delay unknown":
            return "Recorded elsewhere: the absolute delay is not known."
        case "loudest of channels":
            return f"The file has {value:.0f} channels; the loudest was used."
        case "resampled":
            return f"Resampled from {value:.0f} Hz."
        case "clock differs":
            return f"The recorder's clock differs by {value:+.0f} ppm; taken out."
        case "no sync chirp":
            return (
                "The sync chirps were not heard: its arrival is not known, and a difference of the clocks is still in "
                "it. Is the speaker that plays them on?"
            )
        case "repeats differ":
            return f"The averaged recordings differ by {value:.1f} dB: something moved or changed between them. Repeat."
        case "sequence":
            return (
                "A maximum length sequence: no distortion can be told, and what there is of it spreads over the "
                "response."
            )
        case "pink noise":
            return "Periodic pink noise: no distortion can be told."
        case "moving":
            return f"Moving-microphone average over {value:.0f} s: no arrival, no polarity, no phase."
        case "impulse response":
            return "An impulse response from a file: no noise, no distortion, and no arrival can be told."
        case "begins at arrival":
            return (
                f"The file begins {max(value, 0):.1f} ms ahead of its direct sound: it does not show the noise of "
                "the room."
            )
        case "arrival impossible":
            moment = "before" if value < 0 else "after"
            return (
                f"Its direct sound seems to come {1000 * abs(value):.0f} ms {moment} it can, by the plan and the "
                "delays, so the arrival is not used. Check the speaker of the sync chirps and the plan, and take it "
                "again."
            )
        case "curve of text":
            return f"A curve of text, {caution.text}: no phase, no arrival, no decay, no noise."
        case "said":
            return caution.text
