"""The command line. Exit status: 0 done, 2 unusable input with one clear line on stderr."""

from __future__ import annotations

import argparse
import atexit
import contextlib
import gc
import io
import json
import sys
from collections.abc import Callable, Sequence
from datetime import UTC, datetime
from pathlib import Path

from gatecheck import __version__
from gatecheck.core.errors import GateCheckError, InputError

_CHUNK = 4 << 20
"""bytes of a read map that are read at once"""


def main(argv: Sequence[str] | None = None) -> int:
    """Run a command. Imports what it needs late, so that `triage` starts fast."""
    for stream in (sys.stdout, sys.stderr):  # what a disk calls its files may be no text that this terminal can write
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    arguments = _parser().parse_args(argv)
    atexit.register(gc.freeze)  # nothing is looked through once more for circles when the process ends anyway
    try:
        return int(arguments.run(arguments))
    except GateCheckError as error:
        return _said(arguments.command, str(error))
    except BrokenPipeError:
        sys.stderr.close()
        return 0
    except OSError as error:  # a place that cannot be read or written, and that no command has named in its own words
        place = error.filename if isinstance(error.filename, str) else "file"
        return _said(
            arguments.command,
            f"{place}: expected a place that can be read and written here, got {error.strerror or error}",
        )
    except UnicodeError as error:
        return _said(
            arguments.command, f"expected names and texts that can be written as UTF-8, got {str(error)[:120]}"
        )
    except KeyboardInterrupt:
        return 130


def _said(command: str, text: str) -> int:
    print(f"gatecheck {command}: {text}".replace("\n", " "), file=sys.stderr)
    return 2


def _parser() -> argparse.ArgumentParser:
    parser = argparse.ArgumentParser(prog="gatecheck", description="Triage for machines that will not start.")
    parser.add_argument("--version", action="version", version=__version__)
    commands = parser.add_subparsers(dest="command", required=True, metavar="COMMAND")
    triage = commands.add_parser(
        "triage", help="reason about a case: facts and entries in, gates, suspects and the call out"
    )
    triage.add_argument("cases", nargs="+", metavar="CASE.json", help="a file, or - for standard input")
    triage.set_defaults(run=_triage)
    vocabulary = commands.add_parser("vocabulary", help="all ids as JSON")
    vocabulary.set_defaults(run=_vocabulary)
    read = commands.add_parser("read", help="decode a capture, a folder of raw pages, or one page")
    read.add_argument("paths", nargs="+", metavar="PATH")
    read.add_argument("--kind", help="what a single page is, where it cannot be told")
    read.set_defaults(run=_read)
    rehearse = commands.add_parser("rehearse", help="run simulated machines through triage policies")
    rehearse.add_argument("--machines", type=int, default=200, metavar="N")
    rehearse.add_argument("--seed", type=int, default=1, metavar="S")
    rehearse.add_argument(
        "--world",
        metavar="DIR",
        help=(
            "where the machines come from: a folder of knowledge files laid over the shipped ones, or a shipped world "
            "by name"
        ),
    )
    rehearse.add_argument(
        "--jitter",
        type=float,
        default=0.0,
        metavar="SIZE",
        help="move every row of the world's tables (0.3: off by about a third)",
    )
    rehearse.add_argument(
        "--report", type=Path, metavar="DIR", help="write rehearsal.md with plots: all worlds, and a jittered one"
    )
    rehearse.add_argument(
        "--policy",
        nargs="+",
        metavar="NAME",
        help="planner, fixed, clairvoyant, random-legal (default: the first three)",
    )
    rehearse.add_argument("--jobs", type=int, default=None, metavar="J", help="processes (default: one per core)")
    rehearse.add_argument("--json", action="store_true", help="one JSON document instead of a table")
    rehearse.set_defaults(run=_rehearse)
    probe = commands.add_parser("probe", help="write the program for the sick machine, or run it on a practice machine")
    probe.add_argument("--out", type=Path, metavar="FILE", help="where to write it (default: standard output)")
    probe.add_argument("--server", default="", metavar="URL", help="fill in the bench's address")
    probe.add_argument("--secret", default="", metavar="SECRET", help="fill in a ticket's secret")
    probe.add_argument(
        "--practice",
        metavar="NAME",
        help="read this practice machine instead, into --out as a capture file; `list` names them",
    )
    probe.set_defaults(run=_probe)
    surface = commands.add_parser("surface", help="judge a read map: CSV with the header lba,sectors,ms,state")
    surface.add_argument("map", metavar="MAP", help="a file, or - for standard input")
    surface.add_argument("--sector-size", type=int, default=512, metavar="BYTES")
    surface.add_argument(
        "--disk-sectors", type=int, default=None, metavar="N", help="size of the disk, where the rows do not tell"
    )
    surface.set_defaults(run=_surface)
    path = commands.add_parser("bootpath", help="what this firmware would do with a disk image")
    path.add_argument("image", metavar="IMAGE", help="an image file or a block device; it is only read")
    path.add_argument("--mode", choices=("uefi", "bios"), required=True)
    path.add_argument(
        "--capture",
        metavar="FILE.gcap",
        default=None,
        help="a capture with the firmware's boot entries; without it, firmware that knows none",
    )
    path.add_argument(
        "--sector-size",
        type=int,
        choices=(512, 4096),
        default=None,
        metavar="BYTES",
        help="where the image does not tell",
    )
    path.set_defaults(run=_late("disks", "bootpath"))
    mend = commands.add_parser("mend", help="what can be mended on a disk image; writes only with --apply")
    mend.add_argument("image", metavar="IMAGE", help="an image file; without --apply or --revert it is only read")
    mend.add_argument(
        "--mode",
        choices=("uefi", "bios"),
        default=None,
        help="the firmware that is to start it; not needed with --revert",
    )
    mend.add_argument(
        "--apply",
        metavar="ID",
        default=None,
        help="a plan by its id, or all; an undo file that is there already is gone on with",
    )
    mend.add_argument(
        "--undo", type=Path, metavar="FILE", default=None, help="where the overwritten bytes go, before the first write"
    )
    mend.add_argument(
        "--revert", type=Path, metavar="FILE", default=None, help="restore every byte that this undo file knows"
    )
    mend.add_argument(
        "--sector-size",
        type=int,
        choices=(512, 4096),
        default=None,
        metavar="BYTES",
        help="where the image does not tell",
    )
    mend.set_defaults(run=_late("disks", "mend"))
    where = commands.add_parser("where", help="what lives at a sector of a disk image")
    where.add_argument("image", metavar="IMAGE", help="an image file or a block device; it is only read")
    where.add_argument("lbas", metavar="LBA", nargs="+", type=int, help="sectors, counted from 0")
    where.add_argument(
        "--sector-size",
        type=int,
        choices=(512, 4096),
        default=None,
        metavar="BYTES",
        help="where the image does not tell",
    )
    where.set_defaults(run=_late("disks", "where"))
    for name, words in (
        ("volume", "check a volume on a disk image, read-only; repairs only with --apply"),
        ("rescue", "list or copy what can be saved from a volume; the image is never written"),
    ):
        own = commands.add_parser(name, help=words)
        own.add_argument("image", metavar="IMAGE", help="an image file or a block device")
        place = own.add_mutually_exclusive_group()
        place.add_argument("--at", type=int, metavar="BYTES", default=None, help="where the volume begins")
        place.add_argument(
            "--partition",
            type=int,
            metavar="N",
            default=None,
            help="the partition by its number; without either, the largest volume that can be read",
        )
        own.add_argument(
            "--sector-size",
            type=int,
            choices=(512, 4096),
            default=None,
            metavar="BYTES",
            help="where the image does not tell",
        )
        if name == "volume":
            own.add_argument(
                "--repair",
                action="store_true",
                help="print the repair plan, in groups; nothing is written without --apply",
            )
            own.add_argument(
                "--apply",
                action="store_true",
                help="carry the plan out; an undo file that is there already is gone on with",
            )
            own.add_argument("--only", nargs="+", metavar="GROUP", default=None, help="only these groups of the plan")
            own.add_argument(
                "--undo",
                type=Path,
                metavar="FILE",
                default=None,
                help="where the overwritten bytes go, before the first write",
            )
            own.add_argument(
                "--revert", type=Path, metavar="FILE", default=None, help="restore every byte that this undo file knows"
            )
        if name == "rescue":
            own.add_argument(
                "--list",
                nargs="?",
                const="",
                default=None,
                metavar="PATH",
                help="list a folder and all below it, the whole volume without PATH",
            )
            own.add_argument(
                "--to",
                type=Path,
                default=None,
                metavar="DIR",
                help="copy into this folder; an interrupted copy is gone on with",
            )
            own.add_argument(
                "--only", nargs="+", default=None, metavar="GLOB", help="only files whose path matches one of these"
            )
            own.add_argument(
                "--deleted",
                action="store_true",
                help="bring back what was deleted and still stands, into a folder of its own",
            )
        own.set_defaults(run=_late("volumes", name))
    for name, words, what in (
        ("listen", "judge a recording of a drive", "FILE.wav"),
        ("supply", "judge a trace of a drive's supply current", "FILE.csv"),
    ):
        own = commands.add_parser(name, help=words)
        own.add_argument("file", metavar=what)
        own.set_defaults(run=_late("signals", name))
    stick = commands.add_parser("stick", help="build the bench's own live stick, as an image or onto a stick")
    stick.add_argument("out", nargs="?", type=Path, metavar="OUT.img")
    stick.add_argument("--size", type=int, metavar="MIB", help="of the image; the rest of it is room for readings")
    stick.add_argument("--to", metavar="/dev/…", help="write it to this stick instead, which loses all that is on it")
    stick.add_argument("--serial", metavar="SERIAL", help="the serial number of that stick: it has to be the right one")
    stick.add_argument(
        "--cache",
        type=Path,
        metavar="DIR",
        help="where packages and what was made of them are kept (default: $GATECHECK_STICK, else the user's cache)",
    )
    stick.add_argument(
        "--data",
        type=Path,
        default=Path.home() / ".local" / "share" / "gatecheck",
        metavar="DIR",
        help="the shop's folder: the stick knows its bench by the key in it",
    )
    stick.set_defaults(run=_late("stick", "stick"))
    kept = (
        ("backup", "write the whole shop into one file, while it runs", ("file",)),
        ("restore", "bring a backup back, while it runs; what was there is kept", ("file",)),
        ("export", "write one ticket with its files into one file", ("number", "file")),
        ("import", "take an exported ticket in", ("file",)),
    )
    for name, words, names in kept:
        own = commands.add_parser(name, help=words)
        if "number" in names:
            own.add_argument("number", metavar="NUMBER")
        own.add_argument("file", type=Path, metavar="FILE")
        own.add_argument(
            "--data",
            type=Path,
            default=Path.home() / ".local" / "share" / "gatecheck",
            metavar="DIR",
            help="the shop's folder",
        )
        if name == "restore":
            own.add_argument(
                "--over", action="store_true", help="although the shop holds tickets that the backup does not"
            )
        own.set_defaults(run=_keeping)
    for name, words in (("serve", "start the server"), ("demo", "start the server with a made-up repair counter")):
        serve = commands.add_parser(name, help=words)
        serve.add_argument("--host", default="127.0.0.1")
        serve.add_argument("--port", type=int, default=8765)
        serve.add_argument("--data", type=Path, default=None, metavar="DIR", help="where tickets and files are kept")
        serve.add_argument(
            "--name",
            action="append",
            default=[],
            metavar="HOST",
            help="a host name that the server answers to besides its addresses",
        )
        serve.set_defaults(run=_serve, demo=name == "demo")
    return parser


def _late(module: str, name: str) -> Callable[[argparse.Namespace], int]:
    """A command of `gatecheck.cli`, imported when it is called."""

    def run(arguments: argparse.Namespace) -> int:
        from importlib import import_module

        return int(getattr(import_module(f"gatecheck.cli.{module}"), name)(arguments))

    return run


def _triage(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.compile_cache import use_mmap
    from gatecheck.adapters.shipped_tables import shipped_model, shipped_words
    from gatecheck.core.decide.report import triage

    use_mmap()
    cases = [(name, _load_case(name)) for name in arguments.cases]
    model = shipped_model()
    for name, case in cases:
        try:
            document = triage(model, shipped_words(), case, as_of_year=datetime.now(UTC).year)
        except GateCheckError as error:
            raise InputError(f"{name}: {error}") from error
        _print(document)
    return 0


def _load_case(name: str) -> object:
    try:
        text = sys.stdin.read() if name == "-" else Path(name).read_text(encoding="utf-8")
    except (OSError, UnicodeDecodeError) as error:
        reason = error.strerror if isinstance(error, OSError) else "no UTF-8 text"
        raise InputError(f"{name}: expected a JSON file, got {reason}") from error
    try:
        case: object = json.loads(text)
    except (json.JSONDecodeError, RecursionError) as error:
        raise InputError(f"{name}: expected JSON, got {error}") from error
    return case


def _vocabulary(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.shipped_tables import shipped_model
    from gatecheck.core.decide.report import vocabulary

    _print(vocabulary(shipped_model().knowledge))
    return 0


def _read(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.capture_files import read_path
    from gatecheck.adapters.shipped_tables import shipped_words
    from gatecheck.core.capture.document import capture_document
    from gatecheck.core.capture.kinds import DRIVE_KINDS
    from gatecheck.core.capture.read import read_capture

    words = shipped_words()
    kinds = ", ".join(sorted(DRIVE_KINDS))
    if arguments.kind and arguments.kind not in DRIVE_KINDS:
        raise InputError(f"--kind: expected one of {kinds}, got {arguments.kind!r}")
    captures = [read_path(path) for path in arguments.paths]
    for files in captures:
        if arguments.kind and len(files) > 1:
            raise InputError(f"--kind: expected a single page, got {len(files)}")
        capture = read_capture(files, words.knowledge.findings, kind=arguments.kind)
        alone = len(files) == 1
        broken = [page for page in capture.pages if page.status == "broken"]
        if alone and broken:
            raise InputError(f"{broken[0].path}: {words.say(broken[0].detail)}")
        if alone and capture.pages[0].status == "unknown":
            raise InputError(
                f"{capture.pages[0].path}: expected a page of a known kind, got "
                f"{words.say(capture.pages[0].detail)}; "
                f"--kind one of {kinds}"
            )
        _print(capture_document(capture, words))
    return 0


def _rehearse(arguments: argparse.Namespace) -> int:
    from gatecheck.cli.rehearse import rehearse

    if arguments.report:
        from gatecheck.cli.rehearsal_report import write_report

        print(write_report(arguments.report, machines=arguments.machines, seed=arguments.seed, jobs=arguments.jobs))
        return 0
    document = rehearse(
        machines=arguments.machines,
        seed=arguments.seed,
        world=arguments.world,
        policies=arguments.policy,
        jobs=arguments.jobs,
        jitter=arguments.jitter,
    )
    if arguments.json:
        _print(document)
    else:
        print(document["table"])
    return 0


def _probe(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.probe_script import probe_archive

    if arguments.practice:
        return _practice(arguments)
    probe = probe_archive(arguments.server, arguments.secret)
    if arguments.out is None:
        sys.stdout.buffer.write(probe)
        return 0
    try:
        arguments.out.write_bytes(probe)
    except OSError as error:
        raise InputError(f"--out {arguments.out}: expected a file that can be written, got {error.strerror}") from error
    return 0


def _practice(arguments: argparse.Namespace) -> int:
    import tempfile

    from gatecheck.practice.__main__ import main as practice
    from gatecheck.practice.patients import PATIENTS

    if arguments.practice == "list":
        for patient in PATIENTS:
            print(f"{patient.id:<14}{patient.title}")
        return 0
    if arguments.practice not in {p.id for p in PATIENTS}:
        raise InputError(f"--practice: expected one of {', '.join(p.id for p in PATIENTS)}, got {arguments.practice!r}")
    if arguments.out is None and not (arguments.server and arguments.secret):
        raise InputError("--practice: expected --out FILE.gcap, or --server with --secret, got neither")
    with tempfile.TemporaryDirectory() as spool:
        where = (
            ["--out", str(arguments.out)]
            if arguments.out
            else ["--server", arguments.server, "--secret", arguments.secret]
        )
        return practice([arguments.practice, "--spool", spool, "--wait", "3", *where])


def _surface(arguments: argparse.Namespace) -> int:
    from gatecheck.core.scan.coarse import compact
    from gatecheck.core.scan.judge import judge_map, surface_document
    from gatecheck.core.scan.read import MapError, read_parts

    if arguments.sector_size not in (512, 520, 528, 4096, 4160, 4224):
        raise InputError(
            f"--sector-size: expected 512 or 4096 (520, 528, 4160, 4224 with protection), got {arguments.sector_size}"
        )
    if arguments.disk_sectors is not None and not 1 <= arguments.disk_sectors <= 1 << 48:
        raise InputError(f"--disk-sectors: expected 1 to {1 << 48}, got {arguments.disk_sectors}")
    try:
        with contextlib.ExitStack() as stack:
            source = sys.stdin.buffer if arguments.map == "-" else stack.enter_context(Path(arguments.map).open("rb"))
            found = compact(read_parts(iter(lambda: source.read(_CHUNK), b"")))
    except OSError as error:
        raise InputError(f"{arguments.map}: expected a read map, got {error.strerror}") from error
    except MapError as error:
        raise InputError(f"{arguments.map}: {error}") from error
    if arguments.disk_sectors is not None and int((found.lba + found.sectors).max()) > arguments.disk_sectors:
        raise InputError(
            f"{arguments.map}: expected blocks within {arguments.disk_sectors} sectors, got one that ends at "
            f"{int((found.lba + found.sectors).max())}"
        )
    _print(surface_document(judge_map(found, sector_size=arguments.sector_size, disk_sectors=arguments.disk_sectors)))
    return 0


def _keeping(arguments: argparse.Namespace) -> int:
    from gatecheck.adapters.shipped_tables import shipped_model
    from gatecheck.store import keeping

    if arguments.command == "backup":
        kept = keeping.backup(arguments.data, arguments.file)
        print(
            f"{arguments.file}: {kept.tickets} tickets, {kept.files} files, {kept.bytes / 1e6:.1f} MB; read back "
            f"and "
            f"whole"
        )
    elif arguments.command == "restore":
        kept, before = keeping.restore(arguments.file, arguments.data, over=arguments.over)
        print(
            f"{arguments.data}: {kept.tickets} tickets, {kept.files} files"
            + (f"; what was there before is in {before}" if before else "")
        )
    elif arguments.command == "export":
        kept = keeping.export_ticket(arguments.data, arguments.number, arguments.file)
        print(f"{arguments.file}: ticket {arguments.number}, {kept.files} files")
    else:
        print(f"{keeping.import_ticket(arguments.file, arguments.data, shipped_model().knowledge)}: taken in")
    return 0


def _serve(arguments: argparse.Namespace) -> int:
    from gatecheck.server.start import start

    return start(arguments.host, arguments.port, arguments.data, demo=arguments.demo, names=tuple(arguments.name))


def _print(document: object) -> None:
    print(json.dumps(document, ensure_ascii=False, default=_plain))


def _plain(value: object) -> object:
    if isinstance(value, bytes):
        return value.hex()
    raise TypeError(type(value).__name__)


if __name__ == "__main__":
    sys.exit(main())
