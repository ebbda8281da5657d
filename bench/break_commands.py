"""Hostile arguments and files to the batch commands: one line and exit code 2, nothing half-written, never a trace.

`.venv/bin/python bench/break_commands.py [--short]`.
"""

import contextlib
import io
import random
import tempfile
from collections import Counter
from pathlib import Path

import numpy as np
import soundfile
from promises import SHORT, ended, line

from dolce.__main__ import main as dolce

RUNS = 60 if SHORT else 600
NUMBERS = [
    "nan",
    "inf",
    "-inf",
    "1e300",
    "-1",
    "0",
    "1e-300",
    "9" * 400,
    "²",
    "",
    "x",
    "48000",
    "3",
    "1,2",
    "nan,1",
    "1,,2",
]
OPTIONS = {
    "sweep": (["OUT"], ["--rate", "--seconds", "--from", "--to", "--level"]),
    "response": (["IN", "--stimulus", "IN", "--out", "OUT"], ["--mic-cal", "--smoothing", "--ir"]),
    "filters": (
        ["IN", "IN", "--out", "OUT"],
        ["--weights", "--from", "--to", "--max-boost", "--bands", "--rates", "--fir", "--target"],
    ),
    "check": (["--data", "FOLDER"], []),
    "serve": (["--port", "-1"], ["--port", "--data"]),
}
TABLES = [
    b"",
    b"frequency_hz,level_db\n",
    b"frequency_hz,level_db\n20,0\n30,1e30\n",
    b"frequency_hz,level_db\n1e300,0\n2e300,1\n",
    b"frequency_hz,level_db\n" + b"".join(b"%d,%d\n" % (f, f % 7) for f in range(10, 24_000, 40)),
    b"frequency_hz,level_db\n20,0\n20000,0\n",
    b"\x00\xff",
    b"frequency_hz,level_db\n" + b"9" * 5000 + b",1\n",
]


def prepared(folder: Path) -> list[Path]:
    """Files to give: sound and tables, good and bad, a folder, and one that is not there."""
    rng = np.random.default_rng(1)
    files = [folder / "missing.wav", folder]
    for number, (samples, rate, subtype) in enumerate(
        [
            (np.zeros(0), 48_000, "FLOAT"),
            (np.full(70_000, 1e300), 48_000, "DOUBLE"),
            (np.zeros(99_000), 8000, "PCM_16"),
            (rng.uniform(-1, 1, (60_000, 3)), 48_000, "PCM_24"),
            (rng.uniform(-1, 1, 2000), 192_000, "FLOAT"),
        ]
    ):
        files.append(folder / f"{number}.wav")
        soundfile.write(files[-1], samples, rate, format="WAV", subtype=subtype)
    for number, data in enumerate(TABLES):
        files.append(folder / f"{number}.csv")
        files[-1].write_bytes(data)
    with contextlib.redirect_stdout(io.StringIO()):
        dolce(["sweep", str(folder / "good.wav"), "--seconds", "1"])
    return [*files, folder / "good.wav"]


def outputs(folder: Path) -> list[Path]:
    """Places to write to: new, in a new folder, a folder, a link, a link to nothing, a device, below a file."""
    (folder / "kept.txt").write_text("kept")
    (folder / "link").symlink_to(folder / "kept.txt")
    (folder / "lost-link").symlink_to(folder / "nowhere" / "x")
    return [
        folder / "out.bin",
        folder / "a" / "b.bin",
        folder,
        folder / "link",
        folder / "lost-link",
        Path("/dev/null"),
        folder / "kept.txt" / "below",
    ]


def tried(folder: Path) -> tuple[Counter, int]:
    """Exit codes, and how many ended in a trace."""
    rng = random.Random(8)
    ins, outs = prepared(folder), outputs(folder)
    codes: Counter = Counter()
    broke = 0
    for _ in range(RUNS):
        name = rng.choice(list(OPTIONS))
        fixed, options = OPTIONS[name]
        arguments = [
            name,
            *(
                str(rng.choice(ins))
                if a == "IN"
                else str(rng.choice(outs))
                if a == "OUT"
                else str(folder)
                if a == "FOLDER"
                else a
                for a in fixed
            ),
        ]
        for option in rng.sample(options, k=rng.randint(0, len(options))):
            value = rng.choice(
                ins if option in ("--mic-cal", "--target") else outs if option in ("--ir", "--fir") else NUMBERS
            )
            arguments += [option, str(folder / "data") if option == "--data" else str(value)]
        if name == "serve":
            arguments += ["--port", rng.choice(["-1", "65536", "²", "9" * 400, "nan", "5061"])]
        string = io.StringIO()
        try:
            with contextlib.redirect_stderr(string), contextlib.redirect_stdout(io.StringIO()):
                code = dolce(arguments)
        except SystemExit as error:
            code = error.code
        except Exception as error:
            broke += 1
            print(f"        {type(error).__name__}: {str(error)[:90]}  {' '.join(arguments)[:200]}")
            continue
        codes[code] += 1
        if code not in (0, 2) or (code == 2 and len(string.getvalue().strip().splitlines()) != 1):
            broke += 1
            print(f"        {code}: {string.getvalue()[:200]!r}  {' '.join(arguments)[:120]}")
    return codes, broke


def main() -> int:
    """All commands on one folder."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        codes, broke = tried(folder)
        line(
            f"{RUNS} hostile commands: a trace, or more than a line",
            f"{broke} ({codes[0]} done, {codes[2]} refused)",
            "0",
            broke == 0,
        )
        left = list(folder.rglob(".dolce-*"))
        line("  half-written files left", str(len(left)), "0", not left)
        is_link = (folder / "link").is_symlink() and Path("/dev/null").is_char_device()
        line("  links stay links, devices stay devices", "yes" if is_link else "no", "yes", is_link)
    return ended()


if __name__ == "__main__":
    raise SystemExit(main())
