"""The verdict on a job in a word or two."""

from dolce.core.tuning import JobVerdict

_HEADINGS = {
    "not known": "Not known yet.",
    "not proven": "Not proven.",
    "proven but": "Proven, with limits.",
    "proven": "Proven.",
}


def heading(verdict: JobVerdict) -> str:
    """The verdict itself, in a word or two."""
    if verdict.since and verdict.kind in ("proven", "proven but"):
        return f"Was proven on {verdict.measured_at:%d %b %Y}." if verdict.measured_at else "Was proven."
    return _HEADINGS[verdict.kind]
