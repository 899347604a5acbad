"""Builds the stick's image: packages fetched, a small root made of them, packed into memory's first file system, and
all of it laid out on one image.

Nothing of this needs root, a loop device or a mount: packages are unpacked, not installed; the FAT volume is filled by
`mtools`. The same packages give the same bytes."""

from __future__ import annotations

import hashlib
import os
import re
import shutil
import subprocess
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from importlib import resources
from pathlib import Path

from gatecheck.adapters import compile_cache
from gatecheck.adapters.probe_script import PACKAGE, probe_files
from gatecheck.core.errors import InputError
from gatecheck.stick.modules import copy_modules
from gatecheck.stick.packages import KERNEL, LIVE, STARTING

TOOLS = {
    "apt-get": "apt",
    "dpkg-deb": "dpkg",
    "cpio": "cpio",
    "zstd": "zstd",
    "mkfs.fat": "dosfstools",
    "mcopy": "mtools",
    "syslinux": "syslinux",
    "depmod": "kmod",
}
"""what the building computer needs, and the Debian package that has it"""
MOMENT = 1_767_225_600
"""of every file on the stick: the same packages give the same image"""
Say = Callable[[str], None]


class NotBuildableError(InputError):
    """The stick cannot be built here; says why, and what would help."""


@dataclass(frozen=True, slots=True)
class Parts:
    """What the image is made of. `files`: path on the FAT volume -> file; `boot_code`: the first 440 bytes that legacy
    firmware runs."""

    files: dict[str, Path]
    boot_code: bytes


def cache_folder() -> Path:
    """$GATECHECK_STICK, else a folder of the user's cache."""
    return Path(os.environ.get("GATECHECK_STICK") or compile_cache.cache_folder() / "stick")


def expect_tools() -> None:
    """Raises NotBuildableError where this computer lacks what building needs."""
    if not Path("/etc/debian_version").exists():
        raise NotBuildableError(
            "stick: expected a computer with Debian, whose packages the stick is made of, got another system"
        )
    lacking = sorted({package for tool, package in TOOLS.items() if shutil.which(tool, path=_PATH) is None})
    if lacking:
        raise NotBuildableError(
            f"stick: expected the tools of {', '.join(lacking)}, got none; install them (apt-get install "
            f"{' '.join(lacking)}), or run `make stick`, which does"
        )


_PATH = os.environ.get("PATH", "") + ":/usr/sbin:/sbin"


def run(*command: str, cwd: Path | None = None, data: bytes | None = None, more: dict[str, str] | None = None) -> bytes:
    """Raises NotBuildableError with what the command said."""
    try:
        done = subprocess.run(
            command,
            cwd=cwd,
            input=data,
            check=True,
            capture_output=True,
            env={
                **os.environ,
                "PATH": _PATH,
                "SOURCE_DATE_EPOCH": str(MOMENT),
                "LC_ALL": "C",
                "TZ": "UTC",
                **(more or {}),
            },
        )
    except OSError as error:
        raise NotBuildableError(f"stick: {command[0]}: expected it to run, got {error.strerror}") from error
    except subprocess.CalledProcessError as error:
        said = (error.stderr or error.stdout or b"").decode("utf-8", "replace").strip().splitlines()
        raise NotBuildableError(
            f"stick: {command[0]}: {said[-1] if said else f'ended with {error.returncode}'}"
        ) from error
    return done.stdout


def kernel_package() -> str:
    """The package of the newest signed kernel, as Debian's lists name it."""
    found = re.search(rb"Depends: (linux-image-\S+)", run("apt-cache", "depends", KERNEL))
    if found is None:
        raise NotBuildableError(
            f"stick: expected Debian's package lists to name a kernel for {KERNEL}, got none; run apt-get update"
        )
    return found[1].decode()


def parts(cache: Path, say: Say) -> Parts:
    """Fetch, unpack, pack; what was made by the same packages and the same program before is taken as it is. Raises
    NotBuildableError."""
    expect_tools()
    cache.mkdir(parents=True, exist_ok=True)
    wanted = [kernel_package(), *LIVE, *STARTING]
    files = _fetched(cache / "packages", wanted, say)
    mark = hashlib.sha256("\n".join([*(f.name for f in files), _own_sum()]).encode()).hexdigest()[:16]
    built = cache / mark
    if not (built / "done").exists():
        for old in cache.iterdir():
            if old.is_dir() and old.name != "packages":
                shutil.rmtree(old, ignore_errors=True)
        built.mkdir(parents=True)
        _make(built, files, say)
        (built / "done").touch()
    names = ("vmlinuz", "initrd", "shimx64.efi", "grubx64.efi", "mmx64.efi", "grub.cfg", "syslinux.cfg", "READ ME.txt")
    where = (
        "live/vmlinuz",
        "live/initrd",
        "EFI/BOOT/BOOTX64.EFI",
        "EFI/BOOT/grubx64.efi",
        "EFI/BOOT/mmx64.efi",
        "EFI/debian/grub.cfg",
        "syslinux.cfg",
        "READ ME.txt",
    )
    return Parts(
        {place: built / name for place, name in zip(where, names, strict=True)}, (built / "gptmbr.bin").read_bytes()
    )


def with_bench(made: Parts, key: str, folder: Path) -> Parts:
    """The same stick, pinned to a bench: its key (64 hex digits) goes behind the initial RAM disk as an archive of one
    file, which the kernel unpacks over the first (Documentation/driver-api/early-userspace/buffer-format). `folder`:
    where that RAM disk is put."""
    own, place = made.files["live/initrd"], folder / "initrd"
    data = own.read_bytes()
    place.write_bytes(data + bytes(-len(data) % 4) + _archive("gatecheck/bench-key", key.encode()))
    return Parts({**made.files, "live/initrd": place}, made.boot_code)


def _archive(name: str, data: bytes) -> bytes:
    """One file as a cpio archive of the form `newc`."""

    def entry(path: str, mode: int, body: bytes) -> bytes:
        raw = path.encode() + b"\0"
        fields = (1, mode, 0, 0, 1, MOMENT, len(body), 0, 0, 0, 0, len(raw), 0)
        head = b"070701" + b"".join(b"%08X" % field for field in fields) + raw
        return head + bytes(-len(head) % 4) + body + bytes(-len(body) % 4)

    return entry(name, 0o100644, data) + entry("TRAILER!!!", 0, b"")


def _own_sum() -> str:
    """Of all that is ours and ends up on the stick."""
    live = resources.files("gatecheck.stick") / "live"
    own = [
        *(text for _, text in sorted(probe_files().items())),
        *(
            entry.read_text("utf-8")
            for entry in sorted(live.iterdir(), key=lambda e: e.name)
            if entry.is_file() and not entry.name.endswith(".pyc")
        ),
    ]
    own += [
        (resources.files("gatecheck.stick") / name).read_text("utf-8")
        for name in ("build.py", "modules.py", "packages.py")
    ]
    return hashlib.sha256("\0".join(own).encode()).hexdigest()


def _fetched(folder: Path, wanted: Sequence[str], say: Say) -> list[Path]:
    """Each package's file, in the version that Debian's lists name now; fetched where it is not there yet."""
    folder.mkdir(parents=True, exist_ok=True)
    empty = folder / "asked-from-here"  # apt does not name what lies in the folder that it is asked from
    empty.mkdir(exist_ok=True)
    listed = run("apt-get", "download", "--print-uris", "-qq", *wanted, cwd=empty).decode()
    names = re.findall(r"^'[^']*' (\S+\.deb)", listed, re.M)
    if len(names) < len(wanted):
        raise NotBuildableError(
            f"stick: expected {len(wanted)} packages of Debian's, got {len(names)}; run apt-get update"
        )
    missing = [
        package
        for package in wanted
        if not any(name.startswith(f"{package}_") and (folder / name).exists() for name in names)
    ]
    if missing:
        say(f"Fetching {len(missing)} packages from Debian")
        for old in folder.glob("*.deb"):
            if old.name not in names:
                old.unlink()
        coming = folder / "coming"  # what is cut off on its way must not be taken for a package
        shutil.rmtree(coming, ignore_errors=True)
        coming.mkdir()
        run("apt-get", "download", "-qq", *missing, cwd=coming)
        for came in coming.glob("*.deb"):
            came.rename(folder / came.name)
    return sorted(folder / name for name in names)


def _make(built: Path, files: Sequence[Path], say: Say) -> None:
    root, boot = built / "root", built / "boot"
    say("Unpacking")
    live = {f"{name}_" for name in LIVE}
    for file in files:
        run("dpkg-deb", "-x", str(file), str(root if any(file.name.startswith(name) for name in live) else boot))
    version = next((boot / "lib/modules").iterdir()).name
    _trim(root)
    say("Choosing modules")
    copy_modules(boot / "lib/modules" / version, root / "lib/modules" / version, run)
    own = resources.files("gatecheck.stick") / "live"
    (root / "gatecheck").mkdir()
    (root / "gatecheck" / PACKAGE).mkdir()
    for name, text in probe_files().items():
        (root / "gatecheck" / PACKAGE / name).write_text(text, "utf-8")
    for entry in own.iterdir():
        if entry.name.endswith((".py", ".sh")):
            (root / "gatecheck" / entry.name).write_text(entry.read_text("utf-8"), "utf-8")
            (root / "gatecheck" / entry.name).chmod(0o755)
    (root / "init").write_text((own / "init").read_text("utf-8"), "utf-8")
    (root / "init").chmod(0o755)
    for name in ("proc", "sys", "dev", "run", "tmp", "stick", "etc"):
        (root / name).mkdir(exist_ok=True)
    say("Packing")
    _packed(root, built / "initrd")
    shutil.copy(boot / f"boot/vmlinuz-{version}", built / "vmlinuz")
    for name, place in (
        ("shimx64.efi", "usr/lib/shim/shimx64.efi.signed"),
        ("mmx64.efi", "usr/lib/shim/mmx64.efi.signed"),
        ("grubx64.efi", "usr/lib/grub/x86_64-efi-signed/grubx64.efi.signed"),
        ("gptmbr.bin", "usr/lib/syslinux/mbr/gptmbr.bin"),
    ):
        shutil.copy(boot / place, built / name)
    for name in ("grub.cfg", "syslinux.cfg", "READ ME.txt"):
        (built / name).write_text((own / name).read_text("utf-8"), "utf-8")
    shutil.rmtree(root)
    shutil.rmtree(boot)


_WASTE = (
    "usr/share/doc",
    "usr/share/man",
    "usr/share/locale",
    "usr/share/lintian",
    "usr/share/python3",
    "usr/share/bash-completion",
    "usr/share/info",
    "usr/share/zsh",
    "usr/share/applications",
    "usr/share/pixmaps",
    "usr/lib/python3.11/test",
    "usr/lib/python3.11/idlelib",
    "usr/lib/python3.11/tkinter",
    "usr/lib/python3.11/lib2to3",
    "usr/lib/python3.11/turtledemo",
    "usr/lib/python3.11/ensurepip",
    "usr/lib/python3.11/distutils",
    "usr/lib/python3.11/pydoc_data",
    "usr/lib/python3.11/unittest",
    "usr/lib/python3.11/asyncio",
    "usr/lib/x86_64-linux-gnu/gconv",
    "etc",
    "var",
    "lib/systemd",
    "usr/lib/systemd",
    "usr/lib/udev",
    "lib/udev",
    "usr/share/initramfs-tools",
    "usr/share/perl5",
)
_FONT = "FullGreek-TerminusBold32x16.psf.gz"


def _trim(root: Path) -> None:
    for name in _WASTE:
        shutil.rmtree(root / name, ignore_errors=True)
    for font in (root / "usr/share/consolefonts").glob("*"):
        if font.name != _FONT:
            font.unlink()


def _packed(root: Path, target: Path) -> None:
    """The root as a cpio archive that does not tell when, by whom, or in which order it was made."""
    names = sorted(str(p.relative_to(root)) for p in root.rglob("*"))
    for name in names:
        os.utime(root / name, (MOMENT, MOMENT), follow_symlinks=False)
    archive = run(
        "cpio",
        "--quiet",
        "--reproducible",
        "-o",
        "-H",
        "newc",
        "-R",
        "0:0",
        cwd=root,
        data="".join(f"{name}\n" for name in names).encode(),
    )
    target.write_bytes(run("zstd", "-q", "-12", "-T2", "-c", data=archive))
