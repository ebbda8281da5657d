"""The rehearsal rig: simulated speakers, room, microphones, interface and processor behind the device interface."""

from dolce.devices.rehearsal.electronics import LATENCY_S
from dolce.devices.rehearsal.microphones import MICROPHONE_CURVE, PLACED_WITHIN_M, SIDE_ON_CURVE, as_placed
from dolce.devices.rehearsal.noise import ROOM_NOISE_DBFS
from dolce.devices.rehearsal.rig import FULL_SCALE_SPL_DB, RehearsalRig
from dolce.devices.rehearsal.speakers import PlacedSpeaker, model_of

__all__ = [
    "FULL_SCALE_SPL_DB",
    "LATENCY_S",
    "MICROPHONE_CURVE",
    "PLACED_WITHIN_M",
    "ROOM_NOISE_DBFS",
    "SIDE_ON_CURVE",
    "PlacedSpeaker",
    "RehearsalRig",
    "as_placed",
    "model_of",
]
