"""What every answer tells the browser: load nothing but what is ours, guess no types, tell nobody the address."""

from werkzeug.wrappers import Response

_POLICY = (
    "default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; "
    "connect-src 'self'; form-action 'self'; base-uri 'none'; frame-ancestors 'none'"
)


def with_safe_headers(response: Response) -> Response:
    """The same answer with them."""
    response.headers["Content-Security-Policy"] = _POLICY
    response.headers["X-Content-Type-Options"] = "nosniff"
    # To ourselves alone: without it a form's origin would be hidden from us too (Fetch, 3.1).
    response.headers["Referrer-Policy"] = "same-origin"
    response.headers["Cross-Origin-Opener-Policy"] = "same-origin"
    response.headers["Cross-Origin-Resource-Policy"] = "same-origin"
    return response
