"""Orders of the bench: what they must be cleared for, and only as they may be."""

import base64
import hashlib
import hmac
import json
import re

from .kernel import BOOT_VARIABLE
from .words import number

# what an order must be cleared for: `system` touches no drive, `pages` are answered by the drive's firmware, `sectors`
# are read from the medium,
# `stress` works the whole drive, `write` changes named sectors of it
NEEDED = {
    "look": "system",
    "read": "pages",
    "self-test": "stress",
    "scan": "stress",
    "copy": "copy",
    "sectors": "sectors",
    "mend": "write",
    "entry": "write",
    "volume": "sectors",
    "rescue": "copy",
    "fill": "write",
}
WRITES = ("mend", "entry", "fill")  # orders that change something on this machine
MOST_ROUNDS, MOST_RANGES = 200, 64  # of sectors that the bench asks for in one order, at a time
MOST_WRITTEN = 3 << 20  # bytes of one mending
WORDS_OF = {
    "look": "Looking at the machine:",
    "read": "Reading:",
    "self-test": "Self-test:",
    "scan": "Timed read:",
    "copy": "Copying:",
    "sectors": "Sectors:",
    "mend": "Mending:",
    "entry": "Boot entry:",
    "fill": "Filling:",
}


def validated_orders(orders):
    """The orders that are such: texts, none too long, of a kind that this program knows."""
    found = []
    for order in orders if isinstance(orders, list) else []:
        if not isinstance(order, dict) or not isinstance(order.get("order"), str) or order["order"] not in NEEDED:
            continue
        texts = {name: order.get(name) for name in ("id", "order", "device", "drive", "kind")}
        if not all(
            value is None or (isinstance(value, str) and len(value) <= 200) for value in texts.values()
        ) or not re.match(r"\w{1,40}$", texts["id"] or ""):
            continue
        if texts["order"] in (
            "self-test",
            "scan",
            "copy",
            "sectors",
            "mend",
            "volume",
            "rescue",
            "fill",
        ) and not re.match(r"\w{1,40}$", texts["device"] or ""):
            continue
        if texts["order"] == "self-test" and texts["kind"] not in ("short", "long", "conveyance"):
            continue
        if texts["order"] == "mend":
            texts["writes"] = order.get("writes")
            if sane_writes(texts["writes"]) is None:
                continue
        if texts["order"] == "entry":
            texts["writes"] = order.get("writes")
            if sane_variables(texts["writes"]) is None:
                continue
        if texts["order"] == "fill":
            texts["copy"], texts["size"] = order.get("copy"), number(order.get("size"), 0, 1 << 60)
            if not isinstance(texts["copy"], str) or not re.match(r"\d{1,20}$", texts["copy"]) or not texts["size"]:
                continue
        if texts["order"] in ("sectors", "mend", "volume", "rescue", "fill"):
            texts["disk"] = order.get("disk")
            if not isinstance(texts["disk"], str) or not re.match(r"\w{1,40}$", texts["disk"]):
                continue
        texts["identity"] = sane_identity(order.get("identity"))
        numbers = {name: number(order.get(name), 0, 1 << 48) for name in ("minutes", "hot", "first", "end")}
        marks = order.get("clearances")
        marks = (
            {k: v for k, v in marks.items() if isinstance(k, str) and isinstance(v, str) and v.isascii()}
            if isinstance(marks, dict)
            else {}
        )
        found.append(
            dict(
                {name: value for name, value in texts.items() if value is not None},
                clearances=marks,
                **{name: value for name, value in numbers.items() if value},
            )
        )
    return found[:50]


def sane_identity(told):
    """What the bench knows of the drive besides the name it is found by; None where that is nothing, or no such
    thing."""
    if not isinstance(told, dict):
        return None
    found: "dict[str, object]" = {
        name: told[name]
        for name in ("serial", "wwn", "model")
        if isinstance(told.get(name), str) and len(told[name]) <= 200
    }
    if number(told.get("size"), 0, 1 << 62):
        found["size"] = told["size"]
    return found or None


def sane_writes(writes):
    """(byte, what stands there, what is to stand there) of each write of a mending; None where they are none: whole
    bytes of equal length, in all no more than is mended at once."""
    found = []
    if not isinstance(writes, list) or not 0 < len(writes) <= 4096:
        return None
    for one in writes:
        try:
            at, before, after = (
                one["at"],
                base64.b64decode(one["before"], validate=True),
                base64.b64decode(one["after"], validate=True),
            )
        except (TypeError, KeyError, ValueError):
            return None
        if (
            not isinstance(at, int)
            or isinstance(at, bool)
            or not 0 <= at < 1 << 62
            or not after
            or len(before) != len(after)
        ):
            return None
        found.append((at, before, after))
    return found if sum(len(after) for _, _, after in found) <= MOST_WRITTEN else None


def sane_variables(writes):
    """(name, bytes that stand there, bytes that are to) of each variable of an order `entry`, None where there are
    none; None for anything but boot entries and their order."""
    found = []
    if not isinstance(writes, list) or not 0 < len(writes) <= 4:
        return None
    for one in writes:
        try:
            name, raw = (
                one["name"],
                [
                    None if one[side] is None else base64.b64decode(one[side], validate=True)
                    for side in ("before", "after")
                ],
            )
        except (TypeError, KeyError, ValueError):
            return None
        if (
            not isinstance(name, str)
            or not BOOT_VARIABLE.match(name)
            or any(side is not None and not 4 < len(side) <= 4096 for side in raw)
        ):
            return None
        found.append((name, raw[0], raw[1]))
    return found


def writes_sum(writes: "list[dict[str, object]]") -> str:
    """What the clearance of a mending is made out for: just these bytes at just these places."""
    return hashlib.sha256(
        json.dumps([[w.get("at", w.get("name")), w["before"], w["after"]] for w in writes]).encode()
    ).hexdigest()


def clearance(secret: str, order_id: str, order: str, device: str, what: str) -> str:
    """The mark of a clearance: HMAC-SHA-256 over the order it is for; `device`: the drive's serial number where the
    order names it (docs/link-protocol.md)."""
    return hmac.new(
        secret.encode(), ("%s|%s|%s|%s" % (order_id, order, device, what)).encode(), hashlib.sha256
    ).hexdigest()
