"""Why a frequency region has its verdict, in words: the same on a page and in a file."""

from collections.abc import Sequence

from dolce.core.correction import Region


def region_words(region: Region) -> str:
    """Why a region has its verdict; empty where it is simply corrected."""
    at, under = f"{region.lowest_hz:.0f} Hz", f"{region.under_target_db:.0f} dB under the target"
    match region.kind:
        case "outside":
            return "outside the range"
        case "beyond reach":
            return f"below the speaker's reach: {under} at {at}"
        case "cancelled":
            return f"narrow dip at {at}, {under}: a cancellation. Filling it costs headroom; move speaker or seat"
        case "filled":
            fill = f"fill {region.costs_db:.1f} dB" if region.costs_db else "may fill a part"
            return (
                f"narrow dip at {at}, {under}: a cancellation. Filters {fill} of it, since "
                f"spots left out gain by that: {_left_out(region)}. Moving speaker or seat mends it"
            )
        case "skirt":
            return f"outside the range, where filters at its end run out: {region.applied_db:+.1f} dB"
        case "reached":
            does = f"filters do {region.applied_db:+.1f} dB at {region.applied_hz:.0f} Hz"
            return f"planned as {region.planned}; {does}" + (
                "" if region.worth_db is None else f", worth {region.worth_db:+.1f} dB at spots left out"
            )
        case "no gain":
            return f"what the spots have here does not hold at others: {_left_out(region)}"
        case "loud":
            return (
                f"a hill at {region.at_spots} of {region.of_spots} spots, {region.size_db:+.0f} dB at "
                f"{region.size_hz:.0f} Hz in the mean of levels, more in the mean of energy. That is cut to 3 dB "
                f"above the target, though single spots lose by it: {_left_out(region)}"
            )
        case "overruled":
            return f"your verdict: {region.reason}"
        case "good enough" | "fair":
            return ""


def _left_out(region: Region) -> str:
    """What leaving spots out said."""
    return f"deviation {region.before_db:.1f} to {region.left_out_db:.1f} dB where they were left out"


def left_alone_rows(regions: Sequence[Region]) -> list[dict[str, object]]:
    """Regions that are not simply corrected, with reasons, the gain applied and what that is worth elsewhere."""
    return [
        {
            "from_hz": round(s.from_hz, 1),
            "to_hz": round(s.to_hz, 1),
            "verdict": s.verdict,
            "kind": s.kind,
            "reason": region_words(s),
            "applied_db": round(s.applied_db, 2),
            "worth_db": None if s.worth_db is None else round(s.worth_db, 2),
        }
        for s in regions
    ]
