"""What no person types and no recorder writes: hostile texts, files of every format changed at random, forms of pages.

Shared by the benches that try to break it.
"""

import io
import random
from dataclasses import dataclass
from html.parser import HTMLParser
from urllib.parse import parse_qsl, urlsplit

import numpy as np
import soundfile

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


def strange_files(rng: random.Random) -> list[tuple[bytes, str]]:
    """Uploads that were never whole."""
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


_PIECES = [
    b"\x00",
    b"\xff\xff\xff\xff",
    b"9" * 400,
    b"1e308",
    b"nan",
    b"-1",
    b'"',
    b"\n",
    b",",
    b"{",
    b"\xed\xa0\x80",
    b"=1+1",
    b"<script>",
    b"\x7f\xff\xff\xff",
]


def mutated(rng: random.Random, data: bytes) -> bytes:
    """A file with a few bytes, a part or its end not what it was; sometimes as it was."""
    changed = bytearray(data)
    for _ in range(rng.choice((0, 1, 1, 2, 4, 16))):
        if not changed:
            break
        at = rng.randrange(min(len(changed), rng.choice((64, 4096, len(changed)))))  # beginnings say most
        match rng.randrange(6):
            case 0:
                changed[at] ^= 1 << rng.randrange(8)
            case 1:
                changed[at : at + rng.choice((1, 4, 8))] = rng.choice(_PIECES)
            case 2:
                changed[at:at] = rng.choice(_PIECES)
            case 3:
                del changed[at : at + rng.choice((1, 10, 1000))]
            case 4:
                changed[at:at] = changed[at : at + rng.choice((1, 20, 500))]
            case 5:
                del changed[at:]
    return bytes(changed)


@dataclass(frozen=True)
class Form:
    """A form of a page as it stands there: where it goes, its fields with what is in them, its file fields."""

    path: str
    fields: tuple[tuple[str, str], ...]
    files: tuple[str, ...]


class _Forms(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.found: list[Form] = []
        self._path, self._fields, self._files, self._select = "", [], [], ""

    def handle_starttag(self, tag, attributes) -> None:
        of = dict(attributes)
        if tag == "form":
            self._path, self._fields, self._files = of.get("hx-post") or of.get("action") or "", [], []
        elif tag == "button" and of.get("hx-post"):
            self.found.append(Form(of["hx-post"], (), ()))
        elif tag == "input" and of.get("name"):
            if of.get("type") == "file":
                self._files.append(of["name"])
            else:
                self._fields.append((of["name"], of.get("value") or ""))
        elif tag == "textarea" and of.get("name"):
            self._fields.append((of["name"], ""))
        elif tag == "select":
            self._select = of.get("name") or ""
        elif tag == "option" and self._select:
            self._fields.append((self._select, of.get("value") or ""))
            self._select = ""

    def handle_endtag(self, tag) -> None:
        if tag == "form" and self._path:
            self.found.append(Form(self._path, tuple(self._fields), tuple(self._files)))
            self._path = ""


def forms_of(page: str) -> list[Form]:
    """All forms and buttons of a page that change something."""
    reader = _Forms()
    reader.feed(page)
    return [form for form in reader.found if form.path.startswith("/")]


def wrong_form(rng: random.Random, form: Form) -> tuple[str, list[tuple[str, str]]]:
    """Where a form goes, and its fields with one to three of them wrong, gone or twice."""
    fields = [(name, value) for name, value in form.fields if name != "csrf_token"]
    for _ in range(min(len(fields), rng.choice((0, 1, 1, 1, 2, 3)))):
        at = rng.randrange(len(fields))
        match rng.randrange(4):
            case 0:
                del fields[at]
                if not fields:
                    break
            case 1:
                fields.append(fields[at])
            case _:
                fields[at] = (fields[at][0], rng.choice(TEXTS))
    split = urlsplit(form.path)
    return split.path, fields + (parse_qsl(split.query) if rng.random() < 0.5 else [])
