"""Pages of an NVMe drive (NVM Express 1.4)."""

import struct

from .ata import log_words
from .base import PageRead, Refused

MOST_NAMESPACES = 16


def nvme_page(machine, device, opcode, namespace, words, length):
    status, data = machine.nvme(device, opcode, namespace, words, length)
    if status:
        raise Refused("NVMe status %04Xh" % status)
    return data


def nvme_jobs(machine, controller, namespaces=()):
    """Identify Controller, and what it announces. `namespaces`: numbers of those that the kernel has made a device
    of."""

    def page(path, kind, how, opcode, namespace, words, length, then=None):
        return PageRead(
            controller + "/" + path,
            kind,
            controller,
            how,
            lambda: nvme_page(machine, controller, opcode, namespace, words, length),
            then=then,
        )

    def log(number, kind, length):
        return page(
            "log-%02X.bin" % number,
            kind,
            "Get Log Page %02Xh" % number,
            2,
            0xFFFFFFFF,
            log_words(number, length),
            length,
        )

    def identified(numbers):
        return [
            page(
                "id-ns.bin" if place == 0 else "id-ns-%d.bin" % number,
                "nvme-namespace",
                "Identify, CNS 00h, namespace %d" % number,
                6,
                number,
                [0],
                4096,
            )
            for place, number in enumerate(sorted(numbers)[:MOST_NAMESPACES])
        ]

    def named(told):
        numbers = [n for n in struct.unpack("<%dI" % (len(told) // 4), told) if n] if told else []
        return identified(numbers or namespaces or [1])

    def announced(controller_page):
        if len(controller_page) < 4096:
            return identified(namespaces or [1]) + [log(2, "nvme-health", 512)]
        version = struct.unpack_from("<I", controller_page, 80)[0]
        errors = 64 * min(controller_page[262] + 1, 64)
        lists = (
            [page("ns-list.bin", "nvme-namespaces", "Identify, CNS 02h", 6, 0, [2], 4096, then=named)]
            if version >= 0x10100
            else identified(namespaces or [1])
        )
        tests = [log(6, "nvme-self-tests", 564)] if controller_page[256] & 0x10 else []  # OACS, NVMe 1.4 figure 247
        return lists + [log(2, "nvme-health", 512), log(1, "nvme-errors", errors), log(3, "nvme-firmware", 512)] + tests

    return [page("id-ctrl.bin", "nvme-controller", "Identify, CNS 01h", 6, 0, [1], 4096, then=announced)]


def self_test_log_job(machine, controller):
    return PageRead(
        controller + "/log-06.bin",
        "nvme-self-tests",
        controller,
        "Get Log Page 06h",
        lambda: nvme_page(machine, controller, 2, 0xFFFFFFFF, log_words(6, 564), 564),
    )
