"""The `dolce` command: reads arguments, calls a service, prints the result."""

import argparse
import json
import math
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import NoReturn, Protocol

from dolce.errors import Damaged, DolceError, InvalidValue

# Of those that need no rights; WHATWG, "Fetch", port blocking, from memory.
_CLOSED_TO_BROWSERS = {
    1719,
    1720,
    1723,
    2049,
    3659,
    4045,
    4190,
    5060,
    5061,
    6000,
    6566,
    *range(6665, 6670),
    6679,
    6697,
    10_080,
}


class Serve(Protocol):
    """Starts the application and returns when it has ended."""

    def __call__(self, *, folder: Path | None, port: int, demo: bool) -> None: ...


class _OneLineParser(argparse.ArgumentParser):
    """Says what is wrong in one line and ends with 2."""

    def error(self, message: str) -> NoReturn:
        print(f"{self.prog}: {message}", file=sys.stderr)
        raise SystemExit(2)


def run(arguments: Sequence[str], *, serve: Serve) -> int:
    """Run one command; 0 on success, 2 with one line on standard error where the input is wrong.

    `serve` starts the application; it is handed in, since the terminal knows nothing of the pages.
    """
    options = _parser().parse_args(arguments)
    try:
        if options.command in ("serve", "demo"):
            serve(folder=options.data, port=options.port, demo=options.command == "demo")
        else:
            options.run(options)
    except DolceError as error:
        print(f"dolce {options.command}: {' '.join(str(error).split())}", file=sys.stderr)
        return 2
    except OSError as error:
        problem = f"{error.filename}: {error.strerror}" if error.filename else str(error)
        print(f"dolce {options.command}: {problem}. Check the path.", file=sys.stderr)
        return 2
    return 0


def _parser() -> argparse.ArgumentParser:
    parser = _OneLineParser(prog="dolce", description="Measure, align, correct and prove loudspeakers.")
    commands = parser.add_subparsers(dest="command", required=True, parser_class=_OneLineParser)

    sweep = commands.add_parser("sweep", help="write a logarithmic sweep as WAV, mono, 32-bit float")
    sweep.add_argument("out", metavar="OUT.wav", type=Path)
    sweep.add_argument("--rate", type=int, default=48_000, help="sample rate in Hz")
    sweep.add_argument("--seconds", type=float, default=5.0)
    sweep.add_argument("--from", dest="from_hz", type=float, default=10.0, help="Hz")
    sweep.add_argument("--to", dest="to_hz", type=float, default=22_000.0, help="Hz")
    sweep.add_argument("--level", type=float, default=-12.0, help="dBFS; a full-scale sine is 0 (AES17)")
    sweep.add_argument(
        "--no-marks",
        dest="marks",
        action="store_false",
        help="the sweep alone, without the two marks that tell a recorder's clock",
    )
    sweep.set_defaults(run=_sweep)

    response = commands.add_parser(
        "response",
        help="response from a recording of a sweep",
        description="Level in dB relative to the stimulus, phase in degrees relative to the arrival.",
    )
    response.add_argument("recording", metavar="RECORDING.wav", type=Path)
    response.add_argument("--stimulus", metavar="SWEEP.wav", type=Path, required=True)
    response.add_argument("--mic-cal", metavar="FILE", type=Path, help="frequency, dB, perhaps phase; is taken out")
    response.add_argument(
        "--smoothing",
        metavar="N|none",
        default="48",
        help="over 1/N octave; 48 when left out, none for the bare points",
    )
    response.add_argument("--sub", action="store_true", help="a sub plays; found out when left out")
    response.add_argument("--ir", metavar="OUT.wav", type=Path, help="also write the impulse response")
    response.add_argument("--out", metavar="OUT.csv", type=Path, required=True)
    response.set_defaults(run=_response)

    filters = commands.add_parser("filters", help="parametric filters for responses of one speaker at several spots")
    filters.add_argument("responses", metavar="R1.csv", type=Path, nargs="+")
    filters.add_argument("--weights", help="one number per response, parted by commas")
    filters.add_argument(
        "--seats", help="seat of each response, parted by commas; all around one when left out (see `expected`)"
    )
    filters.add_argument("--target", default="flat", metavar="FILE.csv|flat")
    filters.add_argument("--from", dest="from_hz", type=float, default=20.0, help="Hz")
    filters.add_argument("--to", dest="to_hz", type=float, default=500.0, help="Hz")
    filters.add_argument("--max-boost", type=float, default=3.0, help="dB, for the sum of all bands")
    filters.add_argument("--bands", type=int, default=10)
    filters.add_argument("--max-q", type=float, default=16.0, help="of the narrowest band")
    filters.add_argument("--boost-q", type=float, default=4.0, help="of the narrowest filter that boosts")
    filters.add_argument(
        "--single-boost", type=float, default=1.0, help="dB that one filter may boost more than all together"
    )
    filters.add_argument("--method", choices=("bands", "convolution"), default="bands")
    filters.add_argument("--phase", choices=("minimum", "linear", "mixed"), default="minimum", help="of a convolution")
    filters.add_argument("--length", type=float, default=1.0, help="of a convolution, in seconds at every rate")
    filters.add_argument("--fir", metavar="DIR", type=Path, help="also write impulse responses as WAV")
    filters.add_argument("--rates", default="44100,48000", help="sample rates of these, in Hz, parted by commas")
    filters.add_argument("--out", metavar="OUT.json", type=Path, required=True)
    filters.set_defaults(run=_filters)

    align = commands.add_parser(
        "align",
        help="levels, delays and polarity from impulse responses of several channels",
        description="The list has the columns channel,kind,spot,seat,file,start_s.",
    )
    align.add_argument("takes", metavar="TAKES.csv", type=Path)
    align.add_argument("--main-seat", metavar="NAME", help="where channels are matched; the first one when left out")
    align.add_argument("--weights", metavar="SEAT=1,...", help="how much seats count for subs; alike when left out")
    align.add_argument(
        "--crossover", type=float, default=80.0, help="crossover frequency between main channels and subs, Hz"
    )
    align.add_argument(
        "--max-loss", type=float, default=3.0, help="of the subs' output against their incoherent sum, dB"
    )
    align.add_argument("--max-delay", type=float, default=30.0, help="of any loudspeaker, ms")
    align.add_argument("--all-pass", type=int, default=0, help="second-order all-passes for each sub at most")
    align.add_argument("--out", metavar="SETTINGS.json", type=Path, required=True)
    align.set_defaults(run=_align)

    bass = commands.add_parser(
        "bass",
        help="a filter for each loudspeaker for the bass that they play together, alike at all seats",
        description="The list has the columns channel,kind,spot,seat,file,start_s.",
    )
    bass.add_argument("takes", metavar="TAKES.csv", type=Path)
    bass.add_argument("--main-seat", metavar="NAME", help="where mains are aligned; the first one when left out")
    bass.add_argument("--play", choices=("all", "subs"), default="all", help="which loudspeakers play the common bass")
    bass.add_argument("--to", dest="to_hz", type=float, default=120.0, help="where main channels take over, Hz")
    bass.add_argument("--max-loss", type=float, default=4.0, help="of output against the subs' incoherent sum, dB")
    bass.add_argument("--latency", type=float, default=12.0, help="by which main channels wait for the bass, ms")
    bass.add_argument("--length", type=float, default=0.4, help="of each filter, s")
    bass.add_argument("--weights", metavar="SEAT=1,...", help="how much seats count; alike when left out")
    bass.add_argument("--target", type=Path, metavar="FILE.csv", help="flat when left out")
    bass.add_argument("--fir", metavar="DIR", type=Path, required=True, help="folder of the filters, a WAV each")
    bass.add_argument("--out", metavar="OUT.json", type=Path, required=True)
    bass.set_defaults(run=_bass)

    check = commands.add_parser("check", help="see whether everything kept in a data folder is still what was kept")
    check.add_argument("--data", metavar="FOLDER", type=Path, required=True, help="folder of the jobs")
    check.set_defaults(run=_check)

    processor = commands.add_parser("processor", help="a stand-in for a processor on the network of this machine")
    processor.add_argument("--port", type=_port, default=5080, help="of HTTP and of Open Sound Control")
    processor.add_argument("--name", default="Stand-in")
    processor.add_argument("--outputs", default="", help="their names, parted by commas; all usual ones when left out")
    processor.add_argument("--bands", type=int, default=16, help="per output")
    processor.add_argument("--taps", type=int, default=16_384, help="of a convolution per output")
    processor.add_argument("--bass-taps", type=int, default=48_000, help="between the common bass and each output")
    processor.add_argument("--presets", type=int, default=3)
    processor.add_argument("--data", type=Path, default=None, help="file in which it keeps what it holds")
    processor.set_defaults(run=_processor)

    for name, help_ in (("serve", "start the application"), ("demo", "start it with sample jobs")):
        command = commands.add_parser(name, help=help_)
        command.add_argument("--port", type=_page_port, default=5057, help="0 for any that is free")
        command.add_argument("--data", type=Path, default=None, help="folder of the jobs")
    return parser


def _check(options: argparse.Namespace) -> None:
    from dolce.services.jobs.folder_check import check_folder

    report = check_folder(options.data)
    print(f"{report.jobs} jobs, {report.takes} takes, {len(report.faults)} faults")
    for fault in report.faults:
        print(fault)
    if report.faults:
        raise Damaged(
            f"{len(report.faults)} things are not what was kept.",
            where=str(options.data),
            remedy="Copy the folder away, restore a backup, or take these again.",
        )


def _processor(options: argparse.Namespace) -> None:
    from dolce.services.rig.stand_in_process import run_stand_in

    run_stand_in(
        port=options.port,
        name=options.name,
        outputs=options.outputs,
        bands=options.bands,
        taps=options.taps,
        bass_taps=options.bass_taps,
        presets=options.presets,
        file=options.data,
    )


def _port(text: str) -> int:
    """A port, or an error that argparse says in one line."""
    if not (text.isascii() and text.isdigit() and len(text) <= 5 and int(text) <= 65_535):
        raise argparse.ArgumentTypeError(f"{text[:20]!r} is not a port: choose 0 to 65535")
    return int(text)


def _page_port(text: str) -> int:
    """The same where a browser is to open it."""
    if (port := _port(text)) in _CLOSED_TO_BROWSERS:
        raise argparse.ArgumentTypeError(f"browsers refuse to open port {port}: choose another, such as 5057")
    return port


def _numbers(text: str, name: str) -> list[float]:
    try:
        numbers = [float(part) for part in text.split(",")]
    except ValueError:
        numbers = [math.nan]
    if not all(map(math.isfinite, numbers)):
        raise InvalidValue(f"{text[:60]!r} is not a row of numbers.", where=name, remedy="Part them by commas.")
    return numbers


def _sweep(options: argparse.Namespace) -> None:
    from dolce.services import batch

    batch.write_sweep(
        options.out,
        rate_hz=options.rate,
        seconds=options.seconds,
        from_hz=options.from_hz,
        to_hz=options.to_hz,
        level_dbfs=options.level,
        marks=options.marks,
    )


def _smoothing(text: str) -> float | None:
    return None if text == "none" else _numbers(text, "--smoothing")[0]


def _response(options: argparse.Namespace) -> None:
    from dolce.services import batch

    report = batch.write_response(
        options.recording,
        stimulus=options.stimulus,
        microphone=options.mic_cal,
        smoothing=_smoothing(options.smoothing),
        is_sub=True if options.sub else None,
        impulse_out=options.ir,
        out=options.out,
    )
    print(json.dumps(report))


def _align(options: argparse.Namespace) -> None:
    from dolce.services.align.from_files import write_alignment

    write_alignment(
        options.takes,
        main_seat=options.main_seat,
        out=options.out,
        crossover_hz=options.crossover,
        weights=_by_name(options.weights, "--weights") if options.weights else None,
        max_loss_db=options.max_loss,
        max_delay_s=options.max_delay / 1000,
        all_passes=options.all_pass,
    )


def _bass(options: argparse.Namespace) -> None:
    from dolce.services.align.bass_from_files import write_shared_bass

    write_shared_bass(
        options.takes,
        out=options.out,
        fir_folder=options.fir,
        main_seat=options.main_seat,
        play=options.play,
        to_hz=options.to_hz,
        max_loss_db=options.max_loss,
        latency_s=options.latency / 1000,
        length_s=options.length,
        weights=_by_name(options.weights, "--weights") if options.weights else None,
        target=options.target,
    )


def _by_name(text: str, where: str) -> dict[str, float]:
    """Numbers by name, "main=2,sofa=1"."""
    found = {}
    for part in text.split(","):
        name, equals, value = part.rpartition("=")
        if not equals or not name.strip():
            raise InvalidValue(
                f"{part.strip()[:40]!r} is no name with a number.", where=where, remedy="Write SEAT=1,..."
            )
        found[name.strip()] = _numbers(value, where)[0]
    return found


def _filters(options: argparse.Namespace) -> None:
    from dolce.core.correction import FilterType, Limits
    from dolce.services import batch

    limits = Limits(
        from_hz=options.from_hz,
        to_hz=options.to_hz,
        max_boost_db=options.max_boost,
        bands=options.bands,
        max_q=options.max_q,
        max_q_above=options.max_q,
        max_boost_q=options.boost_q,
        more_for_one_db=options.single_boost,
    )
    filter_options = batch.FilterOptions(
        target=None if options.target == "flat" else Path(options.target),
        limits=limits,
        fir_folder=options.fir,
        filter_type=FilterType(method=options.method, phase=options.phase, duration_s=options.length),
        rates_hz=[round(rate) for rate in _numbers(options.rates, "--rates")] if options.fir else [],
    )
    batch.write_filters(
        options.responses,
        filter_options,
        out=options.out,
        weights=_numbers(options.weights, "--weights") if options.weights else None,
        seats=[seat.strip() for seat in options.seats.split(",")] if options.seats else None,
    )
