"""Field tables of the drives' logs, in the standards' own order and names. No logic.

ATA: T13 ACS-2 (INCITS 482) annex A and ACS-4 (INCITS 529) clause 9. NVMe: NVM Express Base Specification 1.4.
"""

from __future__ import annotations

from gatecheck.core.fields import Field

# summary error log, address 01h (ACS-2, A.22): five structures of 90 bytes, each 5 commands of 12 and an error of 30
SUMMARY_ERRORS_AT, SUMMARY_ERROR_SIZE, SUMMARY_ERRORS = 2, 90, 5
SUMMARY_COMMAND_SIZE, COMMANDS_PER_ERROR = 12, 5
COMPREHENSIVE_SECTORS = 51  # address 02h has the same structures, over up to 51 sectors (ACS-2, A.4)
SUMMARY_HEAD = (Field("version", 0, "<B"), Field("index", 1, "<B"), Field("device_error_count", 452, "<H"))
SUMMARY_COMMAND = (
    Field("features", 1, "<B"), Field("count", 2, "<B"), Field("lba", 3, "le:3"), Field("device", 6, "<B"),
    Field("command", 7, "<B"), Field("timestamp", 8, "<I", "ms"),
)  # fmt: skip
SUMMARY_ERROR = (
    Field("error", 1, "<B"),
    Field("count", 2, "<B"),
    Field("lba", 3, "le:3"),
    Field("device", 6, "<B"),
    Field("status", 7, "<B"),
    Field("state", 27, "<B"),
    Field("lifetime_hours", 28, "<H", "h"),
)

# extended comprehensive error log, address 03h (ACS-4, 9.7): four structures of 124 bytes a page
EXTENDED_ERRORS_AT, EXTENDED_ERROR_SIZE, EXTENDED_ERRORS = 4, 124, 4
EXTENDED_COMMAND_SIZE = 18
EXTENDED_HEAD = (Field("version", 0, "<B"), Field("index", 2, "<H"), Field("device_error_count", 500, "<H"))
EXTENDED_COMMAND = (
    Field("features", 1, "<H"), Field("count", 3, "<H"), Field("lba_parts", 5, "raw:6"), Field("device", 11, "<B"),
    Field("command", 12, "<B"), Field("timestamp", 14, "<I", "ms"),
)  # fmt: skip
EXTENDED_ERROR = (
    Field("error", 1, "<B"),
    Field("count", 2, "<H"),
    Field("lba_parts", 4, "raw:6"),
    Field("device", 10, "<B"),
    Field("status", 11, "<B"),
    Field("state", 31, "<B"),
    Field("lifetime_hours", 32, "<H", "h"),
)
# LBA bytes in an extended structure stand as 7:0, 31:24, 15:8, 39:32, 23:16, 47:40
LBA_ORDER = (0, 2, 4, 1, 3, 5)

# error register after a read or write (ACS-2, 6.3)
ERROR_BITS = {7: "interface CRC", 6: "uncorrectable data", 4: "address not found", 3: "media changed", 2: "aborted"}
# commands that a bench meets in an error log (ACS-4, table 26)
COMMANDS = {
    0x20: "READ SECTORS",
    0x24: "READ SECTORS EXT",
    0x25: "READ DMA EXT",
    0x30: "WRITE SECTORS",
    0x35: "WRITE DMA EXT",
    0x40: "READ VERIFY",
    0x42: "READ VERIFY EXT",
    0x60: "READ FPDMA QUEUED",
    0x61: "WRITE FPDMA QUEUED",
    0xB0: "SMART",
    0xC8: "READ DMA",
    0xCA: "WRITE DMA",
    0xE7: "FLUSH CACHE",
    0xEA: "FLUSH CACHE EXT",
    0xEC: "IDENTIFY DEVICE",
    0xEF: "SET FEATURES",
}
# low nibble of an error's state (ACS-2, table A.24)
ERROR_STATES = {0: "unknown", 1: "asleep", 2: "standby", 3: "active or idle", 4: "self-test or background scan"}

# self-test log, address 06h (ACS-2, A.20): 21 descriptors of 24 bytes
SELF_TEST_AT, SELF_TEST_SIZE, SELF_TESTS = 2, 24, 21
SELF_TEST_HEAD = (Field("revision", 0, "<H"), Field("index", 508, "<B"))
SELF_TEST = (
    Field("kind", 0, "<B"),
    Field("status", 1, "<B"),
    Field("lifetime_hours", 2, "<H", "h"),
    Field("checkpoint", 4, "<B"),
    Field("lba", 5, "le:4"),
)
# extended self-test log, address 07h (ACS-4, 9.9): 19 descriptors of 26 bytes a page
EXTENDED_SELF_TEST_AT, EXTENDED_SELF_TEST_SIZE, EXTENDED_SELF_TESTS = 4, 26, 19
EXTENDED_SELF_TEST_HEAD = (Field("revision", 0, "<B"), Field("index", 2, "<H"))
EXTENDED_SELF_TEST = (
    Field("kind", 0, "<B"),
    Field("status", 1, "<B"),
    Field("lifetime_hours", 2, "<H", "h"),
    Field("checkpoint", 4, "<B"),
    Field("lba", 5, "le:6"),
)
# subcommand that started it (ACS-2, table 62)
SELF_TEST_KINDS = {
    0: "offline collection",
    1: "short",
    2: "long",
    3: "conveyance",
    4: "selective",
    0x81: "short, captive",
    0x82: "long, captive",
    0x83: "conveyance, captive",
    0x84: "selective, captive",
}

# device statistics, address 04h (ACS-4, 9.5): pages of 512 bytes, statistics of 8 bytes: value of up to 7, then flags
STATISTIC_SIZE, STATISTIC_FLAGS = 8, 7
SUPPORTED, VALID, NORMALIZED, CONDITION_MET = 0x80, 0x40, 0x20, 0x08
# page -> (offset, bytes, name, unit); temperatures are signed
STATISTICS: dict[int, tuple[tuple[int, int, str, str], ...]] = {
    1: (
        (8, 4, "power-on resets", ""),
        (16, 4, "power-on time", "h"),
        (24, 6, "sectors written", "sectors"),
        (32, 6, "write commands", ""),
        (40, 6, "sectors read", "sectors"),
        (48, 6, "read commands", ""),
        (64, 4, "pending errors", ""),
    ),
    3: (
        (8, 4, "spindle on time", "h"),
        (16, 4, "head flying time", "h"),
        (24, 4, "head loads", ""),
        (32, 4, "reallocated sectors", ""),
        (40, 4, "read recovery attempts", ""),
        (48, 4, "mechanical start failures", ""),
        (56, 4, "reallocation candidates", ""),
        (64, 4, "emergency head unloads", ""),
    ),
    4: (
        (8, 4, "reported uncorrectable errors", ""),
        (16, 4, "resets while a command was running", ""),
        (24, 4, "physical element status changes", ""),
    ),
    5: (
        (8, 1, "temperature", "degC"),
        (32, 1, "highest temperature", "degC"),
        (40, 1, "lowest temperature", "degC"),
        (80, 4, "time above the limit", "min"),
        (88, 1, "highest allowed temperature", "degC"),
        (96, 4, "time below the limit", "min"),
        (104, 1, "lowest allowed temperature", "degC"),
    ),
    6: ((8, 4, "hardware resets", ""), (16, 4, "signal recovery events", ""), (24, 4, "interface CRC errors", "")),
    7: ((8, 1, "rated life used", "%"),),
}
STATISTIC_PAGES = {
    0: "list",
    1: "general",
    2: "free fall",
    3: "rotating media",
    4: "errors",
    5: "temperature",
    6: "transport",
    7: "solid state",
}

# log names in a directory (ACS-4, table 214)
LOG_NAMES = {
    0x00: "directory",
    0x01: "summary errors",
    0x02: "comprehensive errors",
    0x03: "extended comprehensive errors",
    0x04: "device statistics",
    0x06: "self-tests",
    0x07: "extended self-tests",
    0x08: "power conditions",
    0x09: "selective self-test",
    0x0C: "pending defects",
    0x10: "queued command errors",
    0x11: "SATA link events",
    0x30: "identify data",
}

NVME_ERROR_SIZE = 64
NVME_ERROR = (  # NVM Express 1.4, figure 193
    Field("error_count", 0, "<Q"), Field("queue", 8, "<H"), Field("command_id", 10, "<H"), Field("status", 12, "<H"),
    Field("parameter", 14, "<H"), Field("lba", 16, "<Q"), Field("namespace", 24, "<I"),
)  # fmt: skip
# status code type 2, media and data integrity errors (NVM Express 1.4, figure 130)
NVME_MEDIA_STATUS = {
    0x80: "write fault",
    0x81: "unrecovered read error",
    0x82: "guard check failed",
    0x83: "application tag check failed",
    0x84: "reference tag check failed",
    0x85: "compare failure",
    0x86: "access denied",
    0x87: "deallocated block",
}
NVME_STATUS_TYPES = {0: "generic", 1: "command specific", 2: "media", 3: "path", 7: "maker's own"}
NVME_FIRMWARE_SLOTS = 7  # NVM Express 1.4, figure 196: byte 0 names the active one, 8 characters each from byte 8
NVME_SELF_TEST_AT, NVME_SELF_TEST_SIZE, NVME_SELF_TESTS = 4, 28, 20
NVME_SELF_TEST_LOG = 564
NVME_SELF_TEST_HEAD = (Field("running", 0, "<B"), Field("completion", 1, "<B", "%"))
NVME_SELF_TEST = (  # NVM Express 1.4, figure 199
    Field("status", 0, "<B"),
    Field("segment", 1, "<B"),
    Field("valid", 2, "<B"),
    Field("power_on_hours", 4, "<Q", "h"),
    Field("namespace", 12, "<I"),
    Field("lba", 16, "<Q"),
    Field("status_type", 24, "<B"),
    Field("status_code", 25, "<B"),
)
NVME_SELF_TEST_KINDS = {1: "short", 2: "long", 0xE: "maker's own"}
NVME_SELF_TEST_RESULTS = {
    0: "completed",
    1: "aborted by the host",
    2: "interrupted by a reset",
    3: "ended with the namespace",
    4: "ended by a format",
    5: "fatal error",
    6: "failed: segment unknown",
    7: "failed: segment known",
    8: "aborted",
    9: "ended by a sanitize",
}
