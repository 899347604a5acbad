"""Commands to a drive through the kernel: SG_IO, ATA PASS-THROUGH (T10 SAT-4, 12.2), NVMe admin
commands (NVM Express 1.4, clause 5)."""

import ctypes

# START STOP UNIT (SBC), which SATA's translation (SAT) carries out as STANDBY IMMEDIATE
STOP_UNIT = bytes([0x1B, 0, 0, 0, 0, 0])
SG_IO, NONE, FROM_DEVICE = 0x2285, -1, -3
NVME_ADMIN = 0xC0484E41
ATA_16, ATA_12 = 0x85, 0xA1
NON_DATA, PIO_IN = 3, 4
CHECK_CONDITION = 2


class SgHeader(ctypes.Structure):
    _fields_ = [
        ("interface_id", ctypes.c_int),
        ("dxfer_direction", ctypes.c_int),
        ("cmd_len", ctypes.c_ubyte),
        ("mx_sb_len", ctypes.c_ubyte),
        ("iovec_count", ctypes.c_ushort),
        ("dxfer_len", ctypes.c_uint),
        ("dxferp", ctypes.c_void_p),
        ("cmdp", ctypes.c_void_p),
        ("sbp", ctypes.c_void_p),
        ("timeout", ctypes.c_uint),
        ("flags", ctypes.c_uint),
        ("pack_id", ctypes.c_int),
        ("usr_ptr", ctypes.c_void_p),
        ("status", ctypes.c_ubyte),
        ("masked_status", ctypes.c_ubyte),
        ("msg_status", ctypes.c_ubyte),
        ("sb_len_wr", ctypes.c_ubyte),
        ("host_status", ctypes.c_ushort),
        ("driver_status", ctypes.c_ushort),
        ("resid", ctypes.c_int),
        ("duration", ctypes.c_uint),
        ("info", ctypes.c_uint),
    ]


def sense_of(raw):
    """(key, additional code, qualifier) of fixed or descriptor sense data."""
    code = raw[0] & 0x7F if raw else 0
    if code in (0x72, 0x73) and len(raw) >= 4:
        return raw[1] & 0xF, raw[2], raw[3]
    if code in (0x70, 0x71) and len(raw) >= 14:
        return raw[2] & 0xF, raw[12], raw[13]
    return 0, 0, 0


def ata_command_16(protocol, command, features, count, lba, registers=False):
    """ATA PASS-THROUGH (16), SAT-4 12.2.2.3: the length in the count field; `registers` asks for them back (CK_COND).

    Not for data: kernels report a check condition then that looks like an error although the page is whole.
    """
    has_data = protocol == PIO_IN
    b = [
        ATA_16,
        protocol << 1 | (1 if lba > 0xFFFFFFF or count > 0xFF or command in (0x2F,) else 0),
        (0x0E if has_data else 0) | (0x20 if registers else 0),
    ]
    b += [features >> 8 & 0xFF, features & 0xFF, count >> 8 & 0xFF, count & 0xFF]
    b += [
        lba >> 24 & 0xFF,
        lba & 0xFF,
        lba >> 32 & 0xFF,
        lba >> 8 & 0xFF,
        lba >> 40 & 0xFF,
        lba >> 16 & 0xFF,
        0,
        command,
        0,
    ]
    return bytes(b)


def ata_command_12(protocol, command, features, count, lba):
    """ATA PASS-THROUGH (12), SAT-4 12.2.2.2: 28-bit form."""
    b = [ATA_12, protocol << 1, 0x0E if protocol == PIO_IN else 0, features & 0xFF, count & 0xFF]
    return bytes(b + [lba & 0xFF, lba >> 8 & 0xFF, lba >> 16 & 0xFF, 0, command, 0, 0])
