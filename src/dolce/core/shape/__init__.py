"""One state of the Shape stop: what is aimed at, what is allowed, and the bands."""

from dolce.core.shape.model import SUB_LEVEL_BAND_HZ, Band, Shape

__all__ = ["SUB_LEVEL_BAND_HZ", "Band", "Shape"]
