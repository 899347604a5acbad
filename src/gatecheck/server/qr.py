"""An address as a picture to scan."""

from __future__ import annotations

import io
from functools import lru_cache


@lru_cache(64)
def qr_rows(text: str) -> tuple[str, ...]:
    """The same as rows of 1 (dark) and 0, without a margin: for a screen that has letters only."""
    import segno

    return tuple(
        "".join("1" if cell else "0" for cell in row) for row in segno.make(text, error="l", micro=False).matrix
    )


@lru_cache(64)  # a page that asks every second has the same one
def qr_svg(text: str) -> str:
    """QR code (ISO/IEC 18004) as SVG, dark on light in either theme so that any camera reads it."""
    import segno

    buffer = io.BytesIO()
    segno.make(text, error="m", micro=False).save(
        buffer, kind="svg", scale=4, border=2, xmldecl=False, svgns=True, dark="#16212b", light="#fdfcf8"
    )
    return buffer.getvalue().decode()
