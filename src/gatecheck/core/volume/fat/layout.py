"""FAT volumes: boot sector, chains of clusters, directories with long names, contents of files.

Sources: Microsoft, "FAT: General Overview of On-Disk Format", 1.03; ECMA-107. Everything is bounded, so that hostile
bytes cost little; a sector that is missing is named, and what hangs on it is left out."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import DecodeError
from gatecheck.core.fields import Field, Value, read_fields, text_of

BOOT = (  # ECMA-107, 9.1; Microsoft 1.03, "Boot Sector and BPB"
    Field("oem", 3, "raw:8"),
    Field("sector_bytes", 11, "<H", "B"),
    Field("cluster_sectors", 13, "<B"),
    Field("reserved", 14, "<H"),
    Field("fats", 16, "<B"),
    Field("root_entries", 17, "<H"),
    Field("sectors_16", 19, "<H"),
    Field("fat_sectors_16", 22, "<H"),
    Field("sectors_32", 32, "<I"),
    Field("fat_sectors_32", 36, "<I"),
    Field("root_cluster", 44, "<I"),
)
_LABEL_16, _LABEL_32 = 43, 71
_ENTRY, _LONG, _VOLUME, _DIRECTORY = 32, 0x0F, 0x08, 0x10
_DELETED, _END = 0xE5, 0x00
_FAT16_FROM, FAT32_FROM = 4085, 65525
"""clusters from which the FAT has entries of 16, of 32 bits (Microsoft 1.03, "FAT Type Determination")"""
_MOST_DIRECTORY_CLUSTERS, _MOST_ENTRIES, _DEEPEST = 1024, 20_000, 32


@dataclass(frozen=True, slots=True)
class FatFile:
    """`path`: from the root, parts joined by `/`; `size` in bytes."""

    path: str
    is_directory: bool
    size: int
    cluster: int


@dataclass(frozen=True, slots=True)
class FatVolume:
    """`first`: LBA on the disk; `wide`: bits of an entry of the FAT; sectors are the volume's own, of `sector`
    bytes."""

    disk: Sectors
    first: int
    sector: int
    cluster_sectors: int
    reserved: int
    fats: int
    fat_sectors: int
    root_entries: int
    root_cluster: int
    sectors: int
    clusters: int
    wide: int
    label: str

    @property
    def kind(self) -> str:
        return f"FAT{self.wide}"

    @property
    def size(self) -> int:
        """Bytes."""
        return self.sectors * self.sector

    @property
    def root_at(self) -> int:
        """Sector of the root directory of FAT12 and FAT16."""
        return self.reserved + self.fats * self.fat_sectors

    @property
    def data_at(self) -> int:
        """Sector of cluster 2."""
        return self.root_at + -(-self.root_entries * _ENTRY // self.sector)

    def read(self, sector: int, count: int, what: str) -> bytes:
        """Sectors of the volume. Raises DecodeError where one of them was not read."""
        step = self.sector // self.disk.sector
        return self.disk.read(self.first + sector * step, count * step).whole(what)

    def following(self, cluster: int) -> int:
        """The entry of the FAT for a cluster. Raises DecodeError where it was not read."""
        at = cluster * self.wide // 8
        count = 2 if at % self.sector + 4 > self.sector else 1
        raw = self.read(self.reserved + at // self.sector, min(count, self.fat_sectors - at // self.sector), "FAT")[
            at % self.sector :
        ][:4]
        value = int.from_bytes(raw, "little")
        return (
            value & 0x0FFFFFFF
            if self.wide == 32
            else value & 0xFFFF
            if self.wide == 16
            else value >> 4 * (cluster & 1) & 0xFFF
        )

    def chain(self, cluster: int, most: int) -> Iterator[int]:
        """The clusters of a chain, at most so many. Raises DecodeError where it leads outside, or in a circle."""
        seen: set[int] = set()
        while 2 <= cluster < self.clusters + 2:
            if cluster in seen:
                raise DecodeError("cluster chain", at=cluster, expected="an end", got="a circle")
            if len(seen) >= most:
                return
            seen.add(cluster)
            yield cluster
            cluster = self.following(cluster)
        if cluster < (1 << min(self.wide, 28)) - 8 and cluster != 0:
            raise DecodeError("cluster chain", at=cluster, expected=f"cluster 2 to {self.clusters + 1}", got=cluster)

    def cluster(self, number: int, what: str) -> bytes:
        return self.read(self.data_at + (number - 2) * self.cluster_sectors, self.cluster_sectors, what)

    def head(self, file: FatFile, count: int) -> bytes:
        """The first bytes of a file, within its first cluster. Raises DecodeError where they were not read."""
        count = min(count, file.size, self.cluster_sectors * self.sector)
        if not count or not 2 <= file.cluster < self.clusters + 2:
            return b""
        return self.read(self.data_at + (file.cluster - 2) * self.cluster_sectors, -(-count // self.sector), file.path)[
            :count
        ]


@dataclass(frozen=True, slots=True)
class FatListing:
    """Every file and directory, and which could not be listed: path -> why."""

    files: Mapping[str, FatFile]
    missing: Mapping[str, str] = field(default_factory=dict)

    def find(self, path: str) -> FatFile | None:
        """By path, whatever its case: FAT keeps it and does not heed it. Separated by `/` or `\\`."""
        wanted = "/".join(part for part in path.replace("\\", "/").split("/") if part).lower()
        return next((f for name, f in self.files.items() if name.lower() == wanted), None)


def _int(fields: Mapping[str, Value], name: str) -> int:
    value = fields[name]
    assert isinstance(value, int)
    return value


def read_fat(disk: Sectors, first: int) -> FatVolume:
    """The volume that begins at this LBA. Raises DecodeError where its boot sector is none, MissingSectorError where it
    was not read."""
    what = "FAT boot sector"
    boot = disk.read(first, 1).whole(what)
    fields = read_fields(BOOT, boot, what, size=512)
    sector, per_cluster = _int(fields, "sector_bytes"), _int(fields, "cluster_sectors")
    if sector not in (512, 1024, 2048, 4096) or sector % disk.sector:
        raise DecodeError(
            f"{what} bytes per sector", at=11, expected=f"512 to 4096, whole sectors of {disk.sector}", got=sector
        )
    if (
        per_cluster not in (1, 2, 4, 8, 16, 32, 64, 128)
        or not 1 <= _int(fields, "fats") <= 4
        or not _int(fields, "reserved")
    ):
        raise DecodeError(
            f"{what} cluster size, FATs, reserved",
            at=13,
            expected="a power of two, 1 to 4, more than none",
            got=boot[13:17].hex(),
        )
    total = _int(fields, "sectors_16") or _int(fields, "sectors_32")
    fat_sectors = _int(fields, "fat_sectors_16") or _int(fields, "fat_sectors_32")
    roots = _int(fields, "root_entries")
    data_at = _int(fields, "reserved") + _int(fields, "fats") * fat_sectors + -(-roots * _ENTRY // sector)
    clusters = (total - data_at) // per_cluster
    if not fat_sectors or clusters < 1:
        raise DecodeError(
            f"{what} sizes",
            at=19,
            expected="a FAT and at least one cluster",
            got=f"{total} sectors, FATs of {fat_sectors}",
        )
    # the count of clusters says what it is (specification, 3.5); but only a FAT32 has neither a fixed root nor a short
    # size, and systems take one of few clusters for what its boot sector says
    is_32 = clusters >= FAT32_FROM or (not roots and not _int(fields, "fat_sectors_16"))
    wide = 32 if is_32 else 16 if clusters >= _FAT16_FROM else 12
    if wide == 32 and not 2 <= _int(fields, "root_cluster") < clusters + 2:
        raise DecodeError(
            f"{what} root", at=44, expected=f"cluster 2 to {clusters + 1}", got=_int(fields, "root_cluster")
        )
    label_at = _LABEL_32 if wide == 32 else _LABEL_16
    label = text_of(boot[label_at : label_at + 11]).strip() if boot[label_at - 5] in (0x28, 0x29) else ""
    return FatVolume(
        disk,
        first,
        sector,
        per_cluster,
        _int(fields, "reserved"),
        _int(fields, "fats"),
        fat_sectors,
        roots,
        _int(fields, "root_cluster"),
        total,
        clusters,
        wide,
        "" if label == "NO NAME" else label,
    )


def listing(volume: FatVolume) -> FatListing:
    """Every file that can be listed. Never raises: what cannot be read is named."""
    files: dict[str, FatFile] = {}
    missing: dict[str, str] = {}
    waiting: list[tuple[str, int, int]] = [("", volume.root_cluster if volume.wide == 32 else 0, 0)]
    known: set[int] = set()
    while waiting:
        path, cluster, depth = waiting.pop()
        if cluster in known or len(files) >= _MOST_ENTRIES:
            continue
        known.add(cluster)
        try:
            for entry in _entries(volume, cluster, path):
                files[entry.path] = entry
                if entry.is_directory and depth < _DEEPEST:
                    waiting.append((entry.path, entry.cluster, depth + 1))
                if len(files) >= _MOST_ENTRIES:
                    break
        except DecodeError as error:
            missing[path or "/"] = str(error)
    return FatListing(files, missing)


def _entries(volume: FatVolume, cluster: int, path: str) -> Iterator[FatFile]:
    """The entries of a directory; cluster 0: the fixed root of FAT12 and FAT16."""
    what = f"directory {path or '/'}"
    parts: list[tuple[int, int, str]] = []
    for raw in _raw_entries(volume, cluster, what):
        if raw[0] == _END:
            return
        if raw[0] == _DELETED:
            parts = []
        elif raw[11] & 0x3F == _LONG:
            parts.append((raw[0] & 0x1F, raw[13], (raw[1:11] + raw[14:26] + raw[28:32]).decode("utf-16-le", "replace")))
        elif raw[11] & _VOLUME:
            parts = []
        else:
            name = _long_name(parts, raw[:11]) or _short_name(raw)
            parts = []
            if name not in (".", ".."):
                high = int.from_bytes(raw[20:22], "little") << 16 if volume.wide == 32 else 0
                yield FatFile(
                    f"{path}/{name}" if path else name,
                    bool(raw[11] & _DIRECTORY),
                    int.from_bytes(raw[28:32], "little"),
                    high | int.from_bytes(raw[26:28], "little"),
                )


def _raw_entries(volume: FatVolume, cluster: int, what: str) -> Iterator[bytes]:
    if cluster == 0:
        raw = volume.read(volume.root_at, volume.data_at - volume.root_at, what)
        yield from (raw[at : at + _ENTRY] for at in range(0, len(raw) - _ENTRY + 1, _ENTRY))
        return
    for number in volume.chain(cluster, _MOST_DIRECTORY_CLUSTERS):
        raw = volume.cluster(number, what)
        yield from (raw[at : at + _ENTRY] for at in range(0, len(raw) - _ENTRY + 1, _ENTRY))


def _long_name(parts: list[tuple[int, int, str]], short: bytes) -> str:
    """A long name, where all its parts are there and its checksum is the short name's; else empty."""
    total = 0
    for byte in short:
        total = ((total & 1) << 7 | total >> 1) + byte & 0xFF
    numbers = [number for number, _, _ in parts]
    if not parts or numbers != list(range(len(parts), 0, -1)) or any(check != total for _, check, _ in parts):
        return ""
    return "".join(text for _, _, text in reversed(parts)).split("\0")[0].replace("/", "?")


def _short_name(raw: bytes) -> str:
    first = b"\xe5" if raw[0] == 0x05 else raw[:1]  # 05h stands for E5h, which marks a deleted entry
    base, extension = text_of(first + raw[1:8]).rstrip(), text_of(raw[8:11]).rstrip()
    if raw[12] & 0x08:
        base = base.lower()
    if raw[12] & 0x10:
        extension = extension.lower()
    return (f"{base}.{extension}" if extension else base).replace("/", "?")
