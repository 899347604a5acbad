"""A drawn picture of a drive's lid with a dent in it, for the demo: nothing in it was ever photographed."""

from __future__ import annotations

import io

from PIL import Image, ImageDraw, ImageFilter

_SIZE = (900, 640)


def drive_lid(dent: tuple[float, float]) -> bytes:
    """A PNG; `dent`: where, as shares of width and height."""
    image = Image.new("RGB", _SIZE, (98, 92, 84))
    draw = ImageDraw.Draw(image)
    draw.rounded_rectangle((70, 50, 830, 590), 26, fill=(176, 180, 182), outline=(120, 124, 126), width=4)
    draw.ellipse((180, 90, 640, 550), outline=(150, 154, 156), width=6)
    for x, y in ((105, 85), (795, 85), (105, 555), (795, 555), (450, 75), (450, 565)):
        draw.ellipse((x - 13, y - 13, x + 13, y + 13), fill=(120, 124, 126))
        draw.line((x - 8, y, x + 8, y), fill=(70, 72, 74), width=4)
    draw.rectangle((640, 330, 800, 520), fill=(236, 234, 226))
    for line in range(6):
        draw.line((655, 352 + line * 26, 785 - line * 9, 352 + line * 26), fill=(96, 98, 100), width=5)
    left, top = dent[0] * _SIZE[0], dent[1] * _SIZE[1]
    for size, shade in ((74, 150), (56, 132), (38, 108), (20, 84)):
        draw.ellipse((left - size, top - size * 0.7, left + size, top + size * 0.7), fill=(shade, shade + 2, shade + 4))
    out = io.BytesIO()
    image.filter(ImageFilter.GaussianBlur(2.2)).save(out, "PNG")
    return out.getvalue()
