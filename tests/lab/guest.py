"""Builds the guest of the lab (a real kernel, a small root with Python) and starts it in the emulator.

Everything comes from Debian's packages. The guest is built once into a cache folder ($GATECHECK_LAB, else .lab in the
checkout) and used by every test; it takes its orders from the kernel's command line.
"""

from __future__ import annotations

import fcntl
import hashlib
import json
import os
import re
import shutil
import socket
import subprocess
import time
from dataclasses import dataclass, field
from pathlib import Path

CACHE = Path(os.environ.get("GATECHECK_LAB", Path(__file__).parents[2] / ".lab"))
MODULES = (
    "ahci",
    "libahci",
    "libata",
    "sd_mod",
    "sg",
    "scsi_mod",
    "nvme",
    "nvme-core",
    "efivarfs",
    "virtio_pci",
    "virtio_net",
    "usb-storage",
    "xhci-pci",
    "uas",
    "virtio_scsi",
    "virtio_blk",
    "megaraid_sas",
    "mptsas",
    "sym53c8xx",
    "vmw_pvscsi",
    "sdhci-pci",
    "mmc_block",
    "sr_mod",
    "floppy",
    "ata_piix",
)
JOB_MODULES = (
    "crc32c_generic",
    "virtio_blk",
    "raid0",
    "raid1",
    "raid10",
    "raid456",
    "linear",
    "dm-mod",
    "dm-mirror",
    "dm-raid",
    "ext4",
)
"""for jobs: a guest that makes what a test judges, loaded by the job itself"""
JOB_TOOLS = ("mdadm", "lvm")
NEEDED = ("qemu-system-x86_64", "debootstrap", "busybox", "cpio", "zstd", "dpkg-deb", "apt-get", "depmod")
OVMF = Path("/usr/share/OVMF")
INIT = """#!/bin/sh
export PATH=/bin:/sbin:/usr/bin:/usr/sbin
B=/bin/busybox
$B mount -t proc proc /proc; $B mount -t sysfs sys /sys; $B mount -t devtmpfs dev /dev; $B mount -t tmpfs tmp /tmp
for m in {modules}; do modprobe -q $m; done
[ -d /sys/firmware/efi ] && $B mount -t efivarfs efivarfs /sys/firmware/efi/efivars
J=$($B sed -n 's/.*job=\\([^ ]*\\).*/\\1/p' /proc/cmdline)
if [ -n "$J" ]; then
modprobe virtio_blk; $B sleep 1; $B tr -d '\\000' < $J > /job; $B sh /job; $B sync; $B poweroff -f; fi
for i in $($B ls /sys/class/net); do [ $i = lo ] || N=$i; done
$B ip link set lo up; $B ip link set $N up; $B ip addr add 10.0.2.15/24 dev $N; $B ip route add default via 10.0.2.2
$B sleep 2
U=$($B sed 's/.*gatecheck=\\([^ ]*\\).*/\\1/' /proc/cmdline)
echo "guest: started by $U"
$B wget -O- $U | sh -s -- --wait 20
echo "guest: probe ended with $?"
$B sync; $B poweroff -f
"""


class LabMissing(Exception):
    """The lab cannot be built here; says why."""


@dataclass(frozen=True)
class Guest:
    kernel: Path
    initrd: Path


def guest() -> Guest:
    """The guest, built where it is not there yet. Raises LabMissing."""
    missing = [name for name in NEEDED if shutil.which(name) is None]
    if missing or not OVMF.is_dir():
        raise LabMissing(f"{', '.join(missing) or OVMF}: not installed; `make lab` installs Debian's packages for it")
    if os.geteuid() != 0:
        raise LabMissing("building the guest's root needs root")
    what = hashlib.sha256((INIT + " ".join((*MODULES, *JOB_MODULES, *JOB_TOOLS))).encode()).hexdigest()[:8]
    built = Guest(CACHE / f"vmlinuz-{what}", CACHE / f"initrd-{what}.zst")
    CACHE.mkdir(parents=True, exist_ok=True)
    with (CACHE / "lock").open("w") as lock:  # several workers want it, one builds it
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not built.initrd.exists():
            for old in (*CACHE.glob("vmlinuz*"), *CACHE.glob("initrd*")):
                old.unlink()
            try:
                _build(built)
            except subprocess.CalledProcessError as error:
                raise LabMissing(f"{error.cmd[0]}: {str(error.stderr or error.stdout or '')[-300:]}") from error
    return built


def _run(*command: str, **more: object) -> str:
    done = subprocess.run(command, check=True, capture_output=True, text=True, **more)  # type: ignore[call-overload]
    return str(done.stdout)


def _build(built: Guest) -> None:
    kernel, root = CACHE / "kernel", CACHE / "root"
    for folder in (kernel, root):
        shutil.rmtree(folder, ignore_errors=True)
    kernel.mkdir()
    found = re.search(r"Depends: (linux-image-\S+)", _run("apt-cache", "depends", "linux-image-amd64"))
    if found is None:
        raise LabMissing("linux-image-amd64: Debian's package lists name no kernel; run apt-get update")
    _run("apt-get", "download", "-qq", found[1], cwd=kernel)
    _run("dpkg-deb", "-x", str(next(kernel.glob("*.deb"))), str(kernel))
    version = next((kernel / "lib/modules").iterdir()).name
    _run("debootstrap", "--variant=minbase", "--include=python3-minimal,libpython3-stdlib,kmod", "bookworm", str(root))
    _copy_modules(kernel / "lib/modules" / version, root / "lib/modules" / version)
    _run("depmod", "-b", str(root), version)
    for waste in (
        "var/cache",
        "var/lib/apt",
        "usr/share/doc",
        "usr/share/locale",
        "usr/share/man",
        "usr/share/zoneinfo",
        "usr/share/perl",
        "usr/lib/x86_64-linux-gnu/perl-base",
    ):
        shutil.rmtree(root / waste, ignore_errors=True)
    shutil.copy(shutil.which("busybox") or "", root / "bin/busybox")
    for tool in filter(None, map(shutil.which, JOB_TOOLS)):
        _copy_tool(Path(tool), root)
    (root / "init").write_text(INIT.format(modules=" ".join(MODULES)))
    (root / "init").chmod(0o755)
    unfinished = built.initrd.with_suffix(".part")
    subprocess.run(
        f"find . -xdev | cpio --quiet -o -H newc | zstd -q -3 -T0 -f -o {unfinished}",
        shell=True,
        check=True,
        cwd=root,
        capture_output=True,
    )
    shutil.copy(kernel / "boot" / f"vmlinuz-{version}", built.kernel)
    unfinished.rename(built.initrd)
    shutil.rmtree(kernel)
    shutil.rmtree(root)


def _copy_tool(tool: Path, root: Path) -> None:
    """A program of this machine and the libraries it needs, where the root has none of that name."""
    shutil.copy(tool.resolve(), root / "sbin" / tool.name)
    for place in re.findall(r"(/\S+\.so\S*)", _run("ldd", str(tool))):
        target = root / "lib/x86_64-linux-gnu" / Path(place).name
        if not target.exists():
            shutil.copy(Path(place).resolve(), target)


def _copy_modules(source: Path, target: Path) -> None:
    """The modules a guest needs and what they depend on."""
    target.mkdir(parents=True)
    for name in ("modules.order", "modules.builtin", "modules.builtin.modinfo"):
        shutil.copy(source / name, target / name)
    _run("depmod", "-b", str(source.parents[2]), source.name)
    depends = dict(line.split(":", 1) for line in (source / "modules.dep").read_text().splitlines())
    by_name = {Path(path).name.split(".")[0].replace("_", "-"): path for path in depends}
    for name in (*MODULES, *JOB_MODULES):
        path = by_name.get(name.replace("_", "-"))
        for needed in [path, *depends.get(path or "", "").split()] if path else []:
            place = target / str(needed)
            place.parent.mkdir(parents=True, exist_ok=True)
            shutil.copy(source / str(needed), place)


@dataclass
class Emulator:
    """One emulated machine. `drives`: the emulator's own options for them."""

    folder: Path
    uefi: bool
    options: list[str] = field(default_factory=list)
    process: subprocess.Popen[bytes] | None = None

    @property
    def console(self) -> Path:
        return self.folder / "console.txt"

    def variables(self) -> Path:
        """The firmware's variables: its own entries, made by letting it start once without a system."""
        place = self.folder / "vars.fd"
        if not place.exists():
            shutil.copy(OVMF / "OVMF_VARS_4M.fd", place)
            self.start(None, "")
            end = time.monotonic() + 600
            while time.monotonic() < end and not re.search(
                r"BdsDxe|Shell>|failed to load",
                self.console.read_text("utf-8", "replace") if self.console.exists() else "",
            ):
                time.sleep(0.5)
            time.sleep(8)
            self.stop()
        return place

    def start(self, system: Guest | None, command_line: str) -> None:
        command = [
            "qemu-system-x86_64",
            "-accel",
            "tcg,thread=multi",
            "-machine",
            "q35",
            "-cpu",
            "max",
            "-smp",
            "2",
            "-m",
            "1500",
            "-display",
            "none",
            "-no-reboot",
        ]
        command += [
            "-serial",
            f"file:{self.console}",
            "-monitor",
            "none",
            "-qmp",
            f"unix:{self.folder / 'qmp'},server=on,wait=off",
            "-nic",
            "user,model=virtio-net-pci",
            *self.options,
        ]
        if self.uefi:
            command += ["-drive", f"if=pflash,format=raw,unit=0,readonly=on,file={OVMF / 'OVMF_CODE_4M.fd'}"]
            command += ["-drive", f"if=pflash,format=raw,unit=1,file={self.folder / 'vars.fd'}"]
        if system:
            command += [
                "-kernel",
                str(system.kernel),
                "-initrd",
                str(system.initrd),
                "-append",
                f"console=ttyS0 quiet {command_line}",
            ]
        self.process = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)

    def tell(self, command: str, **arguments: object) -> object:
        """A command to the emulator itself (its monitor protocol): what it returns. Raises RuntimeError where it
        refuses."""
        with socket.socket(socket.AF_UNIX) as monitor:
            monitor.connect(str(self.folder / "qmp"))
            with monitor.makefile("rw", encoding="utf-8") as lines:
                json.loads(lines.readline())
                answer: dict[str, object] = {}
                for name, own in (("qmp_capabilities", {}), (command, arguments)):
                    lines.write(json.dumps({"execute": name, "arguments": own}) + "\n")
                    lines.flush()
                    answer = json.loads(lines.readline())
                    while "event" in answer:
                        answer = json.loads(lines.readline())
        if "error" in answer:
            raise RuntimeError(f"{command}: {answer['error']}")
        return answer["return"]

    def stop(self) -> None:
        if self.process:
            self.process.kill()
            self.process.wait()
