"""Who a drive is, by what it tells of itself."""

import re

from .ata import ata_page
from .base import Refused, describe
from .drive_pages import drive_of
from .nvme import nvme_page
from .words import plain


class Identity:
    """Who a drive is: `ids`, its serial number and world wide names as they are compared; `models`; `size` in bytes, 0
    where nobody told it."""

    def __init__(self, ids, models=(), size=0):
        self.ids, self.models, self.size = (
            {text for text in ids if text.strip("0")},
            {text for text in models if text},
            size,
        )

    @classmethod
    def of(cls, machine, block, through=None, size=0, run=None):
        """As the kernel tells it of a block device, and as the drive itself does. `through`: an open descriptor to ask
        it by, in place of its name. `run`: what a call to the drive is made by, that may hang; (status, detail,
        bytes)."""
        told = describe(block)
        ids = {
            plain(told.get(name, ""))
            for name in ("device/serial", "serial", "device/vpd_pg80", "device/wwid", "wwid", "device/cid")
        }
        models = {plain(told.get(name, "")) for name in ("device/model", "device/name")}
        count = told.get("size", "")
        asked = through if through is not None else drive_of(block)

        def answer(call):
            try:
                status, _, data = run(call) if run else ("ok", "", call())
            except (Refused, OSError):
                return b""
            return data if status == "ok" else b""

        if block.name.startswith("sd") and (block.bus in ("ata", "usb")):
            data = answer(lambda: ata_page(machine, asked, 0xEC))
            if len(data) == 512:
                ids.add(plain("".join(chr(data[at ^ 1]) for at in range(20, 40))))
                ids.add("".join("%02x" % data[at ^ 1] for at in range(216, 224)))
                models.add(plain("".join(chr(data[at ^ 1]) for at in range(54, 94))))
        elif block.bus == "nvme" and not ids - {""}:
            data = answer(lambda: nvme_page(machine, asked, 0x06, 0, [1], 4096))
            if len(data) == 4096:
                ids.add(plain(data[4:24].decode("latin-1")))
                models.add(plain(data[24:64].decode("latin-1")))
        return cls(ids, models, size or (int(count) * 512 if count.isdigit() else 0))

    def fits(self, order):
        """Is this the drive of that order? Why not, where it is not; empty where it is. What the drive does not tell is
        not held against it, but who it is it has to tell."""
        wanted = order.get("identity") or {}
        drive = plain(order.get("drive") or "")
        if not drive or drive not in self.ids:
            return "expected the drive %s, got %s" % (
                order.get("drive") or "with a serial number",
                "one that says %s" % " and ".join(sorted(self.ids)) if self.ids else "one that does not say who it is",
            )
        serial, wwn = plain(wanted.get("serial") or ""), plain(wanted.get("wwn") or "")
        said = " and ".join(sorted(self.ids))
        if serial.strip("0") and serial not in self.ids:
            return "expected the drive whose serial number is %s, got one that says %s" % (wanted["serial"], said)
        if (
            wwn.strip("0")
            and wwn not in self.ids
            and any(re.match(r"[0-9a-f]{16}$", text) and text != serial for text in self.ids)
        ):
            return "expected the drive whose world wide name is %s, got one that says %s" % (wanted["wwn"], said)
        model = plain(wanted.get("model") or "")
        if model and self.models and not any(model in text or text in model for text in self.models):
            return "expected a %s, got %s" % (wanted["model"], " or ".join(sorted(self.models)))
        size = wanted.get("size")
        if size and self.size and size != self.size:
            return "expected a drive of %d bytes, got one of %d" % (size, self.size)
        return ""
