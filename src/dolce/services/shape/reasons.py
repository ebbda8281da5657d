"""Why a stretch of frequency gets no boost, in words: the same on a page and in a file."""

from collections.abc import Sequence

from dolce.core.correction import Stretch


def stretch_words(stretch: Stretch) -> str:
    """Why a stretch gets no boost; empty where it does."""
    at, under = f"{stretch.lowest_hz:.0f} Hz", f"{stretch.under_target_db:.0f} dB under the target"
    match stretch.kind:
        case "outside":
            return "outside the range"
        case "beyond reach":
            return f"below the speaker's reach: {under} at {at}"
        case "cancelled":
            return (f"narrow dip at {at}, {under}: a cancellation. Filling it only costs headroom; "
                    "move speaker or seat")
        case "restless":
            return f"dip at {at} moves between spots (spread {stretch.spread_db:.1f} dB)"
    return ""


def left_alone_rows(stretches: Sequence[Stretch]) -> list[dict[str, object]]:
    """Ranges that were left alone, with reasons."""
    return [{"from_hz": round(s.from_hz, 1), "to_hz": round(s.to_hz, 1), "verdict": s.verdict,
             "kind": s.kind, "reason": stretch_words(s)} for s in stretches]
