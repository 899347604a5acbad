"""No page costs more than itself: what a hostile one may claim is bounded by what the standards allow, and counted
instead of timed."""

from __future__ import annotations

import struct
from typing import Any

import pytest

from gatecheck.core.firmware.encode import load_option, partition
from gatecheck.core.storage import encode_logs
from gatecheck.core.storage.encode_logs import AtaError
from reading import read_capture, read_document

MIB4 = 4 << 20
EXTENDED = bytes(encode_logs.extended_errors([AtaError(31_239 - i, 777 + i) for i in range(4)])) * (MIB4 // 512)
NVME = (struct.pack("<Q", 7) + bytes([1] * 56)) * (MIB4 // 64)
GLOBAL = "8be4df61-93ca-11d2-aa0d-00e098032b8c"


@pytest.mark.parametrize(
    ("path", "page", "most"), [("sda/gp-log-03.bin", EXTENDED, 400), ("nvme0/log-01.bin", NVME, 256)]
)
def test_a_log_of_four_mebibytes_is_read_to_its_newest_part(path: str, page: bytes, most: int) -> None:
    drive = read_capture({path: page}).drives[0]
    errors = drive.pages.errors
    assert errors is not None
    assert len(errors[1].errors) == most
    told: Any = read_document({path: page})["devices"]
    assert (len(told[0]["events"]), told[0]["events_in_all"]) == (200, most)


def test_a_variable_beyond_all_firmware_stands_for_itself() -> None:
    said: Any = read_document(
        {
            f"efivars/BootOrder-{GLOBAL}": bytes(MIB4),
            f"efivars/Boot0000-{GLOBAL}": bytes(4)
            + load_option("A system", partition("5A1F0C3D-88B4-4E27-9D61-70C2E4B8A911")),
        }
    )
    firmware = said["firmware"]
    assert (firmware["order"], len(firmware["entries"])) == ([], 1)
    assert max(len(str(v["value"])) for v in firmware["variables"]) <= 4096


def test_a_boot_order_of_everything_is_cut_and_its_dangling_ends_are_a_few() -> None:
    order = struct.pack("<32000H", *range(32000))
    firmware: Any = read_document({f"efivars/BootOrder-{GLOBAL}": bytes(4) + order})["firmware"]
    assert (len(firmware["order"]), len([f for f in firmware["findings"] if f["id"] == "order-dangles"])) == (1024, 12)
