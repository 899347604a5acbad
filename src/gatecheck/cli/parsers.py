"""What the commands are called and what they take. Each is imported when it is called, so that `triage` starts fast."""

from __future__ import annotations

import argparse
from collections.abc import Callable
from pathlib import Path
from typing import Any

from gatecheck import __version__

DATA = Path.home() / ".local" / "share" / "gatecheck"
Commands = Any
"""what `add_subparsers` returns; argparse keeps its type to itself"""


def parser() -> argparse.ArgumentParser:
    """Of every command, a group after the other."""
    own = argparse.ArgumentParser(prog="gatecheck", description="Triage for machines that will not start.")
    own.add_argument("--version", action="version", version=__version__)
    commands = own.add_subparsers(dest="command", required=True, metavar="COMMAND")
    for group in (_engine, _readings, _probe, _disks, _volumes, _signals, _stick, _shop):
        group(commands)
    return own


def _late(module: str, name: str) -> Callable[[argparse.Namespace], int]:
    """A command of `gatecheck.cli`, imported when it is called."""

    def run(arguments: argparse.Namespace) -> int:
        from importlib import import_module

        return int(getattr(import_module(f"gatecheck.cli.{module}"), name)(arguments))

    return run


def _place(own: argparse.ArgumentParser, otherwise: str) -> None:
    place = own.add_mutually_exclusive_group()
    place.add_argument("--at", type=int, metavar="BYTES", default=None, help="start of the volume")
    place.add_argument(
        "--partition",
        type=int,
        metavar="N",
        default=None,
        help=f"the partition by its number; without either, {otherwise}",
    )


def _key_file(own: argparse.ArgumentParser) -> None:
    own.add_argument(
        "--key-file",
        metavar="FILE",
        default=None,
        help="opens an encrypted volume: recovery password, passphrase, or startup key file; - is standard input",
    )


def _repair(own: argparse.ArgumentParser) -> None:
    own.add_argument("--repair", action="store_true", help="print the repair plan, in groups; writes only with --apply")
    own.add_argument("--apply", action="store_true", help="apply the plan; resumes if the undo file exists")
    own.add_argument(
        "--only", nargs="+", action="extend", metavar="GROUP", default=None, help="only these groups of the plan"
    )
    own.add_argument(
        "--undo", type=Path, metavar="FILE", default=None, help="where the old bytes are saved before the first write"
    )
    own.add_argument("--revert", type=Path, metavar="FILE", default=None, help="restore every byte in this undo file")


def _others(own: argparse.ArgumentParser) -> None:
    own.add_argument(
        "--with",
        dest="others",
        nargs="+",
        action="extend",
        default=[],
        metavar="IMAGE",
        help="other drives, or images of them, that hold the volume together with this one (RAID, LVM)",
    )


def _sector_size(own: argparse.ArgumentParser) -> None:
    own.add_argument(
        "--sector-size",
        type=int,
        choices=(512, 4096),
        default=None,
        metavar="BYTES",
        help="if the image does not say",
    )


def _engine(commands: Commands) -> None:
    """Reasoning about a case, and rehearsing."""
    triage = commands.add_parser("triage", help="diagnose a case (JSON in, JSON out)")
    triage.add_argument("cases", nargs="+", metavar="CASE.json", help="a file, or - for standard input")
    triage.set_defaults(run=_late("engine", "triage"))
    vocabulary = commands.add_parser("vocabulary", help="all ids as JSON")
    vocabulary.set_defaults(run=_late("engine", "vocabulary"))
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
        action="extend",
        metavar="NAME",
        help="planner, fixed, clairvoyant, random-legal (default: the first three)",
    )
    rehearse.add_argument("--jobs", type=int, default=None, metavar="J", help="processes (default: one per core)")
    rehearse.add_argument(
        "--cluster", metavar="ADDRESS", help="share the machines among the workers of a Dask scheduler instead"
    )
    rehearse.add_argument("--wrong", type=int, metavar="N", help="print the wrong call number N, step by step")
    rehearse.add_argument("--as-case", action="store_true", help="with --wrong: as a case for triage")
    rehearse.add_argument("--json", action="store_true", help="one JSON document instead of a table")
    rehearse.set_defaults(run=_late("engine", "rehearse"))


def _readings(commands: Commands) -> None:
    """What was read elsewhere."""
    read = commands.add_parser("read", help="decode a capture, a folder of raw log pages, or one page")
    read.add_argument("paths", nargs="+", metavar="PATH")
    read.add_argument("--kind", help="kind of a single page, if it is not recognised")
    read.set_defaults(run=_late("readings", "read"))
    surface = commands.add_parser("surface", help="evaluate a surface scan: CSV with the header lba,sectors,ms,state")
    surface.add_argument("map", metavar="MAP", help="a file, or - for standard input")
    surface.add_argument("--sector-size", type=int, default=512, metavar="BYTES")
    surface.add_argument(
        "--disk-sectors", type=int, default=None, metavar="N", help="size of the disk, if the rows do not say"
    )
    surface.set_defaults(run=_late("readings", "surface"))


def _probe(commands: Commands) -> None:
    """The program for the sick machine."""
    probe = commands.add_parser("probe", help="write the program for the sick machine, or run it on a practice machine")
    probe.add_argument("--out", type=Path, metavar="FILE", help="where to write it (default: standard output)")
    probe.add_argument("--server", default="", metavar="URL", help="set the bench's address")
    probe.add_argument("--secret", default="", metavar="SECRET", help="set a ticket's secret")
    probe.add_argument(
        "--practice",
        metavar="NAME",
        help="read this practice machine instead, into --out as a capture file; `list` names them",
    )
    probe.set_defaults(run=_late("probes", "probe"))


def _disks(commands: Commands) -> None:
    """Disk images: what starts, what can be mended, what lives where."""
    path = commands.add_parser("bootpath", help="trace the boot process on a disk image")
    path.add_argument("image", metavar="IMAGE", help="an image file or a block device; read-only")
    path.add_argument("--mode", choices=("uefi", "bios"), required=True)
    path.add_argument(
        "--capture",
        metavar="FILE.gcap",
        default=None,
        help="a capture with the firmware's boot entries; without it, firmware that knows none",
    )
    _key_file(path)
    _sector_size(path)
    path.set_defaults(run=_late("disks", "bootpath"))
    mend = commands.add_parser("mend", help="list boot repairs for a disk image; writes only with --apply")
    mend.add_argument("image", metavar="IMAGE", help="an image file; without --apply or --revert read-only")
    mend.add_argument(
        "--mode",
        choices=("uefi", "bios"),
        default=None,
        help="firmware mode; not needed with --revert",
    )
    mend.add_argument(
        "--apply",
        metavar="ID",
        default=None,
        help="a plan by its id, or all; resumes if the undo file exists",
    )
    mend.add_argument(
        "--undo", type=Path, metavar="FILE", default=None, help="where the old bytes are saved before the first write"
    )
    mend.add_argument("--revert", type=Path, metavar="FILE", default=None, help="restore every byte in this undo file")
    _sector_size(mend)
    mend.set_defaults(run=_late("disks", "mend"))
    where = commands.add_parser("where", help="name what is at a sector of a disk image")
    where.add_argument("image", metavar="IMAGE", help="an image file or a block device; read-only")
    where.add_argument("lbas", metavar="LBA", nargs="+", type=int, help="sectors, counted from 0")
    _key_file(where)
    _sector_size(where)
    where.set_defaults(run=_late("disks", "where"))


def _volumes(commands: Commands) -> None:
    """Volumes on disk images."""
    for name, words in (
        ("volume", "check a volume on a disk image, read-only; repairs only with --apply"),
        ("rescue", "list or copy the files of a volume; the image is never written"),
    ):
        own = commands.add_parser(name, help=words)
        own.add_argument("image", metavar="IMAGE", help="an image file or a block device")
        _place(own, "the largest volume that can be read")
        _others(own)
        _key_file(own)
        _sector_size(own)
        if name == "volume":
            _repair(own)
        if name == "rescue":
            own.add_argument(
                "--list",
                nargs="?",
                const="",
                default=None,
                metavar="PATH",
                help="list a folder and everything below it; without PATH the whole volume",
            )
            own.add_argument(
                "--to",
                type=Path,
                default=None,
                metavar="DIR",
                help="copy to this folder; resumes an interrupted copy",
            )
            own.add_argument(
                "--only",
                nargs="+",
                action="extend",
                default=None,
                metavar="GLOB",
                help="only files whose path matches one of these",
            )
            own.add_argument(
                "--deleted",
                action="store_true",
                help="recover deleted files, into a separate folder",
            )
        own.set_defaults(run=_late("volumes", name))
    lock = commands.add_parser("unlock", help="open an encrypted volume on a disk image; the image is never written")
    lock.add_argument("image", metavar="IMAGE", help="an image file or a block device; read-only")
    _place(lock, "the image itself, else its largest encrypted volume")
    _key_file(lock)
    lock.add_argument(
        "--to",
        type=Path,
        metavar="OUT",
        default=None,
        help="write what is inside to this file and read it back; resumes if it was interrupted",
    )
    _sector_size(lock)
    lock.set_defaults(run=_late("locked", "unlock"))
    told = commands.add_parser(
        "records", help="read what an installed system says of itself; writes only with --repair --apply"
    )
    told.add_argument("path", metavar="PATH", help="an image, a block device, or a folder with the system's files")
    _place(told, "every volume that can be read")
    _others(told)
    _key_file(told)
    told.add_argument(
        "--capture",
        metavar="FILE.gcap",
        default=None,
        help="a capture of the machine: its controllers are held against the drivers that start",
    )
    _sector_size(told)
    told.add_argument(
        "--as-entry", action="store_true", help="only what the records say to triage, as an entry of a case"
    )
    _repair(told)
    told.set_defaults(run=_late("records", "records"))


def _signals(commands: Commands) -> None:
    """Sound and supply current."""
    for name, words, what in (
        ("listen", "evaluate a recording of a drive", "FILE.wav"),
        ("supply", "evaluate a trace of a drive's supply current", "FILE.csv"),
    ):
        own = commands.add_parser(name, help=words)
        own.add_argument("file", metavar=what)
        own.set_defaults(run=_late("signals", name))


def _stick(commands: Commands) -> None:
    """The bench's own live stick."""
    stick = commands.add_parser("stick", help="build the bench's own live stick, as an image or onto a stick")
    stick.add_argument("out", nargs="?", type=Path, metavar="OUT.img")
    stick.add_argument("--size", type=int, metavar="MIB", help="size of the image; the rest is space for readings")
    stick.add_argument("--to", metavar="/dev/…", help="write it to this stick instead; erases the stick")
    stick.add_argument("--serial", metavar="SERIAL", help="serial number of that stick, as confirmation")
    stick.add_argument(
        "--cache",
        type=Path,
        metavar="DIR",
        help="cache for packages (default: $GATECHECK_STICK, else the user's cache)",
    )
    stick.add_argument(
        "--data",
        type=Path,
        default=DATA,
        metavar="DIR",
        help="the shop's folder: its key identifies the bench to the stick",
    )
    stick.set_defaults(run=_late("stick", "stick"))


def _shop(commands: Commands) -> None:
    """The server, and the shop's own data."""
    kept = (
        ("backup", "back up the shop to one file, while it runs", ("file",)),
        ("restore", "restore a backup, while it runs; the old data is kept", ("file",)),
        ("export", "write one ticket with its files into one file", ("number", "file")),
        ("import", "import a ticket", ("file",)),
    )
    for name, words, names in kept:
        own = commands.add_parser(name, help=words)
        if "number" in names:
            own.add_argument("number", metavar="NUMBER")
        own.add_argument("file", type=Path, metavar="FILE")
        own.add_argument(
            "--data",
            type=Path,
            default=DATA,
            metavar="DIR",
            help="the shop's folder",
        )
        if name == "restore":
            own.add_argument("--over", action="store_true", help="even if the shop has tickets that the backup lacks")
            own.add_argument(
                "--rehearse",
                action="store_true",
                help="change nothing: restore it beside the shop, and compare the two",
            )
        own.set_defaults(run=_late("shop", "keep"))
    back = commands.add_parser("go-back", help="use the copy of the shop from before an update of the program")
    back.add_argument("--data", type=Path, default=DATA, metavar="DIR", help="the shop's folder")
    back.add_argument("--apply", action="store_true", help="do it; without this, say what would be lost")
    back.set_defaults(run=_late("shop", "go_back"))
    people = commands.add_parser("technicians", help="list the shop's technicians and their roles")
    people.add_argument("--data", type=Path, default=DATA, metavar="DIR", help="the shop's folder")
    people.add_argument(
        "--forget",
        action="store_true",
        help="remove all of them, where the only lead's PIN is lost; the server must not run",
    )
    people.set_defaults(run=_late("shop", "technicians"))
    doctor = commands.add_parser("doctor", help="look at what may keep the bench from working, and say what to do")
    doctor.add_argument("--data", type=Path, default=DATA, metavar="DIR", help="the shop's folder")
    doctor.add_argument("--host", default="0.0.0.0")
    doctor.add_argument("--port", type=int, default=8765)
    doctor.add_argument("--backups", type=Path, default=None, metavar="DIR", help="where serve --backups puts them")
    doctor.set_defaults(run=_late("shop", "doctor"))
    for name, words in (
        ("install", "install the bench as a service that starts with the computer"),
        ("status", "say whether the installed service runs; its status is 3 where it does not"),
        ("uninstall", "stop the service and remove it; the data stays"),
    ):
        service = commands.add_parser(name, help=words)
        service.add_argument("--user", action="store_true", help="root too: a service of this user alone")
        service.add_argument("--data", type=Path, default=None, metavar="DIR", help="the shop's folder")
        if name == "install":
            service.add_argument("--host", default="0.0.0.0")
            service.add_argument("--port", type=int, default=8765)
            service.add_argument("--name", action="append", default=[], metavar="HOST", help="an extra host name")
            service.add_argument("--backups", type=Path, default=None, metavar="DIR", help="a backup each night")
        service.set_defaults(run=_late("service", "service"), own_data=DATA)
    for name, words in (("serve", "start the server"), ("demo", "start the server with a made-up repair counter")):
        serve = commands.add_parser(name, help=words)
        serve.add_argument("--host", default="127.0.0.1")
        serve.add_argument("--port", type=int, default=8765)
        serve.add_argument("--data", type=Path, default=None, metavar="DIR", help="folder for tickets and files")
        serve.add_argument(
            "--name",
            action="append",
            default=[],
            metavar="HOST",
            help="an extra host name of the server",
        )
        serve.add_argument(
            "--backups", type=Path, default=None, metavar="DIR", help="a backup each night; keeps 7 days and 4 weeks"
        )
        serve.add_argument("--cert", type=Path, default=None, metavar="FILE", help="the shop's own certificate (PEM)")
        serve.add_argument("--key", type=Path, default=None, metavar="FILE", help="the key of --cert (PEM)")
        serve.add_argument("--http", action="store_true", help="plain HTTP on the network too; nothing is encrypted")
        serve.set_defaults(run=_late("shop", "serve"), demo=name == "demo")
