"""The machine that this runs on: what the kernel tells of it."""

import ctypes
import os
import re

from .settings import LARGEST_PAGE
from .words import hardware_clock, listed, read_text, safe_name

BOOT_VARIABLE = re.compile(r"Boot([0-9A-F]{4}|Order)-8be4df61-93ca-11d2-aa0d-00e098032b8c$")


class KernelFacts:
    """What the kernel tells of the machine."""

    @staticmethod
    def _host_facts(path):
        """What is known of the controller: its driver, a RAID volume's level, the health that a UFS host hands out."""
        lines = []
        host = re.search(r"^.*/host(\d+)/", path)
        if host:
            lines.append("host/proc_name=" + read_text("/sys/class/scsi_host/host%s/proc_name" % host[1]).strip())
        unit = re.search(r"/(\d+:\d+:\d+:\d+)/block/", path)
        level = read_text("/sys/class/raid_devices/%s/level" % unit[1]).strip() if unit else ""
        if level:
            lines.append("raid_devices/level=" + level)
        for descriptor in ("eol_info", "life_time_estimation_a", "life_time_estimation_b"):
            text = (
                read_text((host[0][: host.start(1) - 5] if host else "") + "/health_descriptor/" + descriptor).strip()
                if host
                else ""
            )
            if text:
                lines.append("ufs/%s=%s" % (descriptor, text))
        return lines

    def files(self):
        """Path in the capture -> where it stands here: UEFI variables, SMBIOS, the kernel's command line."""
        found = {}
        folder = "/sys/firmware/efi/efivars"
        for name in sorted(os.listdir(folder)) if os.path.isdir(folder) else []:
            found["efivars/" + safe_name(name)] = folder + "/" + name
        for name in ("DMI", "smbios_entry_point"):
            found["dmi/" + name] = "/sys/firmware/dmi/tables/" + name
        found["cmdline.txt"] = "/proc/cmdline"
        return {path: place for path, place in found.items() if os.path.exists(place)}

    def told(self):
        """Path in the capture -> call: what the kernel knows of the machine, gathered into pages of text."""
        return {"machine.txt": self._state, "pci.txt": self._pci}

    @staticmethod
    def _state():
        """Firmware's tables by name, security chip, memory's error counts, mains and batteries, clock: `name=value` a
        line."""
        lines = []
        folder = "/sys/firmware/acpi/tables"
        tables = (
            sorted(re.sub(r"\d+$", "", name) for name in os.listdir(folder) if len(name) >= 4)
            if os.path.isdir(folder)
            else []
        )
        if tables:
            lines.append(
                "acpi/tables=" + " ".join(name for place, name in enumerate(tables) if name not in tables[:place])
            )
        for name in listed("/sys/class/tpm"):
            lines.append(
                "%s/version=%s" % (name, read_text("/sys/class/tpm/%s/tpm_version_major" % name).strip() or "1")
            )
        for name in listed("/sys/devices/system/edac/mc"):
            for count in ("ce_count", "ue_count"):
                text = read_text("/sys/devices/system/edac/mc/%s/%s" % (name, count)).strip()
                if text:
                    lines.append("edac/%s/%s=%s" % (name, count, text))
        for name in listed("/sys/class/power_supply"):
            for fact in (
                "type",
                "scope",
                "online",
                "present",
                "status",
                "capacity",
                "cycle_count",
                "energy_full",
                "energy_full_design",
                "charge_full",
                "charge_full_design",
            ):
                text = read_text("/sys/class/power_supply/%s/%s" % (name, fact)).strip()
                if text:
                    lines.append("power/%s/%s=%s" % (name, fact, text))
        clock = hardware_clock()
        if clock:
            lines.append("rtc=" + clock)
        return ("\n".join(lines) + "\n").encode()

    @staticmethod
    def _pci():
        """Every PCI function with class, identity and driver, one a line."""
        lines = []
        folder = "/sys/bus/pci/devices/"
        for name in listed(folder):
            facts = [
                "%s=%s" % (fact, read_text(folder + name + "/" + fact).strip()[2:])
                for fact in ("class", "vendor", "device", "subsystem_vendor", "subsystem_device")
            ]
            driver = (
                os.path.basename(os.path.realpath(folder + name + "/driver"))
                if os.path.exists(folder + name + "/driver")
                else ""
            )
            remapped = read_text(folder + name + "/remapped_nvme").strip()
            lines.append(
                " ".join(
                    [name]
                    + facts
                    + (["driver=" + driver] if driver else [])
                    + (["remapped_nvme=" + remapped] if remapped else [])
                )
            )
        return ("\n".join(lines) + "\n").encode()

    def read_file(self, place):
        with open(place, "rb") as file:
            return file.read(LARGEST_PAGE)

    def kernel_messages(self):
        """The kernel's lines about drives."""
        buffer = ctypes.create_string_buffer(1 << 20)
        size = ctypes.CDLL(None, use_errno=True).klogctl(3, buffer, len(buffer))
        if size < 0:
            raise OSError(ctypes.get_errno(), "the kernel's messages may not be read")
        wanted = re.compile(
            rb"\bata\d|nvme|\bsd[a-z]|\bvd[a-z]|\bsr\d|scsi|usb-storage|\buas\b|I/O error|medium "
            rb"error|ahci|blk_|mmc\d|mmcblk|GPT:"
            rb"|EXT4-fs|ntfs3|BTRFS|XFS|FAT-fs|AER:|PCIe Bus Error|mce:|machine check|Hardware Error|EDAC|Memory "
            rb"failure|system clock",
            re.I,
        )
        return b"\n".join(line for line in buffer.raw[:size].split(b"\n") if wanted.search(line))

    def facts(self):
        """What this machine calls itself."""
        dmi = "/sys/class/dmi/id/"
        facts = {
            name: read_text(dmi + name).strip()
            for name in ("sys_vendor", "product_name", "product_serial", "bios_version", "bios_date")
        }
        facts["mode"] = "uefi" if os.path.isdir("/sys/firmware/efi") else "legacy"
        facts["kernel"] = os.uname().release
        facts["machine"] = os.uname().machine
        facts["firmware_bits"] = read_text("/sys/firmware/efi/fw_platform_size").strip()
        facts["rtc"] = hardware_clock()
        return {name: text for name, text in facts.items() if text}


BLOCK_FACTS = (
    "size",
    "removable",
    "ro",
    "queue/rotational",
    "queue/logical_block_size",
    "queue/physical_block_size",
    "device/model",
    "device/vendor",
    "device/rev",
    "device/serial",
    "device/transport",
    "device/wwid",
    "device/vpd_pg80",
    "device/raid_level",
    "nsid",
    "serial",
    "wwid",
    "device/type",
    "device/name",
    "device/cid",
    "device/fwrev",
    "device/manfid",
    "device/date",
    "device/life_time",
    "device/pre_eol_info",
    "hidden",
)
