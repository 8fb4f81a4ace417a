"""Pictures that are made to do harm: a few bytes that claim or unfold into very much."""

from __future__ import annotations

import contextlib
import io
import struct
import zlib

import pytest
from PIL import Image

from nailer.bounded import bounded
from nailer.core.site.picture_files import pixels_of, smaller_copy
from nailer.errors import InvalidInput, Unreadable


def _chunk(kind: bytes, content: bytes) -> bytes:
    return struct.pack(">I", len(content)) + kind + content + struct.pack(">I", zlib.crc32(kind + content))


def _png(width: int, height: int, *between: bytes, rows: int = 0) -> bytes:
    head = _chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 0, 0, 0, 0))
    packed = zlib.compress((b"\0" + bytes(width)) * rows, 9)
    return b"\x89PNG\r\n\x1a\n" + head + b"".join(between) + _chunk(b"IDAT", packed) + _chunk(b"IEND", b"")


def _saved(picture: Image.Image, kind: str, **more: object) -> bytes:
    kept = io.BytesIO()
    picture.save(kept, kind, **more)  # type: ignore[arg-type]
    return kept.getvalue()


def _frames(count: int) -> bytes:
    frames = [Image.new("P", (2, 2), number % 2) for number in range(count)]
    return _saved(frames[0], "GIF", save_all=True, append_images=frames[1:])


TEXT_BOMB = _chunk(b"zTXt", b"a\0\0" + zlib.compress(bytes(200_000_000), 9))
BOMBS = {
    "claims 4 milliard pixels": _png(65_000, 65_000),
    "unfolds to 400 million pixels": _png(20_000, 20_000, rows=2000),
    "a text of 200 MB beside it": _png(10, 10, TEXT_BOMB, rows=10),
    "5,000 frames": _frames(5000),
    "a profile of 200 MB": _png(10, 10, _chunk(b"iCCP", b"p\0\0" + zlib.compress(bytes(200_000_000), 9)), rows=10),
    "a drawing that another program would read": b"%!PS-Adobe-3.0 EPSF-3.0\n%%BoundingBox: 0 0 10 10\n%%EndComments\n",
}


@pytest.mark.parametrize("name", BOMBS)
async def test_a_picture_that_unfolds_is_refused_or_read_within_the_bounds(name: str) -> None:
    data = BOMBS[name]
    width, height, _ = await bounded(pixels_of, data)
    assert (width is None) == (height is None)
    with contextlib.suppress(InvalidInput, Unreadable):
        made = await bounded(smaller_copy, data, 100, 80)
        assert made.width <= 100
        assert len(made.content) < 100_000
    assert await bounded(pixels_of, _saved(Image.new("RGB", (3, 2)), "PNG")) == (3, 2, False), "it reads the next one"


@pytest.mark.parametrize("name", ["claims 4 milliard pixels", "unfolds to 400 million pixels"])
async def test_what_claims_too_many_pixels_is_not_decoded(name: str) -> None:
    with pytest.raises(InvalidInput):
        await bounded(smaller_copy, BOMBS[name], 100, 80)


async def test_a_large_picture_of_a_camera_is_still_read() -> None:
    data = _saved(Image.new("RGB", (8000, 6000), "teal"), "JPEG")
    made = await bounded(smaller_copy, data, 1200, 80)
    assert (made.width, made.height, made.media_type) == (1200, 900, "image/jpeg")


async def test_the_drawing_is_no_picture() -> None:
    assert pixels_of(BOMBS["a drawing that another program would read"]) == (None, None, None)
