"""Field tables of SCSI structures, big-endian, in the standards' own names: T10 SPC-4 (INQUIRY 6.4, vital product data
7.8, log pages 7.3), SBC-3 (READ CAPACITY (16) 5.16, block pages 6.5, logs 6.4). No logic."""

from __future__ import annotations

from gatecheck.core.fields import Field

INQUIRY_BYTES, CAPACITY_BYTES, PAGE_HEAD, PARAMETER_HEAD = 36, 12, 4, 4

INQUIRY = (  # SPC-4, table 175
    Field("peripheral", 0, ">B"),
    Field("removable", 1, ">B"),
    Field("version", 2, ">B"),
    Field("vendor", 8, "ascii:8"),
    Field("product", 16, "ascii:16"),
    Field("revision", 32, "ascii:4"),
)
CAPACITY = (  # SBC-3, table 64
    Field("last_lba", 0, ">Q", "LBA"),
    Field("block_bytes", 8, ">I", "B"),
)
CHARACTERISTICS = (  # SBC-3, table 186 (page B1h)
    Field("rotation_rate", 4, ">H", "rpm"),
    Field("form_factor", 7, ">B"),
)
LIMITS = (  # SBC-3, table 187 (page B0h)
    Field("largest_transfer", 8, ">I", "blocks"),
    Field("largest_unmap", 20, ">I", "blocks"),
)
SCAN_STATUS = (  # SBC-3, table 150: parameter 0000h of page 15h
    Field("power_on_minutes", 0, ">I", "min"),
    Field("status", 5, ">B"),
    Field("scans", 6, ">H"),
    Field("progress", 8, ">H", "1/65536"),
)
SCAN_ERROR = (  # SBC-3, table 153: parameters 0001h to 0800h
    Field("power_on_minutes", 0, ">I", "min"),
    Field("reassign_and_key", 4, ">B"),
    Field("code", 5, ">B"),
    Field("qualifier", 6, ">B"),
    Field("lba", 12, ">Q", "LBA"),
)
SELF_TEST = (  # SPC-4, table 385: each parameter of page 10h
    Field("code_and_result", 0, ">B"),
    Field("number", 1, ">B"),
    Field("hours", 2, ">H", "h"),
    Field("lba", 4, ">Q", "LBA"),
    Field("sense_key", 12, ">B"),
)
DEVICE_TYPES = {
    0x00: "disk",
    0x05: "optical",
    0x07: "optical memory",
    0x0D: "enclosure",
    0x0E: "disk",
    0x14: "zoned disk",
}
# page B1h, bits 3:0 (SBC-3, table 188)
FORM_FACTORS = {1: "5.25 inch", 2: "3.5 inch", 3: "2.5 inch", 4: "1.8 inch", 5: "below 1.8 inch"}
# designation descriptor, bits 7:4 of byte 0 (SPC-4, table 419)
TRANSPORTS = {
    0: "Fibre Channel",
    1: "parallel SCSI",
    3: "IEEE 1394",
    5: "iSCSI",
    6: "SAS",
    8: "ATA",
    9: "USB Attached SCSI",
    10: "PCI Express",
}
NAA, EUI = 3, 2
"""designator types (SPC-4, table 421)"""

# parameter codes of the error counter pages (SPC-4, table 360)
COUNTERS = {
    0: "corrected without delay",
    1: "corrected with delay",
    2: "repeated",
    3: "corrected",
    4: "correction algorithm runs",
    5: "bytes processed",
    6: "uncorrected",
}
SELF_TEST_CODES = {1: "short", 2: "long", 4: "aborted", 5: "short, in the foreground", 6: "long, in the foreground"}
SELF_TEST_RESULTS = {
    0: "completed",
    1: "aborted by the host",
    2: "aborted",
    3: "could not complete",
    4: "failed: unknown segment",
    5: "failed: first segment",
    6: "failed: second segment",
    7: "failed: other segment",
    15: "running",
}
MEDIUM_ERROR = 3
FAILURE_PREDICTED, WARNING = 0x5D, 0x0B
"""additional sense codes of page 2Fh (SPC-4, annex F)"""
