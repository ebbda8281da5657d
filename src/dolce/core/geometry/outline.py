"""Floor outlines: closed polygons of corners (x, y) in metres, the last joined to the first."""

import numpy as np
from numpy.typing import NDArray

from dolce.errors import InvalidValue

Corners = tuple[tuple[float, float], ...]
MOST_CORNERS = 24


def checked_outline(corners: Corners, *, width_m: float, length_m: float) -> Corners:
    """The corners, each within 0..width and 0..length.

    Raises
    ------
    InvalidValue
        If there are fewer than 3 or more than 24 corners, one lies outside, two follow each other in one place, or
        two edges cross.
    """
    if not 3 <= len(corners) <= MOST_CORNERS:
        raise InvalidValue(f"{len(corners)} corners.", where="outline", remedy=f"Use 3 to {MOST_CORNERS}.")
    for number, (x, y) in enumerate(corners, 1):
        if not (0 <= x <= width_m and 0 <= y <= length_m):
            raise InvalidValue(
                f"({x:g}, {y:g}) m lies outside the room.",
                where=f"outline corner {number}",
                remedy=f"Keep x in 0 to {width_m:g} and y in 0 to {length_m:g} m.",
            )
    pair = _first_crossing(corners)
    if pair is not None:
        raise InvalidValue(
            f"the walls after corners {pair[0]} and {pair[1]} meet or cross.",
            where="outline",
            remedy="List the corners in the order in which one walks along the walls.",
        )
    if outline_area_m2(corners) < 1:
        raise InvalidValue(
            f"the outline encloses {outline_area_m2(corners):.2f} m².",
            where="outline",
            remedy="At least 1 m² is needed.",
        )
    return corners


def outline_area_m2(corners: Corners) -> float:
    """Area enclosed, by the shoelace formula."""
    x, y = np.array(corners).T
    return float(abs(np.dot(x, np.roll(y, -1)) - np.dot(y, np.roll(x, -1))) / 2)


def outline_length_m(corners: Corners) -> float:
    """Length of all walls together."""
    points = np.array(corners)
    return float(np.linalg.norm(np.roll(points, -1, axis=0) - points, axis=1).sum())


def inside_outline(corners: Corners, x_m: NDArray | float, y_m: NDArray | float) -> NDArray[np.bool_]:
    """Whether points lie inside, by counting the walls that a ray to the right meets; shape as of `x_m`."""
    x, y = np.asarray(x_m, dtype=float)[..., None], np.asarray(y_m, dtype=float)[..., None]
    (ax, ay), (bx, by) = np.array(corners).T, np.roll(np.array(corners), -1, axis=0).T
    spans = (ay > y) != (by > y)
    with np.errstate(divide="ignore", invalid="ignore"):
        meets_at = ax + (y - ay) * (bx - ax) / (by - ay)
    return (np.where(spans, x < meets_at, False).sum(axis=-1) % 2).astype(bool)


def _first_crossing(corners: Corners) -> tuple[int, int] | None:
    """Numbers (from 1) of the first two edges that touch without being neighbours, or are doubled back."""
    count = len(corners)
    for i in range(count):
        a, b = corners[i], corners[(i + 1) % count]
        if a == b:
            return i + 1, (i + 1) % count + 1
        for j in range(i + 1, count):
            c, d = corners[j], corners[(j + 1) % count]
            neighbours = j == i + 1 or (i == 0 and j == count - 1)
            if neighbours:
                shared, first, two = (b, a, d) if j == i + 1 else (a, b, c)
                back = _turn(first, shared, two) == 0 and _ahead(shared, first, two)
                if back:
                    return i + 1, j + 1
            elif _touch(a, b, c, d):
                return i + 1, j + 1
    return None


def _turn(a: tuple, b: tuple, c: tuple) -> float:
    return (b[0] - a[0]) * (c[1] - a[1]) - (b[1] - a[1]) * (c[0] - a[0])


def _ahead(origin: tuple, first: tuple, two: tuple) -> bool:
    """Whether two points lie on the same side of an origin on one line."""
    return (first[0] - origin[0]) * (two[0] - origin[0]) + (first[1] - origin[1]) * (two[1] - origin[1]) > 0


def _touch(a: tuple, b: tuple, c: tuple, d: tuple) -> bool:
    """Whether segments a-b and c-d share a point."""
    turns = _turn(a, b, c), _turn(a, b, d), _turn(c, d, a), _turn(c, d, b)
    if turns[0] * turns[1] < 0 and turns[2] * turns[3] < 0:
        return True
    return any(
        turn == 0 and _between(p, q, r)
        for turn, (p, q, r) in zip(turns, ((a, b, c), (a, b, d), (c, d, a), (c, d, b)), strict=True)
    )


def _between(p: tuple, q: tuple, r: tuple) -> bool:
    return min(p[0], q[0]) <= r[0] <= max(p[0], q[0]) and min(p[1], q[1]) <= r[1] <= max(p[1], q[1])
