"""A capture's manifest: what it says is missing is shown, what it says of hashes is checked, and nothing else is
believed."""

from __future__ import annotations

import hashlib
import json
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gatecheck.core.capture.kinds import field_at
from gatecheck.core.capture.manifest import is_plain_path, read_manifest
from gatecheck.core.disk.encode import system_disk
from gatecheck.core.disk.mbr import read_mbr
from gatecheck.core.disk.sectors import sectors_of
from gatecheck.core.disk.volume import volume_of, volume_start
from gatecheck.core.errors import DecodeError
from gatecheck.core.firmware.encode import boot_variables, load_option, partition
from gatecheck.core.storage import encode
from reading import disk_layout, read_capture, read_document, said

IDENTIFY = encode.ata_identify(model="QUARRY SPINDLE", serial="Q1", sectors=1 << 30)
ESP, DATA, GONE = (
    "0F2F0A6B-3D5C-4E4B-9A51-1D2C3B4A5968",
    "7B5E90C1-52A4-4A0E-8A0C-8D1F00A1B2C3",
    "11111111-2222-3333-4444-555555555555",
)


def capture(files: dict[str, bytes], **pages: Any) -> dict[str, bytes]:
    """Files with a manifest; pages as path=(status, detail, sha256 or None)."""
    listed = [{"path": path, "status": s, "detail": d, "sha256": h} for path, (s, d, h) in pages.items()]
    return {**files, "manifest.json": json.dumps({"format": 1, "pages": listed}).encode()}


@pytest.mark.parametrize(
    ("status", "shown"), [("refused", "refused"), ("failed", "failed"), ("hung", "failed"), ("skipped", "failed")]
)
def test_a_page_without_bytes_is_shown_with_its_reason(status: str, shown: str) -> None:
    files = capture({"sda/identify.bin": IDENTIFY}, **{"sda/smart-data.bin": (status, "sense B/00/00", None)})
    found = {p.path: p for p in read_capture(files).pages}
    page = found["sda/smart-data.bin"]
    assert (page.status, page.kind, said(page.detail)) == (shown, "smart-data", f"{status}: sense B/00/00")
    assert found["sda/identify.bin"].status == "decoded"


def test_a_drive_whose_pages_were_all_refused_passes_none() -> None:
    refused = {
        f"sdb/{name}.bin": ("refused", "sense 5/20/00", None)
        for name in ("identify", "smart-data", "smart-thresh", "smart-log-01")
    }
    drive = read_capture(capture({"sysblock/sdb.txt": b"path=/sys/devices/x/usb1/1-1/block/sdb"}, **refused)).drives[0]
    assert (drive.bus, drive.pages.hidden, drive.weights) == ("usb", True, {"unreadable": 1.0})
    hung = dict.fromkeys(refused, ("hung", "no answer", None))
    assert not read_capture(capture({"sysblock/sdb.txt": b""}, **hung)).drives[0].pages.hidden, (
        "not answering is no bridge"
    )


def test_bytes_that_are_not_the_listed_ones_are_broken() -> None:
    right, wrong = hashlib.sha256(IDENTIFY).hexdigest(), "0" * 64
    for digest, status in ((right, "decoded"), (wrong, "broken"), (None, "decoded")):
        page = read_capture(capture({"sda/identify.bin": IDENTIFY}, **{"sda/identify.bin": ("ok", "", digest)})).pages
        assert next(p.status for p in page if p.path == "sda/identify.bin") == status


def test_a_disk_that_could_not_be_read_leaves_an_entry_in_doubt() -> None:
    boot = boot_variables({0: load_option("System", partition(GONE))}, (0,))
    whole = {**boot, "sda/lba0-33.bin": system_disk(ESP, DATA)}
    doubt = capture(whole, **{"sdb/lba0-33.bin": ("failed", "input/output error", None)})
    for files, target in ((whole, "stale"), (doubt, "unknown"), (boot, "unknown")):
        document: Any = read_document(files)
        assert [e["target"] for e in document["firmware"]["entries"]] == [target]


@pytest.mark.parametrize(
    ("path", "plain"),
    [
        ("sda/a.bin", True),
        ("efivars/Boot0000-8be4", True),
        ("a b+c.bin", True),
        ("../a", False),
        ("a/../b", False),
        ("/a", False),
        ("a//b", False),
        ("a\\b", False),
        ("", False),
        ("a/", False),
        ("x" * 201, False),
    ],
)
def test_plain_paths(path: str, plain: bool) -> None:
    assert is_plain_path(path) is plain


JSON = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=8),
    lambda x: (
        st.lists(x, max_size=3)
        | st.dictionaries(st.sampled_from(["pages", "path", "status", "sha256", "x"]), x, max_size=4)
    ),
    max_leaves=12,
)


@given(st.binary(max_size=60) | JSON.map(lambda value: json.dumps(value).encode()))
def test_any_manifest_is_read_or_taken_for_none(raw: bytes) -> None:
    assert all(is_plain_path(path) for path in read_manifest({"manifest.json": raw}).pages)
    read_capture({"manifest.json": raw, "sda/identify.bin": IDENTIFY})


@given(st.binary(max_size=1200) | st.binary(min_size=510, max_size=700).map(lambda b: b[:510] + b"\x55\xaa" + b[510:]))
def test_any_first_sectors_give_an_answer(raw: bytes) -> None:
    assert disk_layout(raw) in (None, "gpt", "mbr")
    volume_of(raw)
    try:
        read_mbr(sectors_of(raw))
    except DecodeError as error:
        assert error.at >= 0


@pytest.mark.parametrize("kind", ["encrypted", "ntfs", "exfat", "fat", "ext", "apfs", "hfs+"])
def test_a_volume_is_known_by_its_mark(kind: str) -> None:
    found = volume_of(volume_start(kind))
    assert found is not None
    assert (found.kind, found.is_locked) == (kind, kind == "encrypted")
    assert volume_of(bytes(4096)) is None


@pytest.mark.parametrize(
    ("kind", "byte", "field"),
    [
        ("smart-data", 14, ("attribute 2", 14, 12)),
        ("smart-data", 363, ("self test status", 363, 1)),
        ("ata-identify", 25, ("serial", 20, 20)),
        ("nvme-health", 165, ("media errors", 160, 16)),
        ("ata-errors-ext", 512 + 130, ("error 2", 640, 124)),
        ("device-statistics", 512 + 33, ("statistic 4", 544, 8)),
        ("smart-data", 511, None),
        ("text", 3, None),
    ],
)
def test_the_field_at_a_byte(kind: str, byte: int, field: tuple[str, int, int] | None) -> None:
    assert field_at(kind, byte) == field
