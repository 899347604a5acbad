"""Files decoded once: what stands under a SHA-256 never changes, so neither does what is read from it."""

from __future__ import annotations

from functools import lru_cache

from gatecheck.core.capture.read import Capture, read_capture
from gatecheck.files import pages_of
from gatecheck.server.shop import Shop

_MOST = 64
"""files that are kept decoded; a capture takes some 100 KB"""


class Decoded:
    """The decoded files of a shop, the latest kept in memory. Raises what `pages_of` and the store raise."""

    def __init__(self, shop: Shop) -> None:
        self._shop = shop
        self.capture = lru_cache(_MOST)(self._capture)

    def of(self, name: str, data: bytes) -> Capture:
        """A file that is not kept yet."""
        return read_capture(pages_of(name, data), self._shop.shipped.knowledge.findings)

    def _capture(self, name: str, sha256: str) -> Capture:
        return self.of(name, self._shop.files.get(sha256))
