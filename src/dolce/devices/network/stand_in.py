"""A stand-in for a processor: a process of its own that is spoken to by HTTP and JSON, and by Open Sound Control."""

import threading
import time
from collections.abc import Callable
from dataclasses import dataclass

from flask import Flask, Response, abort, jsonify, request
from pythonosc.dispatcher import Dispatcher
from pythonosc.osc_server import ThreadingOSCUDPServer
from waitress.server import create_server
from werkzeug.exceptions import HTTPException

from dolce.core.processor import ChannelSettings, Preset, ProcessorState
from dolce.devices.network.memory import Memory, Write
from dolce.devices.network.wire import PROTOCOL, digest, plain, value_of
from dolce.errors import Conflict, DolceError, NotFound

HOST = "127.0.0.1"
MOST_BYTES = 16_000_000
VERSION = "1"  # of the stand-in itself
_POLLED_EVERY_S = 0.1
_STATUS = {NotFound: 404, Conflict: 409}


@dataclass(slots=True, kw_only=True)
class Misbehaviour:
    """What it shall do wrong, so that others can be tried against it.

    Attributes
    ----------
    slow_s : how long it waits before each answer
    drop_after : after so many outputs were written it breaks each connection off; None for never
    refuse : an output whose values it refuses
    garble : whether it reads back another trim than was written
    """

    slow_s: float = 0.0
    drop_after: int | None = None
    refuse: str = ""
    garble: bool = False


class _Dropped(Exception):
    """The connection is to be broken off."""


def stand_in_app(memory: Memory, *, name: str, misbehaviour: Misbehaviour | None = None) -> Flask:
    """The protocol as a web application; see docs/processor-protocol.md."""
    app = Flask("dolce.stand_in")
    app.config["MAX_CONTENT_LENGTH"] = MOST_BYTES
    wrong = misbehaviour or Misbehaviour()
    written = [0]

    @app.before_request
    def _guard() -> None:
        if request.host.rsplit(":", 1)[0] not in (HOST, "localhost"):
            abort(400, "It is spoken to on this machine alone.")
        if request.method != "GET" and not request.is_json:
            abort(415, "JSON is needed.")
        if wrong.slow_s and request.path != "/v1/misbehave":
            time.sleep(wrong.slow_s)

    @app.errorhandler(DolceError)
    def _refused(error: DolceError) -> tuple[Response, int]:
        return jsonify(problem=str(error)), _STATUS.get(type(error), 422)

    @app.errorhandler(HTTPException)
    def _http(error: HTTPException) -> tuple[Response, int]:
        return jsonify(problem=error.description), error.code or 500

    @app.get("/v1")
    def about() -> Response:
        state = memory.state
        return jsonify(
            protocol=PROTOCOL,
            name=name,
            version=VERSION,
            outputs=list(memory.outputs),
            limits=plain(memory.limits),
            slots=list(memory.slots),
            level_db=memory.level_db,
            presets={slot: {"name": preset.name, "digest": digest(preset)} for slot, preset in state.presets.items()},
            active=state.active,
        )

    @app.get("/v1/state")
    def state() -> Response:
        held = plain(memory.state)
        if wrong.garble:
            for preset in held["presets"].values():
                for settings in preset["channels"].values():
                    settings["trim_db"] = round(settings["trim_db"] - 1.0, 3)
        return jsonify(held)

    @app.put("/v1/state")
    def restore() -> Response:
        memory.restore(value_of(ProcessorState, _sent(), where="state"))
        return _done()

    @app.post("/v1/writes")
    def begin() -> Response:
        sent = _sent()
        frame = value_of(Preset, sent.get("preset"), where="preset")
        outputs = tuple(str(output) for output in sent.get("outputs", ()))
        return _written(memory.begin(str(sent.get("slot", "")), frame, outputs, str(sent.get("key", ""))[:64]))

    @app.get("/v1/writes/<key>")
    def so_far(key: str) -> Response:
        return _written(memory.written(key))

    @app.put("/v1/writes/<key>/outputs/<output>")
    def write(key: str, output: str) -> Response:
        if wrong.drop_after is not None and written[0] >= wrong.drop_after:
            raise _Dropped
        settings = value_of(ChannelSettings, _sent(), where=f"output {output[:20]}")
        if output == wrong.refuse:
            abort(422, f"{output} is refused.")
        found = memory.write(key, output, settings)
        written[0] += 1
        return _written(found)

    @app.post("/v1/writes/<key>/commit")
    def commit(key: str) -> Response:
        memory.commit(key)
        return _done()

    @app.delete("/v1/writes/<key>")
    def give_up(key: str) -> Response:
        memory.give_up(key)
        return _done()

    @app.post("/v1/play")
    def play() -> Response:
        memory.play(str(_sent().get("preset", "")))
        return _done()

    @app.post("/v1/shut")
    def shut() -> Response:
        sent = _sent()
        memory.shut(
            muted=tuple(str(channel) for channel in sent.get("muted", ())),
            solo=str(sent.get("solo", "")),
            dimmed=bool(sent.get("dimmed")),
        )
        return _done()

    @app.post("/v1/level")
    def level() -> Response:
        try:
            memory.set_level(float(_sent().get("level_db", 0.0)))
        except (TypeError, ValueError):
            abort(422, "level_db is a number.")
        return _done()

    @app.post("/v1/misbehave")
    def misbehave() -> Response:
        sent = _sent()
        wrong.slow_s = min(10.0, max(0.0, float(sent.get("slow_s", 0.0))))
        wrong.drop_after = None if sent.get("drop_after") is None else int(sent["drop_after"])
        wrong.refuse, wrong.garble = str(sent.get("refuse", "")), bool(sent.get("garble"))
        written[0] = 0
        return _done()

    @app.errorhandler(_Dropped)
    def _dropped(_: _Dropped) -> Response:
        # An answer that promises more than it sends: the connection breaks in the middle.
        return Response(iter(()), status=200, headers={"Content-Length": "64"})

    def _written(write: Write) -> Response:
        return jsonify(key=write.key, slot=write.slot, written=list(write.written), missing=list(write.missing))

    def _done() -> Response:
        return jsonify(done=True, active=memory.state.active)

    return app


def _sent() -> dict:
    sent = request.get_json(silent=True)
    if not isinstance(sent, dict):
        abort(422, "a JSON object is needed.")
    return sent


def osc_dispatcher(memory: Memory) -> Dispatcher:
    """Open Sound Control 1.0: /preset (string), /mute (string, int), /dim (int), /level (float, dB)."""
    made = Dispatcher()
    turn = threading.Lock()  # each datagram has a thread of its own: what one mutes, the next must not undo

    def guarded(act: Callable[..., None]) -> Callable[..., None]:
        def handle(_address: str, *arguments: object) -> None:
            try:
                with turn:
                    act(*arguments)
            except (DolceError, TypeError, ValueError):
                return  # a datagram has no answer: what can't be done is left

        return handle

    def mute(channel: str, on: int) -> None:
        state = memory.state
        muted = tuple(muted for muted in state.muted if muted != str(channel)) + ((str(channel),) if on else ())
        memory.shut(muted=muted, solo=state.solo, dimmed=state.dimmed)

    made.map("/preset", guarded(lambda slot: memory.play(str(slot))))
    made.map("/mute", guarded(mute))
    made.map("/dim", guarded(lambda on: memory.shut(muted=memory.state.muted, solo=memory.state.solo, dimmed=bool(on))))
    made.map("/level", guarded(lambda level: memory.set_level(float(level))))
    return made


class StandIn:
    """Its two servers, on this machine alone.

    Parameters
    ----------
    port : int
        Of HTTP; Open Sound Control listens on the same number by UDP. 0 for any that is free.
    """

    def __init__(self, memory: Memory, *, name: str, port: int) -> None:
        self._http = create_server(
            stand_in_app(memory, name=name), host=HOST, port=port, threads=4, max_request_body_size=MOST_BYTES
        )
        # A worker that answers late wakes the server by the number of a pipe's end, which no other file may get.
        self._http.trigger._close = self._http.trigger.socket.close
        self.port = int(self._http.effective_port)
        self._ended = threading.Event()
        try:
            self._osc = ThreadingOSCUDPServer((HOST, self.port), osc_dispatcher(memory))
        except OSError:
            self._http.close()
            raise

    def run(self) -> None:
        """Until it is closed, or the process ends. What belongs to it is closed by the thread that runs it."""
        threading.Thread(target=self._osc.serve_forever, args=(_POLLED_EVERY_S,), daemon=True).start()
        try:
            while not self._ended.is_set():
                self._http.asyncore.loop(timeout=_POLLED_EVERY_S, map=self._http._map, use_poll=True, count=1)
        finally:
            self._http.task_dispatcher.shutdown()
            self._http.close()
            for record in list(self._http._map.values()):
                record.close()

    def close(self) -> None:
        """Let it end; `run` returns soon after."""
        self._osc.shutdown()
        self._osc.server_close()
        self._ended.set()
