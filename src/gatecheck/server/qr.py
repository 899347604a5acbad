"""An address as a picture to scan."""

from __future__ import annotations

import io


def qr_svg(text: str) -> str:
    """QR code (ISO/IEC 18004) as SVG, dark on light in either theme so that any camera reads it."""
    import segno

    buffer = io.BytesIO()
    segno.make(text, error="m", micro=False).save(buffer, kind="svg", scale=4, border=2, xmldecl=False, svgns=True, dark="#16212b", light="#fdfcf8")
    return buffer.getvalue().decode()
