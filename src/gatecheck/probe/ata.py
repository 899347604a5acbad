"""Pages of an ATA drive (T13 ACS-4): what is asked is what was announced, for a drive logs every command
that it refuses."""

from .base import PageRead, Refused
from .commands import CHECK_CONDITION, NON_DATA, PIO_IN, ata_command_12, ata_command_16, sense_of
from .settings import SECTOR

MOST_LOG_PAGES = 16  # of 512 bytes, of one log


def ata_page(machine, device, command, features=0, count=1, lba=0):
    """One PIO-in page; 16-byte form first, the 12-byte one where the bridge knows only that."""
    length = count * SECTOR
    status, sense, data = machine.scsi(device, ata_command_16(PIO_IN, command, features, count, lba), length)
    key, code, qualifier = sense_of(sense)
    if status == CHECK_CONDITION and key == 5 and lba <= 0xFFFFFFF and count <= 0xFF and command != 0x2F:
        status, sense, data = machine.scsi(device, ata_command_12(PIO_IN, command, features, count, lba), length)
        key, code, qualifier = sense_of(sense)
    if status not in (0, CHECK_CONDITION):
        raise Refused("SCSI status %02Xh" % status)
    if key not in (0, 1):
        raise Refused("sense %X/%02X/%02X" % (key, code, qualifier))
    if len(data) < length:
        raise Refused("%d of %d bytes" % (len(data), length))
    return data


def smart_status(machine, device):
    """Sense data of SMART RETURN STATUS: the answer is in the registers it carries."""
    return machine.scsi(device, ata_command_16(NON_DATA, 0xB0, 0xDA, 0, 0xC24F00, registers=True), 0)[1] or b"\0" * 8


def log_words(log, length):
    dwords = length // 4 - 1
    return [log | (dwords & 0xFFFF) << 16, dwords >> 16]


def ata_jobs(machine, name):
    """IDENTIFY DEVICE, and what it announces."""
    return [
        PageRead(
            name + "/identify.bin",
            "ata-identify",
            name,
            "ATA ECh",
            lambda: ata_page(machine, name, 0xEC),
            then=lambda identity: smart_jobs(machine, name, identity),
        )
    ]


def word_of(identity, number):
    return identity[2 * number] | identity[2 * number + 1] << 8


def smart_jobs(machine, name, identity):
    """SMART pages and logs that IDENTIFY DEVICE announces in words 82 to 87 (ACS-4, 7.13.6.40 ff.); none without it."""
    if len(identity) < 512 or not any(identity):
        return []

    def says(word, bit):
        value = word_of(identity, word)
        return value not in (0, 0xFFFF) and bool(value >> bit & 1)

    jobs = []
    if says(82, 0) and says(85, 0):
        jobs = [
            smart_data_job(
                machine,
                name,
                then=lambda data: logs_of_smart(
                    machine, name, data, says(84, 0) or says(87, 0), says(84, 1) or says(87, 1)
                ),
            ),
            ata_job(machine, name, "smart-thresh.bin", "smart-thresholds", "ATA B0h/D1h", 0xB0, 0xD1, 1, 0xC24F00),
            PageRead(
                name + "/smart-status.bin", "smart-status", name, "ATA B0h/DAh", lambda: smart_status(machine, name)
            ),
        ]
    if says(84, 5) or says(87, 5):
        jobs.append(
            ata_job(
                machine,
                name,
                "gp-log-00.bin",
                "log-directory",
                "ATA 2Fh log 00h",
                0x2F,
                0,
                1,
                0,
                then=lambda told: logs_of_directory(machine, name, told),
            )
        )
    return jobs


def ata_job(machine, name, path, kind, how, *arguments, then=None):
    return PageRead(name + "/" + path, kind, name, how, lambda: ata_page(machine, name, *arguments), then=then)


def smart_data_job(machine, name, then=None):
    return ata_job(machine, name, "smart-data.bin", "smart-data", "ATA B0h/D0h", 0xB0, 0xD0, 1, 0xC24F00, then=then)


def logs_of_smart(machine, name, data, has_errors, has_tests):
    """SMART logs 01h and 06h where IDENTIFY or SMART data (bytes 370 and 367, ACS-2 table 93) says that the drive keeps
    them."""
    jobs = []
    if has_errors or (data[370:371] and data[370] & 1):
        jobs.append(
            ata_job(machine, name, "smart-log-01.bin", "ata-errors", "ATA B0h/D5h log 01h", 0xB0, 0xD5, 1, 0xC24F01)
        )
    if has_tests or (data[367:368] and data[367] & 0x10):
        jobs.append(
            ata_job(machine, name, "smart-log-06.bin", "ata-self-tests", "ATA B0h/D5h log 06h", 0xB0, 0xD5, 1, 0xC24F06)
        )
    return jobs


def logs_of_directory(machine, name, told):
    """The general purpose logs that the directory lists (ACS-4, 9.2)."""
    pages = {number: told[2 * number] | told[2 * number + 1] << 8 for number in (3, 4, 7)} if len(told) == 512 else {}
    jobs = []
    if pages.get(3):
        jobs.append(
            ata_job(
                machine,
                name,
                "gp-log-03.bin",
                "ata-errors-ext",
                "ATA 2Fh log 03h",
                0x2F,
                0,
                min(pages[3], MOST_LOG_PAGES),
                0x03,
            )
        )
    if pages.get(4):
        jobs.append(
            PageRead(
                name + "/gp-log-04.bin",
                "device-statistics",
                name,
                "ATA 2Fh log 04h",
                lambda: statistics_pages(machine, name, pages[4]),
            )
        )
    if pages.get(7):
        jobs.append(
            ata_job(
                machine,
                name,
                "gp-log-07.bin",
                "ata-self-tests-ext",
                "ATA 2Fh log 07h",
                0x2F,
                0,
                min(pages[7], MOST_LOG_PAGES),
                0x07,
            )
        )
    return jobs


def statistics_pages(machine, name, count):
    """The list of statistics pages, then each page that it names."""
    first = ata_page(machine, name, 0x2F, 0, 1, 0x04)
    numbers = [n for n in first[9 : 9 + first[8]] if 0 < n < min(8, count)]
    return first + b"".join(ata_page(machine, name, 0x2F, 0, 1, 0x04 | n << 8) for n in numbers)
