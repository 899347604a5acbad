"""How fast an encrypted volume is read, as a share of the same library's plain AES-XTS over the same bytes in the same
run. `python bench/locked.py [MIB]`"""

from __future__ import annotations

import os
import sys
import time
from collections.abc import Callable

from cryptography.hazmat.primitives.ciphers import Cipher, algorithms, modes

from gatecheck.core.disk.sectors import Span
from gatecheck.core.locked.ciphers import Cbc, Diffused, Xts, offset_vectors
from gatecheck.core.locked.sectors import CIPHERED, OpenedSectors, Stretch

ROUNDS, WANTED = 5, 0.7


class Held:
    """Bytes in memory as a disk."""

    def __init__(self, raw: bytes) -> None:
        self.raw, self.sector, self.length = raw, 512, len(raw) // 512

    def read(self, lba: int, count: int) -> Span:
        return Span(lba, 512, self.raw[lba * 512 : (lba + count) * 512], {})


def best(work: Callable[[], object]) -> float:
    taken = []
    for _ in range(ROUNDS):
        start = time.perf_counter()
        work()
        taken.append(time.perf_counter() - start)
    return min(taken)


def main() -> None:
    size = (int(sys.argv[1]) if len(sys.argv) > 1 else 64) << 20
    raw, key = os.urandom(size), os.urandom(64)
    disk = Held(raw)
    step = 4 << 20

    def whole() -> None:
        for at in range(0, size, step):
            Cipher(algorithms.AES(key), modes.XTS(bytes(16))).decryptor().update(raw[at : at + step])

    plain = best(whole)
    print(f"AES-XTS-256 of the library over {size >> 20} MiB, 4 MiB a call: {size / plain / 1e6:.0f} MB/s")
    for name, cipher in {
        "XTS-256, units of 512": Xts(key, 512),
        "XTS-256, units of 4096": Xts(key, 4096),
        "XTS-128, units of 512": Xts(key[:32], 512),
        "CBC-256, units of 512": Cbc(key[:32], 512, offset_vectors(key[:32], 512)),
        "CBC-256 with diffuser, units of 512": Diffused(key[:32], key[32:], 512),
    }.items():
        inside = OpenedSectors(disk, 0, size, [Stretch(0, size, CIPHERED, 0, 0)], cipher)

        def read(inside: OpenedSectors = inside) -> None:
            for at in range(0, size, step):
                inside.read(at // 512, step // 512)

        share = plain / best(read)
        print(f"  {name}: {share:.2f} of it" + ("" if share >= WANTED or "XTS" not in name else f" (wanted {WANTED})"))


if __name__ == "__main__":
    main()
