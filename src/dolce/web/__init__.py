"""Pages: text to typed values, results to templates."""

from dolce.web.app import create_app

__all__ = ["create_app"]
