"""Pages of a SCSI drive (SPC-4, SBC-3, SAT-4)."""

from .ata import ata_jobs
from .base import PageRead, Refused
from .commands import CHECK_CONDITION, sense_of

LOG_BYTES = 4096  # of one SCSI log page
TELLING_LOGS = (0x02, 0x03, 0x05, 0x0D, 0x10, 0x11, 0x15, 0x2F)


def scsi_page(machine, device, command, length, least=4):
    """Data of one SCSI command that reads a page."""
    status, sense, data = machine.scsi(device, bytes(command), length)
    if status not in (0, CHECK_CONDITION):
        raise Refused("SCSI status %02Xh" % status)
    key, code, qualifier = sense_of(sense)
    if key not in (0, 1):
        raise Refused("sense %X/%02X/%02X" % (key, code, qualifier))
    if len(data) < least:
        raise Refused("%d of %d bytes" % (len(data), least))
    return data


def scsi_jobs(machine, name):
    """INQUIRY, and what it and the lists of vital product data and log pages announce."""

    def job(path, kind, how, command, length, then=None):
        return PageRead(
            name + "/" + path, kind, name, how, lambda: scsi_page(machine, name, command, length), then=then
        )

    def vital(page, length):
        return job(
            "vpd-%02x.bin" % page,
            "scsi-vpd-%02x" % page,
            "INQUIRY, page %02Xh" % page,
            [0x12, 1, page, length >> 8, length & 0xFF, 0],
            length,
        )

    def log(page, then=None):
        return job(
            "scsi-log-%02x.bin" % page,
            "scsi-log-%02x" % page,
            "LOG SENSE %02Xh" % page,
            [0x4D, 0, 0x40 | page, 0, 0, 0, 0, LOG_BYTES >> 8, LOG_BYTES & 0xFF, 0],
            LOG_BYTES,
            then,
        )

    def inquired(standard):
        if len(standard) < 36 or standard[0] & 0x1F not in (0x00, 0x0E, 0x14):  # direct access, simplified, zoned
            return []
        return [
            job(
                "vpd-00.bin",
                "scsi-vpd-00",
                "INQUIRY, page 00h",
                [0x12, 1, 0, 0, 252, 0],
                252,
                then=lambda told: vitals(told, standard[8:16] == b"ATA     "),
            ),
            job(
                "capacity.bin",
                "scsi-capacity",
                "READ CAPACITY (16)",
                [0x9E, 0x10, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 32, 0, 0],
                32,
            ),
        ]

    def vitals(told, is_ata):
        pages = told[4 : 4 + (told[2] << 8 | told[3])] if len(told) >= 4 else b""
        jobs = [
            vital(page, length) for page, length in ((0x80, 252), (0x83, 1020), (0xB0, 64), (0xB1, 64)) if page in pages
        ]
        if is_ata or 0x89 in pages:  # SAT-4, 10.4.3: ATA information, so an ATA drive stands behind it
            return jobs + ata_jobs(machine, name)
        return jobs + [
            log(
                0,
                then=lambda listed: (
                    [log(page) for page in listed[4 : 4 + (listed[2] << 8 | listed[3])] if page in TELLING_LOGS]
                    if len(listed) >= 4
                    else []
                ),
            )
        ]

    return [job("inquiry.bin", "scsi-inquiry", "INQUIRY", [0x12, 0, 0, 0, 96, 0], 96, then=inquired)]
