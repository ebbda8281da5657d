"""First reflections of every speaker at every seat: six boundaries (or the walls of an outline) and desks."""

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from dolce.core.acoustics import Cancellation, cancellation
from dolce.core.geometry import Point
from dolce.core.room.plan import RoomPlan


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Reflections:
    """Paths over every boundary.

    Attributes
    ----------
    boundaries : tuple of str
        "front wall", "floor", "Desk" ...; walls of an outline off the box's sides by the number of their corner.
    reflected_m : ndarray, shape (boundaries, speakers, seats)
        Infinite where nothing is reflected: beside the end of a wall, off the desk, or built into that wall.
    direct_m : ndarray, shape (speakers, seats)
    to_boundary_m : ndarray, shape (boundaries, speakers)
        From each speaker straight to the boundary.
    cancellations : Cancellation, arrays of shape (boundaries, speakers, seats)
    image_m : ndarray, shape (boundaries, speakers, 3)
        Where each mirror image stands.
    bounce_m : ndarray, shape (boundaries, speakers, seats, 3)
        Where the sound touches the boundary.
    """

    boundaries: tuple[str, ...]
    reflected_m: NDArray[np.float64]
    direct_m: NDArray[np.float64]
    to_boundary_m: NDArray[np.float64]
    cancellations: Cancellation
    image_m: NDArray[np.float64]
    bounce_m: NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class _Plane:
    """A flat reflector: a point on it, its normal into the room, and for walls and tops how far it reaches."""

    name: str
    point: NDArray[np.float64]
    normal: NDArray[np.float64]
    wall_end: NDArray[np.float64] | None = None  # the other end of a wall of an outline
    top: tuple[float, float, float, float] | None = None  # x and y from and to, of a desk


def reflections_of(plan: RoomPlan, *, toward_m: float = 0.0, listeners: Sequence[Point] | None = None) -> Reflections:
    """Reflections of a plan, or of the plan with every speaker moved toward the boundary in question.

    Parameters
    ----------
    listeners : sequence of Point, optional
        Places in the stead of the seats.
    toward_m : float
        Each speaker is taken this much nearer to each boundary (farther, if negative), for what moving would do.

    References
    ----------
    Mirror images in flat surfaces: J. B. Allen and D. A. Berkley, J. Acoust. Soc. Am. 65, 943-950 (1979).
    """
    speakers = np.array([s.place.as_array() for s in plan.speakers])
    seats = np.array([p.as_array() for p in (listeners or [s.place for s in plan.seats])])
    planes = _planes(plan)
    points = np.array([plane.point for plane in planes])
    normals = np.array([plane.normal for plane in planes])
    # Arrays of shape (boundaries, speakers, ...).
    to_boundary = np.einsum("bsc,bc->bs", speakers[None] - points[:, None], normals)
    moved = speakers[None] - np.minimum(toward_m, np.maximum(to_boundary - 0.05, 0))[..., None] * normals[:, None]
    height = to_boundary - np.minimum(toward_m, np.maximum(to_boundary - 0.05, 0))
    mirrored = moved - 2 * height[..., None] * normals[:, None]
    direct = np.maximum(np.linalg.norm(moved[:, :, None] - seats[None, None], axis=3), 1e-3)
    reflected = np.linalg.norm(mirrored[:, :, None] - seats[None, None], axis=3)
    reflected = np.where(_reached(planes, mirrored, seats, to_boundary, normals), reflected, np.inf)
    reflected[_built_in(plan, planes, to_boundary)] = np.inf
    shape = reflected.shape
    return Reflections(
        boundaries=tuple(plane.name for plane in planes),
        reflected_m=reflected,
        to_boundary_m=to_boundary,
        direct_m=np.linalg.norm(speakers[:, None] - seats[None], axis=2),
        image_m=mirrored,
        bounce_m=_bounces(mirrored, height, seats, points, normals),
        cancellations=cancellation(np.broadcast_to(direct, shape), reflected, speed_m_s=plan.speed_m_s),
    )


def _bounces(mirrored: NDArray, height: NDArray, seats: NDArray, points: NDArray, normals: NDArray) -> NDArray:
    """Where straight lines from mirror images to the seats cross their boundaries."""
    seat_height = np.einsum("btc,bc->bt", seats[None] - points[:, None], normals)[:, None, :, None]
    share = seat_height / np.maximum(seat_height + height[:, :, None, None], 1e-6)
    return seats[None, None] + share * (mirrored[:, :, None] - seats[None, None])


def _planes(plan: RoomPlan) -> list[_Plane]:
    size = plan.size
    floor = [
        _Plane(name="floor", point=np.zeros(3), normal=np.array([0.0, 0, 1])),
        _Plane(name="ceiling", point=np.array([0, 0, size.height_m]), normal=np.array([0.0, 0, -1])),
    ]
    desks = [
        _Plane(
            name=box.title,
            point=np.array([0, 0, box.place.z_m + box.height_m]),
            normal=np.array([0.0, 0, 1]),
            top=(
                box.place.x_m - box.width_m / 2,
                box.place.x_m + box.width_m / 2,
                box.place.y_m - box.depth_m / 2,
                box.place.y_m + box.depth_m / 2,
            ),
        )
        for box in plan.boxes
        if box.kind == "desk"
    ]
    if plan.outline:
        return [*_outline_planes(plan), *floor, *desks]
    walls = [
        _Plane(name="front wall", point=np.zeros(3), normal=np.array([0.0, 1, 0])),
        _Plane(name="back wall", point=np.array([0, size.length_m, 0]), normal=np.array([0.0, -1, 0])),
        _Plane(name="left wall", point=np.zeros(3), normal=np.array([1.0, 0, 0])),
        _Plane(name="right wall", point=np.array([size.width_m, 0, 0]), normal=np.array([-1.0, 0, 0])),
    ]
    return [*walls, *floor, *desks]


def _outline_planes(plan: RoomPlan) -> list[_Plane]:
    corners = np.array(plan.outline)
    ends = np.roll(corners, -1, axis=0)
    # Walking with the inside on one side: the sign of the area says which.
    turning = np.sign(np.sum(corners[:, 0] * ends[:, 1] - ends[:, 0] * corners[:, 1]))
    planes: list[_Plane] = []
    for number, (start, end) in enumerate(zip(corners, ends, strict=True), 1):
        along = (end - start) / np.linalg.norm(end - start)
        normal = turning * np.array([-along[1], along[0], 0.0])
        name = _wall_name(plan, start, end)
        if name is None or any(plane.name == name for plane in planes):
            name = f"wall {number}"
        planes.append(_Plane(name=name, point=np.array([*start, 0.0]), normal=normal, wall_end=np.array([*end, 0.0])))
    return planes


def _wall_name(plan: RoomPlan, start: NDArray, end: NDArray) -> str | None:
    """The name of a wall that lies on a side of the room's box; None for others."""
    (x0, y0), (x1, y1) = start, end
    sides = {
        "front wall": y0 == y1 == 0,
        "back wall": y0 == y1 == plan.size.length_m,
        "left wall": x0 == x1 == 0,
        "right wall": x0 == x1 == plan.size.width_m,
    }
    return next((name for name, lies in sides.items() if lies), None)


def _reached(
    planes: list[_Plane], mirrored: NDArray, seats: NDArray, to_boundary: NDArray, normals: NDArray
) -> NDArray[np.bool_]:
    """Where the mirror point lies on the surface itself; shape (boundaries, speakers, seats)."""
    points = np.array([plane.point for plane in planes])
    seat_height = np.einsum("btc,bc->bt", seats[None] - points[:, None], normals)
    ahead = (to_boundary[:, :, None] > 1e-9) & (seat_height[:, None, :] > 1e-9)
    reached = np.broadcast_to(ahead, (len(planes), mirrored.shape[1], len(seats))).copy()
    for b, plane in enumerate(planes):
        below, above = to_boundary[b][:, None], seat_height[b][None, :]
        with np.errstate(divide="ignore", invalid="ignore"):
            part = np.where(below + above > 0, below / (below + above), 0)[..., None]
        meets = mirrored[b][:, None] + part * (seats[None] - mirrored[b][:, None])
        if plane.wall_end is not None:
            wall = plane.wall_end - plane.point
            share = (meets - plane.point) @ wall / (wall @ wall)
            reached[b] &= (share >= 0) & (share <= 1)
        elif plane.top is not None:
            x0, x1, y0, y1 = plane.top
            reached[b] &= (meets[..., 0] >= x0) & (meets[..., 0] <= x1) & (meets[..., 1] >= y0) & (meets[..., 1] <= y1)
    return reached


def _built_in(plan: RoomPlan, planes: list[_Plane], to_boundary: NDArray) -> NDArray[np.bool_]:
    """Which boundary a speaker is built into: its nearest, for those in a wall; shape (boundaries, speakers)."""
    in_wall = np.array([s.in_wall for s in plan.speakers])
    walls = np.array([plane.top is None for plane in planes])
    gaps = np.where(walls[:, None] & (to_boundary >= -1e-9), np.abs(to_boundary), np.inf)
    nearest = gaps.argmin(axis=0)
    return (np.arange(len(planes))[:, None] == nearest[None, :]) & in_wall[None, :]
