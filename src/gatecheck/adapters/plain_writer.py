"""Writing what is inside an encrypted volume to a file: resumed where it was interrupted, and read back.

Beside the file stands, until it is whole, a list of what was written: the volume's id, its size, and SHA-256 of each
part. The list is on disk only after the parts that it names."""

from __future__ import annotations

import contextlib
import hashlib
import json
import os
import stat
from dataclasses import dataclass
from pathlib import Path

from gatecheck.adapters.durable_file import sync_folder, write_durably
from gatecheck.core.disk.sectors import Sectors
from gatecheck.core.errors import InputError

_PART, _KEPT_EACH = 4 << 20, 32


@dataclass(frozen=True, slots=True)
class Written:
    """`bytes` in the file, `resumed` of them from before; `missing`: sectors of the inside that could not be read."""

    bytes: int
    resumed: int
    missing: list[int]


def write_plain(inside: Sectors, id: str, out: Path, *, image: str) -> Written:
    """Raises InputError where the name is taken, is the image itself, or what was written does not read back."""
    length, sector = inside.length or 0, inside.sector
    size, beside = length * sector, out.with_name(f"{out.name}.gatecheck-part")
    _refuse(out, image)
    state = {"id": id, "size": size, "sums": [], "missing": []}
    if out.exists():
        state = _earlier(out, beside, id, size)
    sums, missing = list(state["sums"]), list(state["missing"])  # type: ignore[call-overload]
    resumed = min(size, len(sums) * _PART)
    try:
        with open(os.open(out, os.O_RDWR | os.O_CREAT, 0o600), "r+b") as file:
            file.truncate(size)
            for place in range(len(sums), -(-size // _PART)):
                first = place * _PART // sector
                span = inside.read(first, min(_PART // sector, length - first))
                missing += sorted(span.missing)
                file.seek(first * sector)
                file.write(span.data)
                sums.append(hashlib.sha256(span.data).hexdigest())
                if len(sums) % _KEPT_EACH == 0:
                    _keep(file.fileno(), beside, id, size, sums, missing, file.flush)
            _keep(file.fileno(), beside, id, size, sums, missing, file.flush)
            with contextlib.suppress(OSError):  # read from the disk, not from memory
                os.posix_fadvise(file.fileno(), 0, 0, os.POSIX_FADV_DONTNEED)
            for place, right in enumerate(sums):
                if hashlib.sha256(os.pread(file.fileno(), _PART, place * _PART)).hexdigest() != right:
                    write_durably(beside, _body(id, size, sums[:place], missing))
                    raise InputError(
                        f"--to {out}: expected what was written, got other bytes from {place * _PART} on as it was "
                        f"read back; the same order goes on there"
                    )
    except OSError as error:
        raise InputError(f"--to {out}: expected a file that can be written, got {error.strerror}") from error
    beside.unlink(missing_ok=True)
    sync_folder(out.parent)
    return Written(size, resumed, missing)


def _refuse(out: Path, image: str) -> None:
    if not out.parent.is_dir():
        raise InputError(f"--to {out}: expected a folder that is there, got {out.parent}")
    if out.exists():
        if not stat.S_ISREG(out.stat().st_mode):
            raise InputError(f"--to {out}: expected a file, got something else")
        if os.path.samefile(out, image):
            raise InputError(f"--to {out}: expected another file than the image")


def _earlier(out: Path, beside: Path, id: str, size: int) -> dict[str, object]:
    try:
        state = json.loads(beside.read_bytes())
        fits = state["id"] == id and state["size"] == size and out.stat().st_size == size
        fits = fits and isinstance(state["sums"], list) and isinstance(state["missing"], list)
    except (OSError, ValueError, KeyError, TypeError):
        fits = False
    if not fits:
        raise InputError(f"--to {out}: expected a name that is free, or one that this volume was being written to")
    return dict(state)


def _body(id: str, size: int, sums: list[str], missing: list[int]) -> bytes:
    return json.dumps({"id": id, "size": size, "sums": sums, "missing": missing}).encode()


def _keep(
    descriptor: int, beside: Path, id: str, size: int, sums: list[str], missing: list[int], flush: object
) -> None:
    flush()  # type: ignore[operator]
    os.fsync(descriptor)
    write_durably(beside, _body(id, size, sums, missing))
