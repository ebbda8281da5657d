"""Which remote there is: its address, its code, the one device that came in, and what either side did last."""

import hmac
import secrets
import socket
import threading
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from dolce.errors import Conflict, DeviceError, InvalidValue
from dolce.services.wiring import Services
from dolce.web.remote.guesses import Guesses

if TYPE_CHECKING:
    from dolce.web.remote.certificate import Certificate
    from dolce.web.remote.listener import Listener

_ALPHABET = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789"  # nothing that looks like something else
_CODE = 8
_GONE_S, _LOOK_S = 3.0, 0.25
_PORT = 5443


@dataclass(slots=True, kw_only=True)
class Remote:
    """One remote, from its start to its end.

    Attributes
    ----------
    code : what a device shows to come in; used once
    fingerprint : of the certificate; empty for plain HTTP
    token : what the device that came in is known by; empty before
    seat_address : where it came in from
    waits : whether a pass of its own was paused because its connection was lost
    gone_s : its connection is lost when its device has not asked for so long
    notice, is_fault : what came of the last press in the seat, where there is something to say
    """

    job_id: int
    address: str
    port: int
    code: str
    fingerprint: str
    token: str = ""
    guesses: Guesses = field(default_factory=Guesses)
    seat_address: str = ""
    seen_at: float = 0.0
    own_pass: int | None = None
    waits: bool = False
    gone_s: float = _GONE_S
    notice: str = ""
    is_fault: bool = False
    server: Any = None

    @property
    def url(self) -> str:
        """Where it is; the picture to scan adds the code."""
        return f"http{'s' if self.fingerprint else ''}://{self.address}:{self.port}"

    @property
    def connected(self) -> bool:
        """Whether its device asked lately."""
        return bool(self.token) and time.monotonic() - self.seen_at < self.gone_s


@dataclass(frozen=True, slots=True, kw_only=True)
class Act:
    """What somebody did last: "remote" or "laptop"."""

    side: str
    what: str
    at: datetime


@dataclass(slots=True)
class RemoteSessions:
    """The remote of this application: none, or one for one job.

    `app_of` makes the application that a remote's listener serves.
    """

    services: Services
    app_of: Callable[["RemoteSessions", bool], Any]
    gone_s: float = _GONE_S
    present: Remote | None = None
    ended: str = ""
    last: Act | None = None
    _lock: threading.Lock = field(default_factory=threading.Lock)

    def start(self, job_id: int, *, address: str, secure: bool) -> Remote:
        """Listen on one of this machine's addresses.

        Raises
        ------
        Conflict
            If there is a remote already.
        InvalidValue
            If the address is none of this machine's.
        DeviceError
            If it can't be listened on.
        """
        self.services.jobs.get(job_id)
        if address not in addresses():
            raise InvalidValue(
                f"{address[:40]!r} is no address of this machine.",
                where="remote",
                remedy=f"Choose one of {', '.join(addresses())}.",
            )
        with self._lock:
            if self.present is not None:
                raise Conflict("there is a remote already.", where="remote", remedy="End it first.")
            made = _certificate(self.services.folder / "remote", address) if secure else None
            server = self._listening(address, made)
            self.present = Remote(
                job_id=job_id,
                address=address,
                port=server.bind_addr[1],
                server=server,
                code="".join(secrets.choice(_ALPHABET) for _ in range(_CODE)),
                fingerprint=made.fingerprint if made else "",
                gone_s=self.gone_s,
            )
            self.ended = ""
        threading.Thread(target=server.serve, daemon=True, name="remote").start()
        threading.Thread(target=self._watch, args=(self.present,), daemon=True, name="remote's watch").start()
        return self.present

    def _listening(self, address: str, made: "Certificate | None") -> "Listener":
        """At the usual port, or where that is taken at any that is free."""
        from dolce.web.remote.listener import listening

        app = self.app_of(self, made is not None)
        with suppress(OSError):
            return listening(address, _PORT, app, made, refuses=self._refuses)
        try:
            return listening(address, 0, app, made, refuses=self._refuses)
        except OSError as error:
            raise DeviceError(
                f"{address} can't be listened on: {error.strerror or error}.",
                where="remote",
                remedy="Choose another address.",
            ) from error

    def stop(self, why: str = "") -> None:
        """End it; whatever plays goes on, since the laptop is there."""
        with self._lock:
            gone, self.present = self.present, None
            self.ended = why
        if gone is not None:
            # From a thread of its own: a server can't wait for the very request that ends it.
            threading.Thread(target=gone.server.stop, daemon=True, name="end of the remote").start()

    def enter(self, code: str, *, address: str) -> str | None:
        """Let a device in; None for a wrong code, or where one is in.

        Raises
        ------
        Conflict
            If too many codes from this address were wrong.
        """
        with self._lock:
            remote = self.present
            if remote is None:
                return None
            right = hmac.compare_digest(code.strip().upper().encode(), remote.code.encode())
            if right and not remote.token and not remote.guesses.refuses(address):
                remote.token, remote.seen_at = secrets.token_urlsafe(24), time.monotonic()
                remote.seat_address = address
                return remote.token
            remote.guesses.wrong(address)
            ends = remote.guesses.too_many and not remote.token
            refused = remote.guesses.refuses(address)
        if ends:
            self.stop("A thousand wrong codes: the remote was ended.")
        if refused:
            raise Conflict(
                "too many codes from this device were wrong: it is not listened to any more.",
                where="remote",
                remedy="Make a new code on the laptop.",
            )
        return None

    def _refuses(self, address: str) -> bool:
        """Whether too many codes came from there; never from where the seat is."""
        remote = self.present
        return remote is not None and address != remote.seat_address and remote.guesses.refuses(address)

    def held_by(self, token: str) -> Remote | None:
        """The remote, where a device is the one that came in; notes that it is there."""
        remote = self.present
        if remote is None or not remote.token or not hmac.compare_digest(token.encode(), remote.token.encode()):
            return None
        remote.seen_at = time.monotonic()
        return remote

    def another(self) -> None:
        """Let another device in: the present one is out, and the code is a new one."""
        remote = self.present
        if remote is not None:
            remote.token, remote.guesses = "", Guesses()
            remote.code = "".join(secrets.choice(_ALPHABET) for _ in range(_CODE))

    def acted(self, side: str, what: str) -> None:
        """Somebody did something."""
        self.last = Act(side=side, what=what, at=self.services.context.now())

    def close(self) -> None:
        self.stop()

    def _watch(self, remote: Remote) -> None:
        """Where the device's connection is lost while a pass of its own runs, let the take finish and wait."""
        while self.present is remote:
            remote.server.requests.expire()
            running = self.services.sound.running()
            if (
                running is not None
                and running.id == remote.own_pass
                and remote.token
                and not remote.connected
                and not running.paused
            ):
                self.services.sound.pause()
                remote.waits = True
            time.sleep(_LOOK_S)


def _certificate(folder: Path, address: str) -> "Certificate":
    """Made for this remote; what it takes is loaded now, since most starts need no remote."""
    from dolce.web.remote.certificate import make_certificate

    return make_certificate(folder, address)


def addresses() -> tuple[str, ...]:
    """IPv4 addresses of this machine: that which leads outside first, its own last."""
    found = []
    with socket.socket(socket.AF_INET, socket.SOCK_DGRAM) as probe, suppress(OSError):
        probe.connect(("192.0.2.1", 9))  # TEST-NET-1 of RFC 5737: nothing is sent, only a way is looked up
        found.append(probe.getsockname()[0])
    with suppress(OSError):
        found += socket.gethostbyname_ex(socket.gethostname())[2]
    return tuple(dict.fromkeys([*(spot_id for spot_id in found if not spot_id.startswith("127.")), "127.0.0.1"]))
