"""A room that follows another one: size, seats and spots are those of the first, speakers are its own."""

from dataclasses import replace

from dolce.core.room.plan import RoomPlan

_OWN = ("layout", "speakers", "aside", "mirror_pairs", "dismissed")


def followed(copy: RoomPlan, first: RoomPlan) -> RoomPlan:
    """A plan with its own speakers in the room of another one.

    Spots close to a speaker that is not there are left out, and the others numbered anew.

    Raises
    ------
    InvalidValue
        If a speaker stands outside that room.
    """
    spots = [spot for spot in first.spots if not spot.close_to or spot.close_to in copy.channels]
    return replace(
        first,
        **{name: getattr(copy, name) for name in _OWN},
        spots=tuple(replace(spot, number=number) for number, spot in enumerate(spots, 1)),
        last_spot_id=max(copy.last_spot_id, first.last_spot_id),
    )


def same_room(plan: RoomPlan, other: RoomPlan) -> bool:
    """Whether two plans differ in their speakers alone."""

    def apart(plan: RoomPlan) -> tuple:
        return plan.size, plan.seats, plan.spots, plan.boxes, plan.outline, plan.reverberation

    return apart(plan) == apart(other)
