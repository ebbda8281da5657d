"""Text in cells of CSV that spreadsheets would take for formulas: made harmless, and read back as it was.

References
----------
OWASP, "CSV Injection": cells that begin with = + - @, a tab or a line end are evaluated by spreadsheets.
"""

_EVALUATED = ("=", "+", "-", "@", "\t", "\r", "\n")
_GUARD = "'"


def harmless(text: str) -> str:
    """The text, with an apostrophe before it where a spreadsheet would evaluate it, or where it begins with one."""
    return _GUARD + text if text.startswith((*_EVALUATED, _GUARD)) else text


def original(cell: str) -> str:
    """What `harmless` was given; any other text as it is."""
    return cell[1:] if cell.startswith(_GUARD) and cell[1:].startswith((*_EVALUATED, _GUARD)) else cell
