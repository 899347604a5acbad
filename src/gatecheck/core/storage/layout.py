"""Field tables of the drive pages read so far, in the standards' own order and names. No logic.

ATA: T13 ACS-4 (INCITS 529), IDENTIFY DEVICE 7.13, SMART READ DATA A.x (obsolete SFF-8035i layout of the vendor area,
used by every drive that has SMART attributes). NVMe: NVM Express Base Specification 1.4.
"""

from __future__ import annotations

from gatecheck.core.fields import Field

SECTOR = 512
NVME_PAGE = 4096


def _word(number: int) -> int:
    return number * 2


ATA_IDENTIFY = (  # ACS-4, 7.13.6, table 55
    Field("general_configuration", _word(0), "<H"),
    Field("serial", _word(10), "swapped:20"),
    Field("firmware", _word(23), "swapped:8"),
    Field("model", _word(27), "swapped:40"),
    Field("capabilities", _word(49), "<H"),
    Field("sectors_28bit", _word(60), "<I", "sectors"),
    Field("additional_supported", _word(69), "<H"),
    Field("sata_capabilities", _word(76), "<H"),
    Field("sata_negotiated", _word(77), "<H"),
    Field("major_version", _word(80), "<H"),
    Field("command_set_1", _word(82), "<H"),
    Field("command_set_2", _word(83), "<H"),
    Field("command_set_ext", _word(84), "<H"),
    Field("enabled_1", _word(85), "<H"),
    Field("enabled_2", _word(86), "<H"),
    Field("sectors_48bit", _word(100), "<Q", "sectors"),
    Field("sector_size_word", _word(106), "<H"),
    Field("wwn_raw", _word(108), "raw:8"),
    Field("logical_sector_words", _word(117), "<I", "words"),
    Field("security_status", _word(128), "<H"),
    Field("form_factor", _word(168), "<H"),
    Field("trim_support", _word(169), "<H"),
    Field("rotation_rate", _word(217), "<H", "rpm"),
    Field("transport_major", _word(222), "<H"),
    Field("integrity_signature", _word(255), "<B"),
)

# word 168, bits 3:0 (ACS-4, table 55)
FORM_FACTORS = {1: "5.25 inch", 2: "3.5 inch", 3: "2.5 inch", 4: "1.8 inch", 5: "below 1.8 inch", 6: "mSATA", 7: "M.2"}
# word 77, bits 3:1 (ACS-4, table 55)
SATA_SPEEDS = {1: "1.5 Gb/s", 2: "3.0 Gb/s", 3: "6.0 Gb/s"}

# word 222 where bits 15:12 are 1 (ACS-4, table 55)
SATA_VERSIONS = {
    0: "ATA8-AST",
    1: "SATA 1.0a",
    2: "SATA II",
    3: "SATA 2.5",
    4: "SATA 2.6",
    5: "SATA 3.0",
    6: "SATA 3.1",
    7: "SATA 3.2",
    8: "SATA 3.3",
}
# (word by name, bit, what): features that matter on a bench (ACS-4, table 55)
FEATURES = (
    ("command_set_1", 0, "SMART"),
    ("command_set_ext", 0, "SMART error log"),
    ("command_set_ext", 1, "SMART self-test"),
    ("command_set_ext", 5, "general purpose logging"),
    ("command_set_1", 1, "security"),
    ("command_set_2", 10, "48-bit addresses"),
    ("sata_capabilities", 8, "queued commands"),
    ("enabled_1", 5, "write cache on"),
    ("command_set_1", 10, "host protected area"),
    ("command_set_2", 3, "advanced power management"),
    ("trim_support", 0, "trim"),
)

SMART_ENTRY_COUNT, SMART_ENTRY_SIZE, SMART_FIRST_ENTRY = 30, 12, 2
SMART_ENTRY = (  # SFF-8035i rev. 2.0, 5.x: 12 bytes each, 30 of them from byte 2
    Field("id", 0, "<B"),
    Field("flags", 1, "<H"),
    Field("now", 3, "<B"),
    Field("worst", 4, "<B"),
    Field("raw", 5, "le:6"),
)
SMART_TAIL = (  # ACS-2, 7.52.6.2, table 93: bytes 362 to 510
    Field("offline_status", 362, "<B"),
    Field("self_test_status", 363, "<B"),
    Field("offline_seconds", 364, "<H", "s"),
    Field("offline_capability", 367, "<B"),
    Field("smart_capability", 368, "<H"),
    Field("error_logging", 370, "<B"),
    Field("short_test_minutes", 372, "<B", "min"),
    Field("long_test_minutes", 373, "<B", "min"),
    Field("conveyance_test_minutes", 374, "<B", "min"),
    Field("long_test_minutes_word", 375, "<H", "min"),
)
SMART_THRESHOLD = (Field("id", 0, "<B"), Field("threshold", 1, "<B"))

# high nibble of self_test_status (ACS-2, table 95)
SELF_TEST_RESULTS = {
    0: "completed",
    1: "aborted by the host",
    2: "interrupted by a reset",
    3: "fatal error",
    4: "failed: unknown element",
    5: "failed: electrical",
    6: "failed: servo or seek",
    7: "failed: read",
    8: "failed: handling damage",
    15: "running",
}

ATA_STATUS_DESCRIPTOR = 0x09  # SAT-4, 12.2.2.7: ATA status return descriptor, 14 bytes
SENSE_DESCRIPTOR, SENSE_FIXED = (0x72, 0x73), (0x70, 0x71)  # SPC-4, 4.5
SENSE_KEYS = {
    0: "no sense",
    1: "recovered",
    2: "not ready",
    3: "medium error",
    4: "hardware error",
    5: "illegal request",
    6: "unit attention",
    11: "aborted",
}

NVME_CONTROLLER = (  # NVM Express 1.4, figure 247
    Field("pci_vendor", 0, "<H"),
    Field("serial", 4, "ascii:20"),
    Field("model", 24, "ascii:40"),
    Field("firmware", 64, "ascii:8"),
    Field("ieee_oui", 73, "le:3"),
    Field("max_transfer", 77, "<B"),
    Field("controller_id", 78, "<H"),
    Field("version", 80, "<I"),
    Field("admin_commands", 256, "<H"),
    Field("firmware_updates", 260, "<B"),
    Field("log_page_attributes", 261, "<B"),
    Field("error_log_entries", 262, "<B"),
    Field("warning_temperature", 266, "<H", "K"),
    Field("critical_temperature", 268, "<H", "K"),
    Field("capacity_bytes", 280, "le:16", "B"),
    Field("long_test_minutes", 316, "<H", "min"),
    Field("namespaces", 516, "<I"),
)
NVME_NAMESPACE = (  # NVM Express 1.4, figure 245
    Field("size_blocks", 0, "<Q", "blocks"),
    Field("capacity_blocks", 8, "<Q", "blocks"),
    Field("used_blocks", 16, "<Q", "blocks"),
    Field("formats", 25, "<B"),
    Field("format_now", 26, "<B"),
)
NVME_HEALTH = (  # NVM Express 1.4, figure 194
    Field("critical_warning", 0, "<B"),
    Field("temperature", 1, "<H", "K"),
    Field("spare", 3, "<B", "%"),
    Field("spare_threshold", 4, "<B", "%"),
    Field("used", 5, "<B", "%"),
    Field("units_read", 32, "le:16", "1000 x 512 B"),
    Field("units_written", 48, "le:16", "1000 x 512 B"),
    Field("read_commands", 64, "le:16"),
    Field("write_commands", 80, "le:16"),
    Field("busy_minutes", 96, "le:16", "min"),
    Field("power_cycles", 112, "le:16"),
    Field("power_on_hours", 128, "le:16", "h"),
    Field("unsafe_shutdowns", 144, "le:16"),
    Field("media_errors", 160, "le:16"),
    Field("error_log_count", 176, "le:16"),
    Field("warning_minutes", 192, "<I", "min"),
    Field("critical_minutes", 196, "<I", "min"),
)
# critical_warning bits (NVM Express 1.4, figure 194)
NVME_WARNINGS = {
    0: "spare blocks below the threshold", 1: "temperature out of range", 2: "reliability degraded by media errors",
    3: "read-only", 4: "backup power failed", 5: "persistent memory region unreliable",
}  # fmt: skip
