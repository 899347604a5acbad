"""A picture as it is kept: told by its content, turned upright, made small, without what the camera wrote into it."""

from __future__ import annotations

import io
import warnings

from PIL import Image, ImageOps, UnidentifiedImageError

from gatecheck.core.errors import InputError

LARGEST = 24 << 20
_MOST_PIXELS, _LONGEST_SIDE, _QUALITY = 60_000_000, 1600, 82
_KINDS = ("JPEG", "PNG", "WEBP", "GIF", "BMP", "TIFF")


def kept_picture(name: str, data: bytes) -> bytes:
    """The picture as JPEG, at most 1600 pixels long. Raises InputError for what is no picture, or too large to open."""
    if len(data) > LARGEST:
        raise InputError(
            f"{name}: expected a picture of at most {LARGEST >> 20} MiB, got {len(data) / (1 << 20):.1f} MiB"
        )
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            with Image.open(io.BytesIO(data), formats=_KINDS) as opened:
                width, height = opened.size
                if width * height > _MOST_PIXELS or width < 1 or height < 1:
                    raise InputError(
                        f"{name}: expected at most {_MOST_PIXELS // 1_000_000} million pixels, got {width} x {height}"
                    )
                opened.draft("RGB", (_LONGEST_SIDE, _LONGEST_SIDE))
                upright = ImageOps.exif_transpose(opened) or opened
                upright.thumbnail((_LONGEST_SIDE, _LONGEST_SIDE))
                flat = Image.new("RGB", upright.size, "white")
                shown = upright.convert("RGBA")
                flat.paste(shown, mask=shown.getchannel("A"))
    except InputError:
        raise
    except Image.DecompressionBombError as error:
        raise InputError(f"{name}: expected at most {_MOST_PIXELS // 1_000_000} million pixels, got more") from error
    except (UnidentifiedImageError, OSError, ValueError, SyntaxError, EOFError) as error:
        raise InputError(
            f"{name}: expected a picture ({', '.join(k.lower() for k in _KINDS)}), got "
            f"{str(error)[:100] or 'something else'}"
        ) from error
    out = io.BytesIO()
    flat.save(out, "JPEG", quality=_QUALITY, optimize=True)
    return out.getvalue()
