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
    "look": "Firmware:",
    "read": "Reading:",
    "self-test": "Self-test:",
    "scan": "Surface scan:",
    "copy": "Imaging:",
    "sectors": "Sectors:",
    "mend": "Boot repair:",
    "entry": "Boot entry:",
    "fill": "Restore:",
}


def validated_orders(orders):
    """The orders that are such: texts, none too long, of a kind that this program knows, with what it needs."""
    found = []
    for order in orders if isinstance(orders, list) else []:
        if not isinstance(order, dict) or not isinstance(order.get("order"), str) or order["order"] not in NEEDED:
            continue
        texts = {name: order.get(name) for name in ("id", "order", "device", "drive", "kind")}
        if not all(value is None or (isinstance(value, str) and len(value) <= 200) for value in texts.values()):
            continue
        carried = dict(texts)
        for name, rule in (("id", _word), *_CARRIES.get(str(texts["order"]), ())):
            carried[name] = rule(order.get(name))
            if carried[name] is None:
                break
        else:
            found.append(_made_plain(order, carried))
    return found[:50]


def _word(value):
    return value if isinstance(value, str) and re.match(r"\w{1,40}$", value) else None


def _test(value):
    return value if value in ("short", "long", "conveyance") else None


def _copy(value):
    return value if isinstance(value, str) and re.match(r"\d{1,20}$", value) else None


def _size(value):
    return number(value, 0, 1 << 60) or None


def _writes(value):
    return None if sane_writes(value) is None else value


def _variables(value):
    return None if sane_variables(value) is None else value


# what each kind of order has to carry besides its number, and the rule that lets it through; None: not as it may be
_CARRIES = {
    "self-test": (("device", _word), ("kind", _test)),
    "scan": (("device", _word),),
    "copy": (("device", _word),),
    "sectors": (("device", _word), ("disk", _word)),
    "mend": (("device", _word), ("writes", _writes), ("disk", _word)),
    "entry": (("writes", _variables),),
    "volume": (("device", _word), ("disk", _word)),
    "rescue": (("device", _word), ("disk", _word)),
    "fill": (("device", _word), ("copy", _copy), ("size", _size), ("disk", _word)),
}


def _made_plain(order, carried):
    """With what any order may have besides: who its drive is, numbers, clearances; what is not as it may be is left
    out."""
    marks = order.get("clearances")
    marks = marks if isinstance(marks, dict) else {}
    numbers = {name: number(order.get(name), 0, 1 << 48) for name in ("minutes", "hot", "first", "end")}
    plain = dict(carried, identity=sane_identity(order.get("identity")))
    return dict(
        {name: value for name, value in plain.items() if value is not None},
        clearances={k: v for k, v in marks.items() if isinstance(k, str) and isinstance(v, str) and v.isascii()},
        **{name: value for name, value in numbers.items() if value},
    )


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
