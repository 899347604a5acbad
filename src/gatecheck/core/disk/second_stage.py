"""What a boot loader that is known does next: which files it looks for, on which volumes, and whether they are there
and what they should be.

GRUB 2 (its image's modules, prefix and script), the loader of systemd, Windows' own, the first stage that only starts
another beside it, and the SYSLINUX family. A loader that is not known is believed to do its work."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field

from gatecheck.core.disk.division import Division, Piece, division_of
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.disk.walk import Stop, Walk
from gatecheck.core.errors import DecodeError
from gatecheck.core.volume.readers import open_volume
from gatecheck.core.volume.tree import Filesystem, Node, whole_content

_MOST_CONFIG, _LARGEST_KERNEL = 1 << 20, 512 << 20
_KERNEL_HEAD = 0x300
_UNIFIED, _PROGRAM_HEAD = b".osrel\0", 4096
"""a program of Linux, kernel and all, that the loader of systemd lists (UAPI, "Unified Kernel Image")"""


@dataclass(slots=True)
class OpenVolumes:
    """The disk's volumes, opened when asked for. None for one that has no reader, or cannot be read."""

    disk: Sectors
    division: Division = field(init=False)
    _opened: dict[int, Filesystem | None] = field(default_factory=dict)

    def __post_init__(self) -> None:
        self.division = division_of(self.disk)

    @property
    def pieces(self) -> Sequence[Piece]:
        found = [p for p in self.division.pieces if not p.is_extended]
        return found or [Piece(0, 0, (self.disk.length or 1) - 1, "")]

    def opened(self, number: int) -> Filesystem | None:
        if number not in self._opened:
            piece = next((p for p in self.pieces if p.number == number), None)
            try:
                self._opened[number] = (
                    open_volume(self.disk, piece.first, piece.last)
                    if piece and piece.first < (self.disk.length or 0)
                    else None
                )
            except DecodeError:
                self._opened[number] = None
        return self._opened[number]

    def all(self) -> Iterator[tuple[int, Filesystem]]:
        for piece in self.pieces:
            volume = self.opened(piece.number)
            if volume is not None:
                yield piece.number, volume

    def number_at(self, first: int) -> int:
        return next((p.number for p in self.pieces if p.first == first), 0)

    def find(self, number: int, path: str) -> tuple[Filesystem, Node] | None:
        """A file on that volume; None where the volume cannot be read, or has none of that name."""
        volume = self.opened(number)
        node = volume.find(path) if volume is not None else None
        return (volume, node) if volume is not None and node is not None and not node.is_folder else None

    def text(self, number: int, path: str) -> str | None:
        """Raises DecodeError where it is there and cannot be read."""
        found = self.find(number, path)
        return whole_content(*found, _MOST_CONFIG).decode("utf-8", "replace") if found else None


Start = Callable[[int, str], Stop | None]
"""start a program: (number of the volume, path) -> where that stops"""


def kernel_stop(volumes: OpenVolumes, number: int, path: str) -> Stop | None:
    """Is it there, a Linux kernel by its header (Documentation/arch/x86/boot.rst), and not cut off."""
    where = f"partition {number}: {path}"
    found = volumes.find(number, path)
    if found is None:
        return Stop("system", "named-file-missing", where)
    volume, node = found
    head = b""
    for piece in volume.content(node):
        if not isinstance(piece, bytes):
            return Stop("system", "kernel-unread", where)
        head += piece
        if len(head) >= _KERNEL_HEAD:
            break
    setup = head[0x1F1] or 4 if len(head) > 0x260 else 0
    if head[0x202:0x206] == b"HdrS":
        need = (setup + 1) * 512 + int.from_bytes(head[0x1F4:0x1F8], "little") * 16
        return Stop("system", "kernel-cut-short", where) if node.size < need else None
    if (head[:2] == b"MZ" and head[56:60] in (b"ARM\x64", b"ARMd", b"RSC\x05")) or head[:4] == b"\x7fELF":
        return None
    return Stop("system", "kernel-none", where)


def file_stop(volumes: OpenVolumes, number: int, path: str) -> Stop | None:
    """A file that has only to be there and readable."""
    found = volumes.find(number, path)
    if found is None:
        return Stop("system", "named-file-missing", f"partition {number}: {path}")
    if found[1].size > _LARGEST_KERNEL:
        return None
    bad = next((p for p in found[0].content(found[1]) if not isinstance(p, bytes)), None)
    return Stop("system", "kernel-unread", f"partition {number}: {path}") if bad else None


def systemd_stop(volumes: OpenVolumes, number: int, walk: Walk, start: Start) -> Stop | None:
    """loader/loader.conf and loader/entries/*.conf (UAPI boot loader specification); programs in EFI/Linux; Windows'
    own where nothing else is there."""
    volume = volumes.opened(number)
    if volume is None:
        return None
    entries = sorted(
        (
            n
            for n in volume.nodes()
            if n.path.lower().startswith("loader/entries/") and n.path.lower().endswith(".conf")
        ),
        key=lambda n: n.path,
        reverse=True,
    )
    settings = _pairs(volumes.text(number, "loader/loader.conf") or "")
    wanted = settings.get("default", "").removesuffix(".conf").rstrip("*").lower()
    entries.sort(key=lambda n: bool(wanted) and n.path.rpartition("/")[2].lower().startswith(wanted), reverse=True)
    for entry in entries[:1]:
        walk.step("tries", where=f"partition {number}", file=entry.path)
        own = _pairs(whole_content(volume, entry, _MOST_CONFIG).decode("utf-8", "replace"))
        if "efi" in own:
            return start(number, own["efi"].strip("/"))
        if "linux" in own:
            stop = kernel_stop(volumes, number, own["linux"])
            return stop or next(
                (s for part in own.get("initrd", "").split() if (s := file_stop(volumes, number, part))), None
            )
    for node in sorted(
        (n for n in volume.nodes() if n.path.lower().startswith("efi/linux/") and n.path.lower().endswith(".efi")),
        key=lambda n: n.path,
        reverse=True,
    ):
        if _UNIFIED in next((p for p in volume.content(node) if isinstance(p, bytes)), b"")[:_PROGRAM_HEAD]:
            return start(number, node.path)
    if volume.find("EFI/Microsoft/Boot/bootmgfw.efi"):
        return start(number, "EFI/Microsoft/Boot/bootmgfw.efi")
    return Stop("loader", "configuration-missing", f"partition {number}: loader/entries")


def _pairs(text: str) -> dict[str, str]:
    found: dict[str, str] = {}
    for line in text.splitlines():
        name, _, value = line.strip().partition(" ")
        if name and not name.startswith("#"):
            found[name.lower()] = (
                f"{found[name.lower()]} {value.strip()}"
                if name.lower() == "initrd" and "initrd" in found
                else value.strip()
            )
    return found


def csv_stop(volumes: OpenVolumes, number: int, machine: str, start: Start) -> Stop | None:
    """The program that makes boot entries anew: the first that a list in a folder of EFI names is started (shim,
    README.fallback)."""
    volume = volumes.opened(number)
    if volume is None:
        return None
    names = (f"boot{machine}.csv", "boot.csv")
    for node in volume.nodes():
        parts = node.path.lower().split("/")
        if len(parts) != 3 or parts[0] != "efi" or parts[1] == "boot" or parts[2] not in names or node.is_folder:
            continue
        raw = whole_content(volume, node, _MOST_CONFIG)
        text = raw.decode("utf-16" if raw[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-16-le", "replace")
        file = text.split("\n")[0].split(",")[0].strip().strip("\\/")
        return start(number, f"{node.path.rpartition('/')[0]}/{file}")
    return Stop("loader", "configuration-missing", f"partition {number}: EFI/*/BOOT{machine.upper()}.CSV")


def windows_stop(volumes: OpenVolumes, number: int, walk: Walk, *, store: str, loader: str) -> Stop | None:
    """Windows' boot manager: its store beside it, and an installation that the store can lead to."""
    walk.step("tries", where=f"partition {number}", file=store)
    found = volumes.find(number, store)
    if found is None:
        return Stop("loader", "store-missing", f"partition {number}: {store}")
    head = next((p for p in found[0].content(found[1])), b"")
    if not isinstance(head, bytes) or head[:4] != b"regf":
        return Stop("loader", "store-broken", f"partition {number}: {store}")
    readable = False
    for own, volume in volumes.all():
        if volume.kind != "NTFS":
            continue
        readable = True
        if volume.find(f"Windows/System32/{loader}"):
            walk.step("tries", where=f"partition {own}", file=f"Windows/System32/{loader}")
            return None
    return Stop("system", "installation-missing", f"Windows/System32/{loader}") if readable else None


_LABEL, _DEFAULT = "label", ("default", "ontimeout")


def syslinux_stop(volumes: OpenVolumes, number: int, walk: Walk, names: Sequence[str]) -> Stop | None:
    """The default label of the first configuration there is, and the files that it names (SYSLINUX wiki, "Config")."""
    for name in names:
        text = volumes.text(number, name)
        if text is not None:
            break
    else:
        return Stop("loader", "configuration-missing", f"partition {number}: {names[0]}")
    walk.step("tries", where=f"partition {number}", file=name)
    folder = name.rpartition("/")[0]
    default, labels, now = "", dict[str, dict[str, str]](), dict[str, str]()
    shared: dict[str, str] = now
    for line in text.splitlines():
        word, _, value = line.strip().partition(" ")
        word, value = word.lower(), value.strip()
        if word == _LABEL:
            now = labels.setdefault(value.lower(), {})
        elif word in _DEFAULT and now is shared:
            default = default or value
        elif word == "menu" and value.lower() == "default":
            default = next((k for k, v in labels.items() if v is now), default)
        elif word:
            now.setdefault(word, value)
    own = labels.get(default.split()[0].lower() if default else "")
    if own is None and labels and not default:
        own = next(iter(labels.values()))
    if own is None:
        command = default.split()
        own = {"kernel": command[0]} if command else {}
    for word in ("kernel", "linux", "boot", "bss", "com32", "fdimage"):
        if word in own:
            path = own[word].split()[0] if own[word] else ""
            stop = _named(volumes, number, folder, path, word)
            if stop is not None:
                return stop
            break
    initrd = own.get("initrd", "") or next(
        (p.removeprefix("initrd=") for p in own.get("append", "").split() if p.startswith("initrd=")), ""
    )
    for part in filter(None, initrd.split(",")):
        stop = _named(volumes, number, folder, part, "initrd")
        if stop is not None:
            return stop
    return None


def _named(volumes: OpenVolumes, number: int, folder: str, path: str, word: str) -> Stop | None:
    full = path.strip("/") if path.startswith("/") or not folder else f"{folder}/{path}"
    candidates = [full, path.strip("/")]
    if word == "kernel":
        candidates += [f"{full}{ending}" for ending in (".com", ".cbt", ".c32", ".bss", ".bin", ".bs", ".0")]
    found = next((c for c in candidates if volumes.find(number, c)), None)
    if found is None:
        return Stop(
            "system" if word in ("kernel", "linux", "initrd") else "loader",
            "named-file-missing",
            f"partition {number}: {path}",
        )
    if word == "linux" or (
        word == "kernel" and not found.lower().endswith((".com", ".cbt", ".c32", ".bss", ".bin", ".bs", ".0", ".img"))
    ):
        return kernel_stop(volumes, number, found)
    return file_stop(volumes, number, found)
