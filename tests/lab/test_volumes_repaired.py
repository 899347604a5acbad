"""Volumes that Debian's tools made and filled, hurt in one place: found damaged there, repaired, and judged by the
system's own checkers and drivers."""

from __future__ import annotations

import hashlib
import json
import os
import random
import shutil
import subprocess
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from pathlib import Path

import pytest

from gatecheck.adapters.disk_image import ImageSectors
from gatecheck.cli.main import main
from gatecheck.core.disk.overlay import Overlay
from gatecheck.core.volume.check import check
from gatecheck.core.volume.exfat.read import ExFat
from gatecheck.core.volume.fat.read import Fat
from gatecheck.core.volume.ntfs import record as rec
from gatecheck.core.volume.ntfs.read import Ntfs

pytestmark = pytest.mark.lab_all
MIB = 1 << 20
Writes = Sequence[tuple[int, bytes]]


def need(*tools: str) -> None:
    missing = [tool for tool in tools if shutil.which(tool) is None]
    if missing:
        pytest.skip(f"{', '.join(missing)}: not installed")


def run(*command: str) -> None:
    subprocess.run(command, check=True, capture_output=True)


@contextmanager
def mounted(image: Path, kind: str, *options: str) -> Iterator[Path]:
    """The volume in the tree of this machine, by the driver of its kind; skips where that cannot be done here."""
    place = image.with_suffix(".mnt")
    place.mkdir(exist_ok=True)
    done = subprocess.run(
        ["ntfs-3g", str(image), str(place), *options]
        if kind == "ntfs"
        else ["mount", "-o", "loop", str(image), str(place)],
        capture_output=True,
        text=True,
    )
    if done.returncode:
        pytest.skip(f"{kind} cannot be mounted here: {done.stderr.strip()[:100]}")
    try:
        yield place
    finally:
        run("umount", str(place))


def sums(tree: Path) -> dict[str, str]:
    return {
        p.relative_to(tree).as_posix(): hashlib.sha256(p.read_bytes()).hexdigest()
        for p in tree.rglob("*")
        if p.is_file() and not p.is_symlink()
    }


def fill(tree: Path, seed: int) -> None:
    rng = random.Random(seed)
    for folder in ("Users/Choir/Documents", "Users/Choir/Pictures of a journey", "deep/er/est", "many"):
        (tree / folder).mkdir(parents=True)
    folders = [p for p in tree.rglob("*") if p.is_dir()]
    for number in range(600):
        (rng.choice(folders) / f"file {number} of the choir.dat").write_bytes(
            rng.randbytes(rng.choice([0, 10, 600, 5000, 40_000]))
        )
    for number in range(1200):
        (tree / "many" / f"{number:05d} a long name so that the folder grows").write_bytes(b"x" * (number % 900))
    for file in sorted((tree / "many").iterdir())[::5]:
        file.unlink()
    with (tree / "one").open("ab") as one, (tree / "two").open("ab") as two:
        for _ in range(200):
            for file in (one, two):
                file.write(rng.randbytes(8192))
                file.flush()
                os.fsync(file.fileno())


@pytest.fixture(scope="module")
def ntfs(tmp_path_factory: pytest.TempPathFactory) -> Path:
    need("mkfs.ntfs", "ntfs-3g")
    image = tmp_path_factory.mktemp("ntfs") / "volume.img"
    with image.open("wb") as file:
        file.truncate(160 * MIB)
    run("mkfs.ntfs", "-F", "-q", "-L", "GULLHAVEN", str(image))
    with mounted(image, "ntfs", "-o", "compression") as tree:
        fill(tree, 3)
        (tree / "packed").mkdir()
        os.setxattr(tree / "packed", "system.ntfs_attrib_be", b"\0\0\x08\0")
        (tree / "packed" / "text.txt").write_bytes(b"the gull flies over the harbour. " * 20_000)
        (tree / "packed" / "mixed.bin").write_bytes(os.urandom(70_000) + bytes(200_000) + b"abc" * 50_000)
        os.link(tree / "one", tree / "one again")
    return image


def _disk(image: Path) -> tuple[ImageSectors, int]:
    disk = ImageSectors(str(image))
    return disk, (disk.length or 0) - 1


def test_ntfs_is_read_whole_and_found_healthy(ntfs: Path) -> None:
    with mounted(ntfs, "ntfs") as tree:
        wanted = sums(tree)
    disk, last = _disk(ntfs)
    volume = Ntfs(disk, 0, last)
    found = {
        n.path: hashlib.sha256(b"".join(p for p in volume.content(n) if isinstance(p, bytes))).hexdigest()
        for n in volume.nodes()
        if not n.is_folder
    }
    assert found == wanted
    packed = volume.find("packed/text.txt")
    assert packed is not None
    assert (volume.data_of(packed) or pytest.fail("no data")).flags & rec.COMPRESSED
    report = check(disk, 0, last)
    assert (report.state, report.findings) == ("clean", ())


class _Hurt:
    """Places of an NTFS volume that a test writes over."""

    def __init__(self, image: Path) -> None:
        self.disk, last = _disk(image)
        self.volume = Ntfs(self.disk, 0, last)

    def record(self, path: str | int) -> int:
        node = self.volume.find(path) if isinstance(path, str) else None
        number = path if isinstance(path, int) else node.id if node else pytest.fail(f"{path}: not there")
        vcn, skip = divmod(number * self.volume.boot.record, self.volume.cluster)
        run = next(r for r in self.volume._runs if r[0] <= vcn < r[0] + r[2])
        return (run[1] + vcn - run[0]) * self.volume.cluster + skip

    def first(self, path: str, kind: int = rec.DATA, name: str = "") -> int:
        node = self.volume.find(path)
        assert node is not None
        return next(
            a for a in self.volume.attributes(self.volume.record(node.id)) if a.type == kind and a.name == name
        ).runs[0][1]

    def bit(self, cluster: int, value: int) -> tuple[int, bytes]:
        at = (
            next(a for a in self.volume.attributes(self.volume.record(6)) if a.type == rec.DATA).runs[0][1]
            * self.volume.cluster
            + cluster // 8
        )
        now = self.volume.bytes.read(at, 1, "map")[0]
        return at, bytes([now | 1 << cluster % 8 if value else now & ~(1 << cluster % 8)])

    def free(self) -> int:
        return next(n for n, used in enumerate(self.volume.bitmap()) if not used and n > 3000)


_FILE = "many/00001 a long name so that the folder grows"
NTFS_HURTS: dict[
    str, tuple[Callable[[_Hurt], Writes], set[str], set[str]]
] = {  # writes, findings, files that may be lost
    "record torn": (lambda h: [(h.record(_FILE) + 510, b"\x99\x99")], {"record", "dangling"}, {_FILE}),
    "record zero": (lambda h: [(h.record(_FILE), bytes(1024))], {"record", "dangling"}, {_FILE}),
    "folder's record": (
        lambda h: [(h.record("many"), bytes(1024))],
        {"record", "dangling", "orphan", "lost", "more-alike"},
        {"many/"},
    ),
    "map, cleared": (lambda h: [h.bit(h.first("one"), 0)], {"unmarked"}, set()),
    "map, marked": (lambda h: [h.bit(h.free(), 1)], {"lost"}, set()),
    "folder's block": (
        lambda h: [(h.first("many", rec.INDEX_ALLOCATION, "$I30") * h.volume.cluster, bytes(4096))],
        {"folder-broken"},
        set(),
    ),
    "folder's block torn": (
        lambda h: [(h.first("many", rec.INDEX_ALLOCATION, "$I30") * h.volume.cluster + 510, b"\x77\x77")],
        {"folder-broken"},
        set(),
    ),
    "boot sector": (lambda h: [(0, bytes(512))], {"first-structure"}, set()),
    "copy of it": (lambda h: [(h.volume.boot.sectors * 512, bytes(512))], {"boot-copy-differs"}, set()),
    "mirror": (lambda h: [(h.volume.boot.mirror * h.volume.cluster, bytes(1024))], {"mirror"}, set()),
    "first record": (lambda h: [(h.record(0), bytes(1024))], {"map-unread", "record", "dangling", "lost"}, set()),
    "sequence": (lambda h: [(h.record(_FILE) + 16, b"\x55\0")], {"sequence", "not-listed"}, set()),
    "links": (lambda h: [(h.record("one") + 18, b"\7\0")], {"link-count"}, set()),
}


def _hurt(image: Path, writes: Writes) -> str:
    with image.open("r+b") as file:
        for at, data in writes:
            file.seek(at)
            file.write(data)
    return hashlib.sha256(image.read_bytes()).hexdigest()


@pytest.mark.parametrize("hurt", NTFS_HURTS)
def test_a_repaired_ntfs_volume_is_mounted_and_written_and_undone(
    hurt: str, ntfs: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    make, ids, lost = NTFS_HURTS[hurt]
    image, undo = tmp_path / "volume.img", tmp_path / "undo.json"
    shutil.copy(ntfs, image)
    with mounted(image, "ntfs") as tree:
        wanted = sums(tree)
    before = _hurt(image, make(_Hurt(ntfs)))
    disk, last = _disk(image)
    assert {f.id for f in check(disk, 0, last).findings} == ids
    assert main(["volume", str(image), "--repair", "--apply", "--undo", str(undo)]) == 0
    assert json.loads(capsys.readouterr().out)["state"] == "clean"
    copy = tmp_path / "copy.img"
    shutil.copy(image, copy)
    with mounted(copy, "ntfs") as tree:
        found = sums(tree)
        for number in range(300):
            (tree / (f"many/{number} fresh" if (tree / "many").is_dir() else f"{number} fresh")).write_bytes(
                b"y" * 5000
            )
    gone = {path: digest for path, digest in wanted.items() if found.get(path) != digest}
    assert all(any(path == own or (own.endswith("/") and path.startswith(own)) for own in lost) for path in gone)
    if hurt == "folder's record":
        assert {digest for path, digest in wanted.items() if path in gone} <= set(found.values()), (
            "all of them are in the new folder"
        )
    disk, last = _disk(copy)
    assert check(disk, 0, last).findings == ()
    assert main(["volume", str(image), "--revert", str(undo)]) == 0
    assert hashlib.sha256(image.read_bytes()).hexdigest() == before


def fat_volume(tmp: Path, bits: int) -> Path:
    need("mkfs.vfat", "mcopy", "fsck.vfat")
    image, tree = tmp / "volume.img", tmp / "tree"
    tree.mkdir()
    fill(tree, 5)
    with image.open("wb") as file:
        file.truncate(120 * MIB)
    run("mkfs.vfat", "-F", str(bits), *(("-s", "1") if bits == 32 else ()), str(image))
    subprocess.run(["mcopy", "-s", "-i", str(image), *map(str, tree.iterdir()), "::/"], check=True, capture_output=True)
    shutil.rmtree(tree)
    return image


def _fat_entry(volume: Fat, cluster: int, value: int, *, both: bool = True) -> list[tuple[int, bytes]]:
    size = volume.wide // 8
    at = volume.volume.reserved * 512 + size * cluster
    return [
        (at + n * volume.volume.fat_sectors * 512, (value & ((1 << volume.wide) - 1)).to_bytes(size, "little"))
        for n in range(2 if both else 1)
    ]


def _chains(volume: Fat) -> list[list[int]]:
    found = [volume.chain(n.id, 10_000) for n in volume.nodes() if not n.is_folder and n.size > 30_000]
    return [c for c in found if len(c) > 6]


_EOC = 0x0FFFFFFF
FAT_HURTS: dict[str, Callable[[Fat], Writes]] = {
    "one table": lambda v: _fat_entry(v, _chains(v)[0][2], 0, both=False),
    "ends early": lambda v: _fat_entry(v, _chains(v)[0][2], _EOC),
    "outside": lambda v: _fat_entry(v, _chains(v)[0][2], 0x0FFFFFF0),
    "circle": lambda v: _fat_entry(v, _chains(v)[1][3], _chains(v)[1][0]),
    "shared": lambda v: _fat_entry(v, _chains(v)[1][3], _chains(v)[0][1]),
    "lost": lambda v: _fat_entry(v, v.clusters - 9, v.clusters - 8) + _fat_entry(v, v.clusters - 8, _EOC),
    "not put away": lambda v: _fat_entry(v, 1, 0x07FFFFFF if v.wide == 32 else 0x7FFF),
    "first table": lambda v: [(v.volume.reserved * 512, bytes(v.volume.fat_sectors * 512))],
    "second table": lambda v: [((v.volume.reserved + v.volume.fat_sectors) * 512, bytes(v.volume.fat_sectors * 512))],
    "media": lambda v: _fat_entry(v, 0, 0x0FFFFF00),
    "link": lambda v: [
        (
            next(s.at for s in v.slots(next(n.id for n in v.nodes() if n.path == "deep/er")) if s.name == "..") + 26,
            b"\7\0",
        )
    ],
}


@pytest.mark.parametrize("bits", [16, 32])
def test_repaired_fat_volumes_leave_the_systems_own_checker_nothing(
    bits: int, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    healthy = fat_volume(tmp_path, bits)
    disk, last = _disk(healthy)
    assert check(disk, 0, last).findings == ()
    volume = Fat(disk, 0, last)
    for number, (name, make) in enumerate(FAT_HURTS.items()):
        image, undo = tmp_path / "hurt.img", tmp_path / f"undo{number}.json"
        shutil.copy(healthy, image)
        before = _hurt(image, make(volume))
        assert main(["volume", str(image), "--repair", "--apply", "--undo", str(undo)]) == 0, name
        assert json.loads(capsys.readouterr().out)["state"] == "clean", name
        judged = subprocess.run(["fsck.vfat", "-n", str(image)], capture_output=True, text=True)
        assert judged.returncode == 0, (name, judged.stdout)
        assert main(["volume", str(image), "--revert", str(undo)]) == 0
        assert hashlib.sha256(image.read_bytes()).hexdigest() == before
        capsys.readouterr()


def test_exfat_is_judged_by_its_own_checker(tmp_path: Path, capsys: pytest.CaptureFixture[str]) -> None:
    need("mkfs.exfat", "fsck.exfat")
    healthy = tmp_path / "volume.img"
    with healthy.open("wb") as file:
        file.truncate(64 * MIB)
    run("mkfs.exfat", "-L", "CHOIR", str(healthy))
    disk, last = _disk(healthy)
    assert check(disk, 0, last).findings == ()
    volume = ExFat(disk, 0, last)
    own_map = volume.at(volume.bitmap_cluster)
    hurts: dict[str, Writes] = {
        "boot": [(0, bytes(512))],
        "sum": [(11 * 512, b"\0")],
        "copy": [(12 * 512, bytes(512))],
        "not put away": [(106, b"\2\0")],
        "map, marked": [(own_map + 100, b"\xff")],
        "map, cleared": [(own_map, b"\0")],
    }
    for number, (name, writes) in enumerate(hurts.items()):
        image, undo = tmp_path / "hurt.img", tmp_path / f"undo{number}.json"
        shutil.copy(healthy, image)
        before = _hurt(image, writes)
        assert main(["volume", str(image), "--repair", "--apply", "--undo", str(undo)]) == 0, name
        assert json.loads(capsys.readouterr().out)["state"] == "clean", name
        judged = subprocess.run(["fsck.exfat", "-n", str(image)], capture_output=True, text=True)
        assert judged.returncode == 0, (name, judged.stdout)
        assert main(["volume", str(image), "--revert", str(undo)]) == 0
        assert hashlib.sha256(image.read_bytes()).hexdigest() == before
        capsys.readouterr()


@pytest.mark.parametrize(
    "options",
    [
        ["-t", "ext2", "-b", "1024"],
        ["-t", "ext3", "-b", "4096"],
        ["-t", "ext4"],
        ["-t", "ext4", "-O", "inline_data", "-I", "256"],
        ["-t", "ext4", "-O", "meta_bg,^resize_inode", "-b", "1024"],
        ["-t", "ext4", "-O", "bigalloc", "-C", "16384", "-b", "4096"],
        ["-t", "ext4", "-O", "^metadata_csum,uninit_bg"],
        ["-t", "ext4", "-O", "sparse_super2", "-b", "2048"],
    ],
    ids=lambda o: " ".join(o[1:]),
)
def test_ext_volumes_are_read_whole_found_healthy_and_their_journal_is_carried_out(
    options: list[str], tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    need("mkfs.ext4", "e2fsck")
    image = tmp_path / "volume.img"
    with image.open("wb") as file:
        file.truncate(200 * MIB)
    run("mkfs.ext4", "-q", "-F", *options, str(image))
    stopped = tmp_path / "stopped.img"
    with mounted(image, "ext") as tree:
        fill(tree, 7)
        (tree / "sparse").write_bytes(b"")
        os.truncate(tree / "sparse", 5 * MIB)
        wanted = sums(tree)
        os.sync()
        for number in range(80):
            (tree / f"late {number}").write_bytes(b"z" * 3000)
        with (tree / "late 0").open("rb+") as file:
            os.fsync(file.fileno())
        shutil.copy(image, stopped)  # as if the power had gone
        for number in range(80):
            (tree / f"late {number}").unlink()
    disk, last = _disk(image)
    assert check(disk, 0, last).findings == ()
    assert main(["rescue", str(image), "--to", str(tmp_path / "out")]) == 0
    saved = sums(tmp_path / "out")
    assert {path: saved.get(path) for path in wanted} == wanted
    if options[1] == "ext2":
        return
    capsys.readouterr()
    undo, before = tmp_path / "undo.json", hashlib.sha256(stopped.read_bytes()).hexdigest()
    assert main(["volume", str(stopped), "--repair", "--apply", "--undo", str(undo)]) == 0
    assert "journal" in json.loads(capsys.readouterr().out)["applied"]
    judged = subprocess.run(["e2fsck", "-fn", str(stopped)], capture_output=True, text=True)
    assert judged.returncode == 0, judged.stdout
    assert main(["volume", str(stopped), "--revert", str(undo)]) == 0
    assert hashlib.sha256(stopped.read_bytes()).hexdigest() == before


@pytest.mark.parametrize(("at", "count"), [(1024, 1024), (1024 + 12, 4), (1024 + 16, 4)])
def test_ext_superblocks_come_back_from_their_copies(
    at: int, count: int, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    need("mkfs.ext4", "e2fsck")
    image = tmp_path / "volume.img"
    with image.open("wb") as file:
        file.truncate(64 * MIB)
    run("mkfs.ext4", "-q", "-F", "-O", "^metadata_csum", str(image))
    _hurt(image, [(at, bytes(count))])
    assert main(["volume", str(image), "--repair", "--apply", "--undo", str(tmp_path / "undo.json")]) == 0
    assert json.loads(capsys.readouterr().out)["state"] == "clean"
    assert subprocess.run(["e2fsck", "-fn", str(image)], capture_output=True).returncode == 0


def test_a_healthy_volume_stays_so_through_an_overlay(ntfs: Path) -> None:
    disk, last = _disk(ntfs)
    assert check(Overlay(disk, []), 0, last).state == "clean"
