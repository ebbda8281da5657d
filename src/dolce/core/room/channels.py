"""Channel codes as in the trade, their names and their partners."""

CHANNEL_NAMES = {
    "L": "Left",
    "R": "Right",
    "C": "Centre",
    "Lw": "Left wide",
    "Rw": "Right wide",
    "Ls": "Left surround",
    "Rs": "Right surround",
    "Lrs": "Left rear surround",
    "Rrs": "Right rear surround",
    "Ltf": "Left top front",
    "Rtf": "Right top front",
    "Ltm": "Left top middle",
    "Rtm": "Right top middle",
    "Ltr": "Left top rear",
    "Rtr": "Right top rear",
}
SUB_CODES = ("Sub1", "Sub2", "Sub3", "Sub4")
_NAMES = {**CHANNEL_NAMES, **{code: f"Sub {code[3:]}" for code in SUB_CODES}}


def channel_name(code: str) -> str:
    """The code spelled out; a code of the calibrator's own stands for itself."""
    return _NAMES.get(code, code)


def partner_of(code: str) -> str | None:
    """The channel that mirrors another one, such as "Rs" for "Ls"; None for the centre, subs and free codes."""
    if code not in CHANNEL_NAMES or code[0] not in "LR":
        return None
    return {"L": "R", "R": "L"}[code[0]] + code[1:]


def group_of(code: str) -> str:
    """ "fronts", "surrounds", "heights", "subs", or "others" for codes of the calibrator's own."""
    if code in SUB_CODES:
        return "subs"
    if code not in CHANNEL_NAMES:
        return "others"
    if code[1:].startswith("t"):
        return "heights"
    return "surrounds" if code.endswith("s") else "fronts"


def side_of(code: str) -> str:
    """ "left", "right" or "middle", as the code says."""
    if code not in CHANNEL_NAMES or code == "C":
        return "middle"
    return "left" if code[0] == "L" else "right"
