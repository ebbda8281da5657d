"""Why a stretch of frequency has its verdict, in words: the same on a page and in a file."""

from collections.abc import Sequence

from dolce.core.correction import Stretch


def stretch_words(stretch: Stretch) -> str:
    """Why a stretch has its verdict; empty where it is simply corrected."""
    at, under = f"{stretch.lowest_hz:.0f} Hz", f"{stretch.under_target_db:.0f} dB under the target"
    match stretch.kind:
        case "outside":
            return "outside the range"
        case "beyond reach":
            return f"below the speaker's reach: {under} at {at}"
        case "cancelled":
            return f"narrow dip at {at}, {under}: a cancellation. Filling it costs headroom; move speaker or seat"
        case "filled":
            fill = f"fill {stretch.costs_db:.1f} dB" if stretch.costs_db else "may fill a part"
            return (f"narrow dip at {at}, {under}: a cancellation. Filters {fill} of it, since "
                    f"spots left out gain by that: {_left_out(stretch)}. Moving speaker or seat mends it")
        case "skirt":
            return f"outside the range, where filters at its end run out: {stretch.applied_db:+.1f} dB"
        case "reached":
            does = f"filters do {stretch.applied_db:+.1f} dB at {stretch.applied_hz:.0f} Hz"
            return (f"planned as {stretch.planned}; {does}"
                    + ("" if stretch.worth_db is None else f", worth {stretch.worth_db:+.1f} dB at spots left out"))
        case "no gain":
            return f"what the spots have here does not hold at others: {_left_out(stretch)}"
        case "loud":
            return (f"a hill at {stretch.at_spots} of {stretch.of_spots} spots, {stretch.size_db:+.0f} dB at "
                    f"{stretch.size_hz:.0f} Hz in the mean of levels, more in the mean of energy. That is cut to 3 dB "
                    f"above the target, though single spots lose by it: {_left_out(stretch)}")
        case "overruled":
            return f"your verdict: {stretch.reason}"
    return ""


def _left_out(stretch: Stretch) -> str:
    """What leaving spots out said."""
    return f"deviation {stretch.before_db:.1f} to {stretch.left_out_db:.1f} dB where they were left out"


def left_alone_rows(stretches: Sequence[Stretch]) -> list[dict[str, object]]:
    """Regions that are not simply corrected, with reasons, the gain applied and what that is worth elsewhere."""
    return [{"from_hz": round(s.from_hz, 1), "to_hz": round(s.to_hz, 1), "verdict": s.verdict,
             "kind": s.kind, "reason": stretch_words(s), "applied_db": round(s.applied_db, 2),
             "worth_db": None if s.worth_db is None else round(s.worth_db, 2)} for s in stretches]
