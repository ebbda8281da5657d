"""A processor on the network as Dolce speaks to it."""

import http.client
import json
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import Any

from dolce.core.processor import Capabilities, Preset, ProcessorInUse, ProcessorLimits, ProcessorState
from dolce.devices.network.wire import PROTOCOL, digest, plain, value_of
from dolce.errors import Conflict, DeviceError, FormatError

NETWORK = Capabilities(readable=True, loads=True, mutes=True, dims=True)
LOOKED_AT = range(5080, 5090)             # ports of this machine at which processors are looked for
_WAIT_S, _LOOK_S, _MOST_BYTES = 6.0, 0.4, 16_000_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """A processor that answered."""

    address: str
    name: str
    version: str
    outputs: tuple[str, ...]
    limits: ProcessorLimits


class NetworkProcessor:
    """One that is spoken to by HTTP and JSON.

    Every call ends in a DeviceError where it is gone, refuses, or speaks otherwise. A preset is written output by
    output beside what is there, and takes its place when it is whole; a write that broke off is gone on with.
    """

    def __init__(self, use: ProcessorInUse) -> None:
        self.can, self._use = use.can, use
        self._link: http.client.HTTPConnection | None = None

    def read(self) -> ProcessorState:
        return value_of(ProcessorState, self._ask("GET", "/v1/state"), where=self._use.address)

    def load(self, slot: str, preset: Preset) -> None:
        key = digest(preset)
        outputs = list(preset.channels)
        begun = self._ask("POST", "/v1/writes", {"slot": slot, "key": key, "outputs": outputs,
                                                 "preset": plain(replace(preset, channels={}))})
        missing = [output for output in outputs if output in begun["missing"]]
        for sent, output in enumerate(missing):
            try:
                self._ask("PUT", f"/v1/writes/{key}/outputs/{output}", plain(preset.channels[output]))
            except DeviceError as error:
                done = len(outputs) - len(missing) + sent
                raise DeviceError(f"{error.problem} {done} of {len(outputs)} outputs were written; what plays is as it "
                                  "was.", where=error.where or self._use.address,
                                  remedy="Load it again: it goes on where it ended.") from error
        self._ask("POST", f"/v1/writes/{key}/commit", {})

    def play(self, slot: str) -> None:
        self._ask("POST", "/v1/play", {"preset": slot})

    def shut(self, *, muted: Sequence[str], solo: str, dimmed: bool) -> None:
        self._ask("POST", "/v1/shut", {"muted": list(muted), "solo": solo, "dimmed": dimmed})

    def restore(self, state: ProcessorState) -> None:
        plain_state = replace(state, slate=(), by_themselves=())
        self._ask("PUT", "/v1/state", plain(plain_state))

    def _ask(self, method: str, path: str, values: Any = None) -> Any:
        return _asked(self._use.address, method, path, values, wait_s=_WAIT_S)


def found_at(address: str) -> Found:
    """Who answers at an address.

    Raises
    ------
    DeviceError
        Where nobody does, or somebody who speaks otherwise.
    """
    said = _asked(address, "GET", "/v1", wait_s=_LOOK_S)
    try:
        if said["protocol"] != PROTOCOL:
            raise DeviceError(f"it speaks protocol {said['protocol']!r:.20}, Dolce speaks {PROTOCOL}.", where=address,
                              remedy="Use versions of both that go together.")
        return Found(address=address, name=str(said["name"])[:40], version=str(said["version"])[:40],
                     outputs=tuple(str(one)[:20] for one in said["outputs"])[:64],
                     limits=value_of(ProcessorLimits, said["limits"], where=address))
    except (KeyError, TypeError, FormatError) as error:
        raise DeviceError("what answers there is no processor.", where=address,
                          remedy="Check the address.") from error


def look_around() -> list[Found]:
    """Processors on this machine's own network, at the usual ports."""
    found = []
    for port in LOOKED_AT:
        try:
            found.append(found_at(f"127.0.0.1:{port}"))
        except DeviceError:
            continue
    return found


def _asked(address: str, method: str, path: str, values: Any = None, *, wait_s: float) -> Any:
    host, _, port = address.rpartition(":")
    try:
        link = http.client.HTTPConnection(host, int(port), timeout=wait_s)
        try:
            body = None if values is None else json.dumps(values)
            link.request(method, path, body, {"Content-Type": "application/json"} if body is not None else {})
            answer = link.getresponse()
            data = answer.read(_MOST_BYTES)
            if answer.length:                        # it promised more than it sent
                raise http.client.IncompleteRead(data, answer.length)
        finally:
            link.close()
    except (OSError, ValueError, http.client.HTTPException) as error:
        gone = "it does not answer in time." if isinstance(error, TimeoutError) else "the connection was lost."
        raise DeviceError(gone, where=f"processor at {address}",
                          remedy="Check that it is on and reachable, then try again.") from error
    try:
        said = json.loads(data) if data else {}
    except ValueError as error:
        raise DeviceError("its answer can't be read.", where=f"processor at {address}",
                          remedy="Check that the address is that of a processor.") from error
    if answer.status == http.client.CONFLICT:
        raise Conflict(str(said.get("problem", "it is busy.")), where=f"processor at {address}",
                       remedy="Wait, then load again.")
    if answer.status >= 400 or not isinstance(said, dict):
        problem = said.get("problem", "") if isinstance(said, dict) else ""
        raise DeviceError(f"it refuses: {problem or answer.status}", where=f"processor at {address}",
                          remedy="Load something that fits, or look at the device.")
    return said
