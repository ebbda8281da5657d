"""Value objects as plain JSON values and bytes, and back."""

import dataclasses
import hashlib
from base64 import b64decode, b64encode

import numpy as np
from numpy.typing import NDArray

from dolce.core.correction import Limits, Target
from dolce.core.filters import PeakingFilter
from dolce.core.geometry import Point
from dolce.core.job import Rig
from dolce.core.processor import (
    BassManagement,
    ChannelSettings,
    Convolution,
    Crossover,
    Preset,
    ProcessorLimits,
    ProcessorState,
)
from dolce.core.response import MicrophoneCurve
from dolce.core.rig import Fault, InterfaceLoop, Microphone, MicrophoneInUse, SubMatch
from dolce.core.tuning import Alignment, Band, Blend, ChannelAlignment, Correction


def array_bytes(values: NDArray, *, kind: str) -> bytes:
    """Samples as little-endian bytes of one kind ("<f4", "<f8")."""
    return np.asarray(values, dtype=kind).tobytes()


def bytes_array(data: bytes, *, kind: str) -> NDArray[np.float64]:
    return np.frombuffer(data, dtype=kind).astype(np.float64)


def checksum(*parts: bytes) -> str:
    """What tells whether bytes are still those that were kept."""
    digest = hashlib.blake2b(digest_size=16)
    for part in parts:
        digest.update(part)
    return digest.hexdigest()


def point_values(point: Point) -> list[float]:
    return [point.x_m, point.y_m, point.z_m]


def point_of(values: list[float]) -> Point:
    return Point(x_m=values[0], y_m=values[1], z_m=values[2])


def curve_values(curve: MicrophoneCurve | None) -> dict | None:
    return curve and {f.name: getattr(curve, f.name).tolist() for f in dataclasses.fields(curve)}


def curve_of(values: dict | None) -> MicrophoneCurve | None:
    return None if values is None else MicrophoneCurve(**values)


def microphone_values(microphone: Microphone) -> dict:
    return {"id": microphone.id, "name": microphone.name, "serial": microphone.serial,
            "sensitivity_mv_pa": microphone.sensitivity_mv_pa,
            "curves": {str(angle): curve_values(curve) for angle, curve in microphone.curves.items()},
            "curve_files": {str(angle): name for angle, name in microphone.curve_files.items()}}


def microphone_of(values: dict) -> Microphone:
    return Microphone(**{**values, "curves": {int(a): curve_of(c) for a, c in values["curves"].items()},
                         "curve_files": {int(a): name for a, name in values["curve_files"].items()}})


def rig_values(rig: Rig) -> dict:
    values = {f.name: getattr(rig, f.name) for f in dataclasses.fields(rig)}
    values["faults"] = [dataclasses.asdict(fault) for fault in rig.faults]
    values["microphones"] = [{"microphone": microphone_values(one.microphone), "input": one.input,
                              "difference": curve_values(one.difference)} for one in rig.microphones]
    if rig.loop is not None:
        values["loop"] = {f.name: getattr(rig.loop, f.name) for f in dataclasses.fields(rig.loop)} | {
            "response": curve_values(rig.loop.response)}
    values["limits"] = rig.limits and dataclasses.asdict(rig.limits)
    values["knobs_db"] = dict(rig.knobs_db)
    values["sub_match"] = dataclasses.asdict(rig.sub_match)
    return values


def rig_of(values: dict) -> Rig:
    loop, limits = values.get("loop"), values.get("limits")
    return Rig(**{
        **values,
        "faults": tuple(Fault(kind=f["kind"], channels=tuple(f["channels"]), outputs=tuple(f["outputs"]))
                        for f in values.get("faults", ())),
        "microphones": tuple(
            MicrophoneInUse(microphone=microphone_of(one["microphone"]), input=one["input"],
                            difference=curve_of(one["difference"])) for one in values.get("microphones", ())),
        "loop": loop and InterfaceLoop(**{**loop, "response": curve_of(loop["response"])}),
        "limits": limits and ProcessorLimits(**limits),
        "sub_match": SubMatch(**values.get("sub_match", {}))})


def processor_values(state: ProcessorState) -> dict:
    values = dataclasses.asdict(state)
    for slot, preset in state.presets.items():
        for channel, settings in preset.channels.items():
            if settings.convolution is not None:
                # Thousands of taps as text would slow every look at the job.
                taps = array_bytes(np.array(settings.convolution.taps), kind="<f4")
                values["presets"][slot]["channels"][channel]["convolution"]["taps"] = b64encode(taps).decode()
    return values


def processor_of(values: dict) -> ProcessorState:
    presets = {slot: preset_of(preset) for slot, preset in values["presets"].items()}
    return ProcessorState(active=values["active"], presets=presets, muted=tuple(values.get("muted", ())),
                          solo=values.get("solo", ""), dimmed=values.get("dimmed", False),
                          slate=tuple(values.get("slate", ())))


def preset_of(values: dict) -> Preset:
    return Preset(
        name=values["name"], cut_db=values["cut_db"],
        channels={channel: settings_of(settings) for channel, settings in values["channels"].items()},
        bass=_routing(values.get("bass")),
        ours=values.get("ours", True))


def settings_of(values: dict) -> ChannelSettings:
    def crossover(name: str) -> Crossover | None:
        return values.get(name) and Crossover(**values[name])

    taps = values.get("convolution")
    return ChannelSettings(**{
        **values, "filters": tuple(PeakingFilter(**f) for f in values["filters"]), "high_pass": crossover("high_pass"),
        "low_pass": crossover("low_pass"),
        "convolution": taps and Convolution(sample_rate_hz=taps["sample_rate_hz"], taps=tuple(
            bytes_array(b64decode(taps["taps"]), kind="<f4").tolist()))})


def alignment_values(alignment: Alignment) -> dict:
    return dataclasses.asdict(alignment)


def alignment_of(values: dict) -> Alignment:
    channels = {channel: ChannelAlignment(**{**v, **{side: v[side] and Crossover(**v[side])
                                                     for side in ("high_pass", "low_pass")}})
                for channel, v in values["channels"].items()}
    return Alignment(**{**values, "channels": channels, "routing": _routing(values["routing"])})


def _routing(values: dict | None) -> BassManagement | None:
    return values and BassManagement(crossover=Crossover(**values["crossover"]), subs=tuple(values["subs"]))


def correction_values(correction: Correction) -> dict:
    return dataclasses.asdict(correction)


def correction_of(values: dict) -> Correction:
    bands = {channel: tuple(Band(filter=PeakingFilter(**band["filter"]), on=band["on"], id=band.get("id", 0))
                            for band in bands)
             for channel, bands in values["bands"].items()}
    blend = values["blend"]
    return Correction(**{
        **values, "target": Target(**values["target"]), "limits": Limits(**values["limits"]),
        "anchor_band_hz": tuple(values["anchor_band_hz"]), "bands": bands,
        "alignment": values["alignment"] and alignment_of(values["alignment"]),
        "blend": Blend(name=blend["name"], weights={int(seat): w for seat, w in blend["weights"].items()})})
