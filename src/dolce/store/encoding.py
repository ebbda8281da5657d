"""Value objects as plain JSON values and bytes, and back."""

import dataclasses

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import Limits, Target
from dolce.core.filters import PeakingFilter
from dolce.core.geometry import Point
from dolce.core.job import Rig
from dolce.core.processor import ChannelSettings, Preset, ProcessorState
from dolce.core.response import MicrophoneCurve
from dolce.core.rig import Fault
from dolce.core.shape import Band, Shape


def array_bytes(values: NDArray, *, kind: str) -> bytes:
    """Samples as little-endian bytes of one kind ("<f4", "<f8")."""
    return np.asarray(values, dtype=kind).tobytes()


def bytes_array(data: bytes, *, kind: str) -> NDArray[np.float64]:
    return np.frombuffer(data, dtype=kind).astype(np.float64)


def point_values(point: Point) -> list[float]:
    return [point.x_m, point.y_m, point.z_m]


def point_of(values: list[float]) -> Point:
    return Point(x_m=values[0], y_m=values[1], z_m=values[2])


def rig_values(rig: Rig) -> dict:
    values = {f.name: getattr(rig, f.name) for f in dataclasses.fields(rig) if f.name != "curve"}
    values["faults"] = [dataclasses.asdict(fault) for fault in rig.faults]
    values["curve"] = rig.curve and {f.name: getattr(rig.curve, f.name).tolist()
                                     for f in dataclasses.fields(rig.curve)}
    return values


def rig_of(values: dict) -> Rig:
    curve = values.get("curve")
    faults = tuple(Fault(kind=f["kind"], channels=tuple(f["channels"]), outputs=tuple(f["outputs"]))
                   for f in values.get("faults", ()))
    return Rig(**{**values, "curve": curve and MicrophoneCurve(**curve), "faults": faults})


def processor_values(state: ProcessorState) -> dict:
    return {"active": state.active,
            "presets": {slot: {"name": preset.name, "cut_db": preset.cut_db, "channels": {
                channel: dataclasses.asdict(settings) for channel, settings in preset.channels.items()}}
                for slot, preset in state.presets.items()}}


def processor_of(values: dict) -> ProcessorState:
    presets = {slot: Preset(name=preset["name"], cut_db=preset["cut_db"], channels={
        channel: ChannelSettings(**{**settings, "filters": tuple(PeakingFilter(**f) for f in settings["filters"])})
        for channel, settings in preset["channels"].items()}) for slot, preset in values["presets"].items()}
    return ProcessorState(active=values["active"], presets=presets)


def shape_values(shape: Shape) -> dict:
    return dataclasses.asdict(shape)


def shape_of(values: dict) -> Shape:
    bands = {channel: tuple(Band(filter=PeakingFilter(**band["filter"]), on=band["on"]) for band in bands)
             for channel, bands in values["bands"].items()}
    return Shape(**{**values, "target": Target(**values["target"]), "limits": Limits(**values["limits"]),
                    "anchor_band_hz": tuple(values["anchor_band_hz"]), "bands": bands})
