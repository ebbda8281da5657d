"""A processor on the network as Dolce speaks to it."""

import http.client
import json
import socket
import threading
import time
from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import Any

from dolce.core.processor import Capabilities, Preset, ProcessorInUse, ProcessorLimits, ProcessorState
from dolce.devices.network.wire import PROTOCOL, digest, plain, value_of
from dolce.errors import Conflict, DeviceError, FormatError

NETWORK = Capabilities(readable=True, loads=True, mutes=True, dims=True)
LOOKED_AT = range(5080, 5090)  # ports of this machine at which processors are looked for
_CONVERSATION_S, _WAIT_S, _LOOK_S, _MOST_BYTES = 30.0, 6.0, 0.4, 16_000_000


@dataclass(frozen=True, slots=True, kw_only=True)
class Found:
    """A processor that answered."""

    address: str
    name: str
    version: str
    outputs: tuple[str, ...]
    limits: ProcessorLimits


class NetworkProcessor:
    """One that is spoken to by HTTP and JSON, in one conversation: made anew for the next.

    Every call ends in a DeviceError where it is gone, refuses, or speaks otherwise. A preset is written output by
    output beside what is there, and takes its place when it is whole; a write that broke off is gone on with.
    """

    def __init__(self, use: ProcessorInUse) -> None:
        self.can, self._use = use.can, use
        self._ends = time.monotonic() + _CONVERSATION_S

    def read(self) -> ProcessorState:
        try:
            return value_of(ProcessorState, self._ask("GET", "/v1/state"), where=self._use.address)
        except FormatError as error:
            raise DeviceError(
                f"what it says it holds can't be read: {error.problem}", where=error.where, remedy=error.remedy
            ) from error

    def load(self, slot: str, preset: Preset) -> None:
        key = digest(preset)
        outputs = list(preset.channels)
        begun = self._ask(
            "POST",
            "/v1/writes",
            {"slot": slot, "key": key, "outputs": outputs, "preset": plain(replace(preset, channels={}))},
        )
        asked_for = _list_of(begun, "missing", self._use.address)
        missing = [output for output in outputs if output in asked_for]
        for sent, output in enumerate(missing):
            try:
                self._ask("PUT", f"/v1/writes/{key}/outputs/{output}", plain(preset.channels[output]))
            except DeviceError as error:
                done = len(outputs) - len(missing) + sent
                raise DeviceError(
                    f"{error.problem} {done} of {len(outputs)} outputs were written; what plays is as it was.",
                    where=error.where or self._use.address,
                    remedy="Load it again: it goes on where it ended.",
                ) from error
        self._ask("POST", f"/v1/writes/{key}/commit", {})

    def play(self, slot: str) -> None:
        self._ask("POST", "/v1/play", {"preset": slot})

    def shut(self, *, muted: Sequence[str], solo: str, dimmed: bool) -> None:
        self._ask("POST", "/v1/shut", {"muted": list(muted), "solo": solo, "dimmed": dimmed})

    def restore(self, state: ProcessorState) -> None:
        plain_state = replace(state, slate=(), by_themselves=())
        self._ask("PUT", "/v1/state", plain(plain_state))

    def _ask(self, method: str, path: str, values: Any = None) -> Any:
        return _asked(self._use.address, method, path, values, wait_s=min(_WAIT_S, self._ends - time.monotonic()))


def _list_of(reply: Any, name: str, address: str) -> list:
    found = reply.get(name)
    if not isinstance(found, list):
        raise DeviceError(
            f"it does not say which outputs are {name}.",
            where=f"processor at {address}",
            remedy="See docs/processor-protocol.md.",
        )
    return found


def found_at(address: str) -> Found:
    """Who answers at an address.

    Raises
    ------
    DeviceError
        Where nobody does, or somebody who speaks otherwise.
    """
    reply = _asked(address, "GET", "/v1", wait_s=_LOOK_S)
    try:
        if reply["protocol"] != PROTOCOL:
            raise DeviceError(
                f"it speaks protocol {reply['protocol']!r:.20}, Dolce speaks {PROTOCOL}.",
                where=address,
                remedy="Use versions of both that go together.",
            )
        return Found(
            address=address,
            name=str(reply["name"])[:40],
            version=str(reply["version"])[:40],
            outputs=tuple(str(output)[:20] for output in list(reply["outputs"])[:64]),
            limits=value_of(ProcessorLimits, reply["limits"], where=address),
        )
    except (KeyError, TypeError, FormatError) as error:
        raise DeviceError("what answers there is no processor.", where=address, remedy="Check the address.") from error


def look_around() -> list[Found]:
    """Processors on this machine's own network, at the usual ports, all asked at once."""

    def looked(port: int) -> Found | None:
        try:
            return found_at(f"127.0.0.1:{port}")
        except DeviceError:
            return None

    with ThreadPoolExecutor(max_workers=len(LOOKED_AT)) as asking:
        return [found_ for found_ in asking.map(looked, LOOKED_AT) if found_ is not None]


def _asked(address: str, method: str, path: str, values: Any = None, *, wait_s: float) -> Any:
    """What it answers, whole, within so many seconds: one that sends a byte now and then is not waited for longer."""
    status, data = _answer(address, method, path, values, wait_s)
    try:
        reply = json.loads(data, parse_constant=_no_number) if data else {}
        json.dumps(reply, ensure_ascii=False).encode()  # halves of characters can't be kept
    except (ValueError, RecursionError) as error:
        raise DeviceError(
            "its answer can't be read.",
            where=f"processor at {address}",
            remedy="Check that the address is that of a processor.",
        ) from error
    problem = str(reply.get("problem", "")) if isinstance(reply, dict) else ""
    if status == http.client.CONFLICT:
        raise Conflict(problem[:200] or "it is busy.", where=f"processor at {address}", remedy="Wait, then load again.")
    if status >= 400 or not isinstance(reply, dict):
        raise DeviceError(
            f"it refuses: {problem[:200] or status}",
            where=f"processor at {address}",
            remedy="Load something that fits, or look at the device.",
        )
    return reply


def _answer(address: str, method: str, path: str, values: Any, wait_s: float) -> tuple[int, bytes]:
    host, _, port = address.rpartition(":")
    late = threading.Event()

    def give_up() -> None:
        late.set()
        with suppress(OSError, AttributeError):
            link.sock.shutdown(socket.SHUT_RDWR)

    try:
        link = http.client.HTTPConnection(host, int(port), timeout=max(wait_s, 0.01))
        # The time of a socket is that of one read: this one is of all of them.
        clock = threading.Timer(max(wait_s, 0.01), give_up)
        clock.daemon = True
        clock.start()
        try:
            body = None if values is None else json.dumps(values)
            link.request(method, path, body, {"Content-Type": "application/json"} if body is not None else {})
            answer = link.getresponse()
            data = answer.read(_MOST_BYTES)
            if answer.length:  # it promised more than it sent
                raise http.client.IncompleteRead(data, answer.length)
        finally:
            clock.cancel()
            link.close()
    except (OSError, ValueError, http.client.HTTPException) as error:
        too_late = late.is_set() or isinstance(error, TimeoutError)
        raise DeviceError(
            "it does not answer in time." if too_late else "the connection was lost.",
            where=f"processor at {address}",
            remedy="Check that it is on and reachable, then try again.",
        ) from error
    if late.is_set():
        raise DeviceError(
            "it does not answer in time.",
            where=f"processor at {address}",
            remedy="Check that it is on and reachable, then try again.",
        )
    return answer.status, data


def _no_number(constant: str) -> float:
    raise ValueError(f"{constant} is no number")
