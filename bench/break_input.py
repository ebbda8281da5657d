"""Hostile input to every address: does each answer in words, never with a fault of ours?

`.venv/bin/python bench/break_input.py [--short]`. Addresses are taken from the application itself, so none is left out.
"""

import io
import random
import tempfile
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import numpy as np
import soundfile
from flask import Flask
from flask.testing import FlaskClient
from promises import SHORT, ended, line, note

from dolce.services.jobs.job_keeping import JobWish
from dolce.services.wiring import Services, open_services
from dolce.web import create_app

ROUNDS, HOSTILE = (1, (1, 5)) if SHORT else (6, range(8))
BIG = "9" * 25
TEXTS = [
    "",
    "0",
    "1",
    "2",
    "-1",
    "²",
    "٣",
    "9" * 400,
    "1" * 4400,
    str(2**63),
    str(2**63 - 1),
    BIG,
    "1e308",
    "-1e308",
    "nan",
    "inf",
    "1e999",
    "0x10",
    "1.5",
    "é" * 50,
    "\ud800".encode("utf-8", "surrogatepass").decode("latin-1"),
    "<script>alert(1)</script>",
    "'; DROP TABLE jobs; --",
    "=1+1",
    "\x00",
    "a\nb",
    "../../etc/passwd",
    "%s%n",
    "L",
    "x" * 5000,
    "on",
    "seat-²",
    "seat-" + BIG,
    "spot-1",
    "corner-1",
    "box-9",
    "{}",
    "[]",
    "true",
]
WHOLE = ["0", "1", "2", "3", str(2**31), str(2**63 - 1), str(2**63), BIG]
FIELDS = [
    "name",
    "place",
    "notes",
    "units",
    "length",
    "width",
    "height",
    "temperature",
    "layout",
    "subs",
    "x",
    "y",
    "z",
    "pattern",
    "seat",
    "count",
    "spacing",
    "kind",
    "channel",
    "other",
    "round",
    "step",
    "level_dbfs",
    "reading",
    "frequency_hz",
    "gain_db",
    "q",
    "seen",
    "thing",
    "dragged",
    "cx",
    "cy",
    "weight",
    "key",
    "reason",
    "compared",
    "per_octave",
    "mean",
    "spot",
    "pointing",
    "input",
    "processor",
    "bands",
    "taps",
    "content",
    "find",
    "place",
    "was-name",
    "was-gain_db",
    "sweep_seconds",
    "sweep_level_dbfs",
    "hardware",
    "card",
    "loop_output",
    "loop_input",
    "trim-L",
    "delay-L",
    "polarity-L",
    "output",
    "aim",
    "toe_in",
    "decay_source",
    "typed_s",
    "n",
    "without",
    "pick",
    "sheet",
    "mode",
    "view",
    "smoothing",
    "automatic",
    "of",
    "tone_hz",
    "way",
    "sound",
    "distance",
]


def wav(samples: np.ndarray, rate: int = 48_000, subtype: str = "DOUBLE") -> bytes:
    out = io.BytesIO()
    soundfile.write(out, samples, rate, format="WAV", subtype=subtype)
    return out.getvalue()


def files(rng: random.Random) -> list[tuple[bytes, str]]:
    """Uploads that no recorder and no person makes."""
    loud = np.full(48_000 * 6, 1e300)
    integer = b'{"format": "dolce room", "version": ' + b"9" * 400 + b"}"
    lone = b'{"format": "dolce room", "version": 1, "layout": "\\ud800"}'
    return [
        (b"", "a.wav"),
        (rng.randbytes(200), "a.wav"),
        (wav(loud), "loud.wav"),
        (wav(np.zeros(10)), "short.wav"),
        (wav(np.full(60_000, np.nan)), "nan.wav"),
        (integer, "room.json"),
        (lone, "room.json"),
        (b"[" * 99_999, "r.json"),
        (b"kind,code,x_m,y_m,z_m\nspeaker,L," + b"9" * 400 + b",1,1\n", "p.csv"),
        (b"20 " + b"9" * 400 + b"\n", "c.txt"),
        (b"\xff\xfe\x00", "\u00ff\u202e.csv"),
        (b"20 1\n30 1e30\n", "mic.txt"),
        (rng.randbytes(5000), "x" * 500 + ".flac"),
    ]


def asked(services: Services) -> Counter:
    """Every address with hostile values; counts of status codes, and the addresses that broke."""
    app = create_app(services)
    app.config["WTF_CSRF_ENABLED"] = False
    counts = _asked(services, app, app.test_client(), lambda: "http://127.0.0.1")
    app.extensions["dolce-remote"].close()
    return counts


def asked_in_the_seat(services: Services) -> Counter:
    """The same at a remote, whose device comes in again whenever it is put out."""
    desk = create_app(services).extensions["dolce-remote"]
    desk.slower_s = 0.0
    app = desk.app_of(desk, False)
    app.config["WTF_CSRF_ENABLED"] = False
    client = app.test_client()

    def inside() -> str:
        if desk.present is None or not desk.present.token:
            desk.stop()
            desk.start(1, address="127.0.0.1", secure=False)
            client.post("/enter", base_url=desk.present.url, data={"code": desk.present.code})
        return desk.present.url

    counts = _asked(services, app, client, inside)
    desk.close()
    return counts


def _asked(services: Services, app: Flask, client: FlaskClient, at: Callable[[], str]) -> Counter:
    rng = random.Random(3)
    counts: Counter = Counter()
    rules = [rule for rule in app.url_map.iter_rules() if rule.endpoint != "static"]
    uploads = files(rng)
    for _ in range(ROUNDS):
        for rule in sorted(rules, key=str):
            for method in sorted(rule.methods & {"GET", "POST"}):
                for hostile in HOSTILE:
                    values = {name: rng.choice(WHOLE if converter else TEXTS) for name, converter in _parameters(rule)}
                    if "job_id" in values and hostile:
                        values["job_id"] = "1"
                    address = _address(rule, values)
                    headers = {"HX-Request": "true"} if hostile % 2 else {}
                    form = {} if hostile == 1 else {field: rng.choice(TEXTS) for field in FIELDS if rng.random() < 0.5}
                    if method == "POST" and hostile > 3:
                        data, name = rng.choice(uploads)
                        form |= {rng.choice(("file", "recording", "curve")): (io.BytesIO(data), name)}
                    answer = client.open(
                        address,
                        base_url=at(),
                        method=method,
                        headers=headers,
                        data=form if method == "POST" else None,
                        query_string=None if method == "POST" else form,
                        content_type=("multipart/form-data" if method == "POST" else None),
                    )
                    counts[answer.status_code] += 1
                    if answer.status_code == 500:
                        print(f"        500 {method} {address[:100]} {sorted(form)[:6]}")
                services.sound.stop()
    return counts


def _parameters(rule) -> list[tuple[str, bool]]:
    """Names in an address, and whether each is an integer."""
    return [(name, type(converter).__name__ == "ShortInteger") for name, converter in rule._converters.items()]


def _address(rule, values: dict[str, str]) -> str:
    """The address with values put in as they are, as somebody types them."""
    from urllib.parse import quote

    text = rule.rule
    for name, value in values.items():
        for form in (f"<int:{name}>", f"<{name}>"):
            text = text.replace(form, quote(value, safe="") or "-")
    return text


def main() -> int:
    """One job with takes, one without."""
    with tempfile.TemporaryDirectory() as folder:
        services = open_services(Path(folder))
        for name in ("Full", "Empty"):
            job = services.jobs.create(JobWish(name=name))
            services.rigging.set_rig(job.id, pace="fast", sweep_seconds=1.0)
        services.taking.run_spot(1, 1)
        services.sound.wait()
        services.shaping.find(1)
        counts = asked(services) + asked_in_the_seat(services)
        services.close()
    line(
        f"{sum(counts.values())} hostile requests: answered by a fault of ours", str(counts[500]), "0", counts[500] == 0
    )
    for status, count in sorted(counts.items()):
        note(f"  status {status}", str(count))
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
