"""What a GRUB image carries, read from images that are whole, cut, and made to mislead."""

from __future__ import annotations

import struct

import pytest

from gatecheck.core.disk.grub_image import grub_image, unpacked_core

ELF, MEMDISK, CONFIG, PREFIX = 0, 1, 2, 3


def image(*parts: tuple[int, bytes], wide: bool = True) -> bytes:
    """A kernel's info block with these modules behind it."""
    raw = b"".join(struct.pack("<II", kind, 8 + len(body)) + body for kind, body in parts)
    head = b"mimg" + (struct.pack("<IQQ", 0, 24, 24 + len(raw)) if wide else struct.pack("<II", 12, 12 + len(raw)))
    return b"MZ" + bytes(510) + head + raw


def tar(name: str, body: bytes, size: bytes | None = None, kind: bytes = b"0") -> bytes:
    head = bytearray(512)
    head[: len(name)] = name.encode()
    told = f"{len(body):011o}".encode() if size is None else size
    head[124 : 124 + len(told)] = told
    head[156:157], head[257:262] = kind, b"ustar"
    return bytes(head) + body + bytes(-len(body) % 512)


def module(name: bytes, *, wide: bool = True) -> bytes:
    """An ELF file of three sections: none, its names, its own name."""
    names, head, each = b"\0.shstrtab\0.modname\0", 64 if wide else 52, 64 if wide else 40
    table = head + len(names) + len(name) + 1

    def section(at_name: int, at: int, size: int) -> bytes:
        return (
            struct.pack("<IIQQQQ", at_name, 3, 0, 0, at, size)
            if wide
            else struct.pack("<IIIIII", at_name, 3, 0, 0, at, size)
        ).ljust(each, b"\0")

    own = bytearray(head)
    own[:5] = b"\x7fELF" + bytes([2 if wide else 1])
    struct.pack_into("<Q" if wide else "<I", own, 0x28 if wide else 0x20, table)
    struct.pack_into("<HHH", own, 0x3A if wide else 0x2E, each, 3, 1)
    return (
        bytes(own)
        + names
        + name
        + b"\0"
        + bytes(each)
        + section(1, head, len(names))
        + section(11, head + len(names), len(name) + 1)
    )


@pytest.mark.parametrize("wide", [True, False])
def test_prefix_script_memory_disk_and_modules_are_read(wide: bool) -> None:
    disk = tar("./boot/grub/grub.cfg", b"linux /vmlinuz\n") + tar("folder/", b"", kind=b"5") + tar("x", b"y" * 700)
    found = grub_image(
        image(
            (ELF, module(b"ext2", wide=wide)),
            (ELF, module(b"part_gpt", wide=wide)),
            (MEMDISK, disk),
            (CONFIG, b"search.fs_uuid 1 root\0rest"),
            (PREFIX, b"(,gpt2)/grub\0"),
            wide=wide,
        )
    )
    assert found is not None
    assert (found.prefix, found.config, found.opaque) == ("(,gpt2)/grub", "search.fs_uuid 1 root", False)
    assert found.memdisk == {"boot/grub/grub.cfg": b"linux /vmlinuz\n", "x": b"y" * 700}
    assert found.modules == {"ext2", "part_gpt"}


@pytest.mark.parametrize(
    ("part", "opaque"),
    [
        ((MEMDISK, b"\x1f\x8b" + bytes(600)), True),
        ((MEMDISK, tar("a", b"", size=b"-2000")), True),  # a size below nothing would lead back, and round for ever
        ((MEMDISK, tar("a", b"", size=b"0o17")), True),
        ((ELF, b"\x7fELF"), False),
        ((ELF, b"\x7fELF\x02" + b"\xff" * 59), False),
        ((ELF, module(b"ext2")[:90]), False),
        ((9, b"of a kind that nobody knows"), False),
    ],
)  # fmt: skip
def test_what_misleads_is_left_and_the_rest_is_read(part: tuple[int, bytes], opaque: bool) -> None:
    found = grub_image(image(part, (PREFIX, b"/grub\0")))
    assert found is not None
    assert (found.prefix, found.opaque, dict(found.memdisk)) == ("/grub", opaque, {})


def test_cut_anywhere_it_is_an_image_with_less_or_none() -> None:
    whole = image((CONFIG, b"x\0"), (PREFIX, b"/grub\0"))
    for length in range(len(whole)):
        assert grub_image(whole[:length]) is None
    assert grub_image(b"mimg" + whole) is not None, "the mark alone is no image"
    assert grub_image(bytes(4096)) is None


@pytest.mark.parametrize(
    "raw",
    [
        b"",
        bytes(16),
        bytes(8) + struct.pack("<II", 1000, 0) + bytes(4000),
        bytes(8) + struct.pack("<II", 1 << 31, 0) + bytes(4000),
    ],
)
def test_what_is_no_core_unpacks_to_nothing(raw: bytes) -> None:
    assert unpacked_core(raw) is None
