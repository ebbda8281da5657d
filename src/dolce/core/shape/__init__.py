"""One state of the Shape stop: what is aimed at, what is allowed, and the bands."""

from dolce.core.shape.model import Band, Shape

__all__ = ["Band", "Shape"]
