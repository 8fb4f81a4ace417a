"""Reading a picture's own bytes: how large it is, where it was taken, and a smaller copy of it.

Pictures are what others wrote: a few bytes may claim billions of pixels, or hold a million frames. So these are called in
the worker processes of `nailer.bounded`, and nothing is decoded before its claimed size was looked at.
"""

from __future__ import annotations

import io
from dataclasses import dataclass

from PIL import Image, ImageOps, UnidentifiedImageError

from nailer.errors import InvalidInput

_MOST_PIXELS = 120_000_000
_SMALLER_OF = {"JPEG": "image/jpeg", "PNG": "image/png", "WEBP": "image/webp"}
# What browsers show. Pillow knows many more, and some of its readers call other programs.
_FORMATS = (*_SMALLER_OF, "GIF", "AVIF", "BMP", "ICO", "TIFF")
# What Pillow raises of a content that it cannot read, also where it would only warn.
_UNREADABLE = (UnidentifiedImageError, OSError, ValueError, SyntaxError, Image.DecompressionBombError, Warning)
_GPS = 0x8825  # the tag of places in EXIF


@dataclass(frozen=True, slots=True)
class Smaller:
    """A smaller copy: its bytes and pixels, in the format of the original."""

    content: bytes
    media_type: str
    width: int
    height: int


def pixels_of(head: bytes) -> tuple[int | None, int | None, bool | None]:
    """A picture's width and height, and whether it says where it was taken, by its first bytes; None: they do not say."""
    try:
        with Image.open(io.BytesIO(head), formats=_FORMATS) as picture:
            width, height = picture.size
            try:
                places = bool(picture.getexif().get_ifd(_GPS))
            except (OSError, ValueError, SyntaxError, KeyError):
                places = None
            return width, height, places
    except _UNREADABLE:
        return None, None, None


def smaller_copy(data: bytes, width: int, quality: int) -> Smaller:
    """A copy of at most a width, upright, without what was written into the file beside the picture. Raises InvalidInput."""
    try:
        with Image.open(io.BytesIO(data), formats=_FORMATS) as picture:
            kind = picture.format or ""
            if kind not in _SMALLER_OF:
                raise InvalidInput(
                    f"Nailer can make smaller copies of JPEG, PNG and WebP; this is {kind or 'none of them'}."
                )
            if picture.width * picture.height > _MOST_PIXELS:
                raise InvalidInput("This picture is too large to process.")
            if getattr(picture, "is_animated", False):
                raise InvalidInput("This picture is animated. Nailer cannot make a smaller animated copy.")
            return _scaled(picture, kind, width, quality)
    except _UNREADABLE as error:
        raise InvalidInput("This picture cannot be read: it is incomplete or of an unknown type.") from error


def _scaled(picture: Image.Image, kind: str, width: int, quality: int) -> Smaller:
    profile = picture.info.get("icc_profile")
    upright = ImageOps.exif_transpose(picture)
    wanted = min(width, upright.width)
    height = max(1, round(upright.height * wanted / upright.width))
    made = upright.resize((wanted, height), Image.Resampling.LANCZOS)
    kept = io.BytesIO()
    more = {"icc_profile": profile} if profile else {}
    if kind == "PNG":
        made.save(kept, kind, optimize=True, **more)
    else:
        made.convert("RGB" if kind == "JPEG" else made.mode).save(kept, kind, quality=quality, **more)
    return Smaller(kept.getvalue(), _SMALLER_OF[kind], wanted, height)
