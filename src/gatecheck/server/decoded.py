"""Files decoded once: what stands under a SHA-256 never changes, so neither does what is read from it."""

from __future__ import annotations

from functools import lru_cache

from gatecheck.core.firmware.captured import read_firmware
from gatecheck.core.firmware.judge import Firmware
from gatecheck.core.storage.capture import Capture, read_capture
from gatecheck.files import pages_of
from gatecheck.store.files import FileStore

_MOST = 64
"""files of each kind that are kept decoded; a capture takes some 100 KB"""


class Decoded:
    """The decoded files of a shop, the latest kept in memory. All raise what `pages_of` and the store raise."""

    def __init__(self, files: FileStore) -> None:
        self._files = files
        self.capture = lru_cache(_MOST)(self._capture)
        self.firmware = lru_cache(_MOST)(self._firmware)

    def _capture(self, name: str, sha256: str) -> Capture:
        return read_capture(pages_of(name, self._files.get(sha256)))

    def _firmware(self, name: str, sha256: str) -> Firmware | None:
        return read_firmware(pages_of(name, self._files.get(sha256)))
