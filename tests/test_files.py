"""Reading what is handed in from outside: sizes, counts, names and ratios are checked before anything is trusted."""

from __future__ import annotations

import io
import struct
import zipfile
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from gatecheck.adapters import capture_files
from gatecheck.adapters.capture_files import pages_of, read_path
from gatecheck.core.errors import InputError
from gatecheck.core.fields import Field, clean_text, read_fields, swap_words, write_fields
from gatecheck.core.words.catalogue import lower_first, percent


def archive(*entries: tuple[str, bytes], method: int = zipfile.ZIP_STORED) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", method) as opened:
        for name, data in entries:
            opened.writestr(zipfile.ZipInfo(name), data, method)
    return buffer.getvalue()


def damaged() -> bytes:
    """A capture whose first member's bytes were changed on the way; its second is whole."""
    data = bytearray(archive(("sda/identify.bin", b"A" * 512), ("sda/smart-data.bin", b"B" * 512)))
    data[data.index(b"A" * 100) + 7] ^= 0xFF
    return bytes(data)


def renamed(data: bytes, old: bytes, new: bytes) -> bytes:
    assert len(old) == len(new)
    return data.replace(old, new)


GOOD = {
    "folders": (archive(("sda/identify.bin", b"x"), ("dmi/DMI", b"y")), {"sda/identify.bin", "dmi/DMI"}),
    "empty-folders": (archive(("sda/", b""), ("sda/x.bin", b"x")), {"sda/x.bin"}),
    "compressed": (archive(("sda/x.bin", bytes(range(256)) * 8), method=zipfile.ZIP_DEFLATED), {"sda/x.bin"}),
}


@pytest.mark.parametrize(("data", "names"), GOOD.values(), ids=GOOD)
def test_a_capture_gives_its_pages(data: bytes, names: set[str]) -> None:
    assert set(pages_of("machine.gcap", data)) == names


BAD = {
    "no-zip": (b"hello", "expected a capture"),
    "no-pages": (archive(), "expected 1 to 2000 pages, got 0"),
    "climbs": (archive(("../x", b"x")), "expected plain relative names"),
    "absolute": (archive(("/etc/x", b"x")), "expected plain relative names"),
    "backslash": (renamed(archive(("sda/xx", b"x")), b"sda/xx", b"sda\\xx"), "expected plain relative names"),
    "twice": (
        renamed(archive(("sda/a", b"x"), ("sda/b", b"y")), b"sda/b", b"sda/a"),
        "expected plain relative names, each once",
    ),
    "too-large": (archive(("sda/x", bytes(capture_files.LARGEST_PAGE + 1))), "expected pages of at most 4 MiB"),
    "bomb": (archive(("sda/x", bytes(1 << 20)), method=zipfile.ZIP_DEFLATED), "expected pages of at most"),
    "too-many": (archive(*((f"x/{n}", b"") for n in range(2001))), "expected 1 to 2000 pages, got 2001"),
}


@pytest.mark.parametrize(("data", "message"), BAD.values(), ids=BAD)
def test_a_capture_that_cannot_be_trusted_is_refused(data: bytes, message: str) -> None:
    with pytest.raises(InputError, match=message):
        pages_of("machine.gcap", data)


def test_a_damaged_member_leaves_the_others_readable() -> None:
    pages = pages_of("machine.gcap", damaged())
    assert pages["sda/smart-data.bin"] == b"B" * 512
    assert any(name.startswith("sda/identify.bin (damaged") for name in pages)


def test_a_lying_size_does_not_get_past(tmp_path: Path) -> None:
    """A member that claims to be small but unpacks to more than a page is cut, not believed."""
    data = bytearray(archive(("sda/x", bytes(3000)), method=zipfile.ZIP_DEFLATED))
    central = data.rindex(b"PK\x01\x02")
    data[central + 24 : central + 28] = struct.pack("<I", 10)
    try:
        pages = pages_of("machine.gcap", bytes(data))
    except InputError:
        return
    assert all(len(page) <= 3000 for page in pages.values())


@given(st.binary(max_size=300))
def test_any_bytes_named_capture_give_pages_or_an_input_error(data: bytes) -> None:
    try:
        pages_of("x.gcap", data)
    except InputError as error:
        assert "x.gcap" in str(error)


def test_a_folder_is_read_by_relative_names_and_links_are_not_followed(tmp_path: Path) -> None:
    (tmp_path / "sda").mkdir()
    (tmp_path / "sda" / "identify.bin").write_bytes(b"x")
    (tmp_path / "secret").symlink_to("/etc/hostname")
    assert read_path(str(tmp_path)) == {"sda/identify.bin": b"x"}


FOLDERS = {
    "empty": (0, 0, "got an empty folder"),
    "large": (1, capture_files.LARGEST_PAGE + 1, "expected a page of at most 4 MiB"),
}


@pytest.mark.parametrize(("count", "size", "message"), FOLDERS.values(), ids=FOLDERS)
def test_a_folder_that_cannot_be_used_is_refused(tmp_path: Path, count: int, size: int, message: str) -> None:
    for number in range(count):
        (tmp_path / f"{number}.bin").write_bytes(bytes(size))
    with pytest.raises(InputError, match=message):
        read_path(str(tmp_path))


LAYOUT = (
    Field("word", 0, "<H"),
    Field("text", 2, "ascii:6"),
    Field("swapped", 8, "swapped:4"),
    Field("wide", 12, "le:5"),
    Field("raw", 17, "raw:3"),
)


def test_a_layout_reads_what_it_wrote() -> None:
    values = {"word": 0xBEEF, "text": "abc", "swapped": "WXYZ", "wide": 1 << 33, "raw": b"\x01\x02\x03"}
    page = bytes(write_fields(LAYOUT, dict(values), size=20))
    assert read_fields(LAYOUT, page, "page", size=20) == values
    assert page[8:12] == b"XWZY"


def test_garbled_text_is_shown_as_garbled() -> None:
    assert clean_text(b"QUARRY\x01\xff  \x00\x00") == "QUARRY??"
    assert swap_words(b"abc") == b"ba"


@pytest.mark.parametrize(
    ("p", "words"),
    [(0.0, "0 %"), (0.004, "under 1 %"), (0.5, "50 %"), (0.684, "68 %"), (0.999, "over 99 %"), (1.0, "100 %")],
)
def test_what_is_not_certain_never_reads_as_certain(p: float, words: str) -> None:
    assert percent(p) == words


def test_abbreviations_keep_their_capitals() -> None:
    assert (lower_first("Drive or cable loose"), lower_first("UEFI entry"), lower_first("")) == (
        "drive or cable loose",
        "UEFI entry",
        "",
    )
