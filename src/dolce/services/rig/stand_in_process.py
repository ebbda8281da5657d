"""The stand-in for a processor in a process of its own: it alone needs Open Sound Control."""

import contextlib
from pathlib import Path

from dolce.core.processor import ProcessorLimits
from dolce.devices.network.memory import Memory
from dolce.devices.network.stand_in import StandIn
from dolce.errors import DeviceError

# What a stand-in that is started from the page has outputs for: the largest layouts here.
USUAL_OUTPUTS = (
    "L",
    "R",
    "C",
    "Ls",
    "Rs",
    "Lrs",
    "Rrs",
    "Ltf",
    "Rtf",
    "Ltm",
    "Rtm",
    "Ltr",
    "Rtr",
    "Lw",
    "Rw",
    "Sub1",
    "Sub2",
    "Sub3",
    "Sub4",
)


def run_stand_in(
    *, port: int, name: str, outputs: str, bands: int, taps: int, bass_taps: int, presets: int, file: Path | None
) -> None:
    """The stand-in in this process, until it is ended.

    Raises
    ------
    InvalidValue
        Where outputs or limits can't be.
    DeviceError
        Where the port is taken.
    """
    limits = ProcessorLimits(
        name=name, bands=bands, taps=taps, bass_taps=bass_taps, presets=presets, all_passes=2, fixed_bands=31
    )
    memory = Memory(
        outputs=tuple(name.strip() for name in outputs.split(",") if name.strip()) or USUAL_OUTPUTS,
        limits=limits,
        file=file,
    )
    try:
        stand_in = StandIn(memory, name=name, port=port)
    except OSError as error:
        raise DeviceError(f"{error.strerror or error}.", where=f"port {port}", remedy="Choose another port.") from error
    print(
        f"{name} answers at http://127.0.0.1:{stand_in.port}/v1, and to Open Sound Control at the same port "
        "(Ctrl-C ends it)",
        flush=True,
    )
    with contextlib.suppress(KeyboardInterrupt):
        stand_in.run()
