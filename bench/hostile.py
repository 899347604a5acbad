"""What the worst uploads cost: time and memory of keeping, decoding and showing them, beside an ordinary capture in the
same run.

Each is as large as a capture may be. `wanted: under 2 s and 200 MB, or refused`.
"""

from __future__ import annotations

import io
import json
import os
import resource
import struct
import subprocess
import sys
import tempfile
import time
import zipfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1] / "tests"))

GLOBAL = "8be4df61-93ca-11d2-aa0d-00e098032b8c"
MIB4 = 4 << 20


def packed(pages: dict[str, bytes]) -> bytes:
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_STORED) as archive:
        for path, data in pages.items():
            archive.writestr(path, data)
    return buffer.getvalue()


def ordinary() -> bytes:
    from practised import capture_of

    return capture_of("growing")


def logs() -> bytes:
    from gatecheck.core.storage import encode_logs
    from gatecheck.core.storage.encode_logs import AtaError

    page = bytes(encode_logs.extended_errors([AtaError(31_239 - i, 777 + i) for i in range(4)])) * (MIB4 // 512)
    return packed({f"sd{chr(97 + n)}/gp-log-03.bin": page for n in range(4)})


def messages() -> bytes:
    line = (
        b"[ 1.0] critical medium error, dev sda, sector %d GPT: Primary EXT4-fs error ata1: BadCRC mce: [Hardware "
        b"Error] AER: error\n"
    )
    page = b"".join(line % n for n in range(40_000))[:MIB4]
    return packed({f"dmesg{n}.txt": page for n in range(4)})


def variables() -> bytes:
    node = struct.pack("<BBH", 4, 4, 8) + b"a\0\0\0"
    option = bytes(4) + struct.pack("<IH", 1, 60_000) + "x".encode("utf-16-le") + b"\0\0" + node * 7500
    return packed({f"efivars/Boot{n:04X}-{GLOBAL}": option for n in range(330)})


def random_disks() -> bytes:
    return packed({f"sd{chr(97 + n)}/lba0-8191.bin": os.urandom(MIB4) for n in range(4)})


def texts() -> bytes:
    return packed({f"sysblock/sd{chr(97 + n)}.txt": b"a=b\n" * (MIB4 // 4) for n in range(4)})


def many() -> bytes:
    return packed({f"d{n}/identify.bin": bytes([64]) + os.urandom(511) for n in range(1999)})


CASES: dict[str, Callable[[], bytes]] = {
    "an ordinary capture": ordinary,
    "4 error logs of 4 MiB": logs,
    "4 times 4 MiB of messages": messages,
    "330 boot entries of 60 KB": variables,
    "4 disks of noise": random_disks,
    "4 times a million facts": texts,
    "1999 drives": many,
}


def measure(name: str) -> None:
    """In a process of its own: one upload, and two views of it."""
    from fastapi.testclient import TestClient

    from gatecheck.server.app import create_app
    from gatecheck.server.services import open_services
    from serving import HERE, ME

    data = CASES[name]()
    with tempfile.TemporaryDirectory() as folder:
        client = TestClient(
            create_app(open_services(Path(folder))), base_url=HERE, client=ME, raise_server_exceptions=False
        )
        number = client.post("/api/tickets", json={"customer": "x", "machine": "x", "by": "KT"}).json()["id"]
        before = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
        began = time.perf_counter()
        answer = client.post(f"/api/tickets/{number}/files", files={"file": ("x.gcap", data)}, data={"by": "KT"})
        kept = time.perf_counter() - began
        views = []
        for _ in range(2):
            began = time.perf_counter()
            client.get(f"/api/tickets/{number}/captures")
            views.append(time.perf_counter() - began)
        more = (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before) / 1024
    print(json.dumps([answer.status_code, kept, views[0], views[1], more, len(data)]))


def main() -> int:
    if len(sys.argv) > 1:
        measure(sys.argv[1])
        return 0
    first = 0.0
    print(
        f"{'upload':<30}{'size':>9}{'status':>8}{'kept in':>10}"
        f"{'shown in':>10}{'again':>9}{'memory':>10}{'of an ordinary one':>20}"
    )
    for name in CASES:
        done = subprocess.run([sys.executable, __file__, name], capture_output=True, text=True, check=True, timeout=300)
        status, kept, view, again, more, size = json.loads(done.stdout.splitlines()[-1])
        first = first or kept
        print(
            f"{name:<30}{size / 1e6:>6.1f} MB{status:>8}{kept:>8.2f} s{view:>8.2f} s{again:>7.2f} s{more:>7.0f} "
            f"MB{kept / first:>18.1f}x"
        )
    return 0


if __name__ == "__main__":
    sys.exit(main())
