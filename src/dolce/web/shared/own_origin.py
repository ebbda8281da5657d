"""Whether a change is asked for by a page of ours.

References
----------
WHATWG, "Fetch", 3.1 (`Origin` header): browsers name the origin of the page that asks with every change.
W3C, "Fetch Metadata Request Headers", 2.3 (`Sec-Fetch-Site`): and how it stands to the one that is asked.
"""

from flask import request

_ONLY_LOOK = ("GET", "HEAD", "OPTIONS")


def asked_from_elsewhere() -> bool:
    """Whether a browser says that a page of another origin asks for a change; what is no browser says nothing."""
    if request.method in _ONLY_LOOK:
        return False
    this_origin = f"{request.scheme}://{request.host}"
    return request.headers.get("Origin", this_origin) != this_origin or request.headers.get(
        "Sec-Fetch-Site", "same-origin"
    ) not in ("same-origin", "none")
