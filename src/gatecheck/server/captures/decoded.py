"""Files decoded once: what stands under a SHA-256 never changes, so neither does what is read from it."""

from __future__ import annotations

import hashlib
from functools import lru_cache

from gatecheck.adapters.capture_files import pages_of
from gatecheck.core.capture.document import Json, drive_document, page_document
from gatecheck.core.capture.read import Capture, read_capture
from gatecheck.server.shop import Shop

_MOST = 64
"""files that are kept decoded; a capture takes some 100 KB"""


class Decoded:
    """The decoded files of a shop, the latest kept in memory. Raises what `pages_of` and the store raise."""

    def __init__(self, shop: Shop) -> None:
        self._shop = shop
        self._latest: tuple[str, str, Capture] | None = None
        self.capture = lru_cache(_MOST)(self._capture)
        self.documents = lru_cache(_MOST)(self._documents)

    def of(self, name: str, data: bytes) -> Capture:
        """A file that is not kept yet. It is decoded once, also where it is kept right after."""
        capture = read_capture(pages_of(name, data), self._shop.shipped.knowledge.findings)
        self._latest = (name, hashlib.sha256(data).hexdigest(), capture)
        return capture

    def _documents(self, name: str, sha256: str) -> tuple[list[Json], list[Json]]:
        """(a document for each drive, one for every page that is no drive's), worded once."""
        capture, words = self.capture(name, sha256), self._shop.words
        drives = [drive_document(d, capture, words) for d in capture.drives]
        named = {drive.device for drive in capture.drives}
        return drives, [page_document(p, words) for p in capture.pages if p.device not in named]

    def _capture(self, name: str, sha256: str) -> Capture:
        latest = self._latest
        if latest is not None and latest[:2] == (name, sha256):
            return latest[2]
        return read_capture(pages_of(name, self._shop.files.get(sha256)), self._shop.shipped.knowledge.findings)
