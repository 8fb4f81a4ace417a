"""Pictures of the demo's sites, drawn by code: SVG scenes, small PNGs, and photographs of nowhere."""

from __future__ import annotations

import functools
import io
import math
import random
import struct
import zlib

from PIL import Image

_SEA = ("#0f3d4c", "#14546a", "#1b6e86", "#2a8aa0", "#5fb3bd")


def svg_scene(title: str, seed: int) -> bytes:
    """A pier, a hill and waves, different for each seed."""
    hill = 60 + seed * 17 % 50
    sun = 40 + seed * 53 % 240
    waves = "".join(
        f'<path d="M0 {150 + row * 18} q40 -14 80 0 t80 0 t80 0 t80 0 V200 H0Z" fill="{_SEA[row]}"/>'
        for row in range(4)
    )
    return (
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 320 200" role="img" aria-label="{title}">'
        f'<rect width="320" height="200" fill="#cfe3e2"/><circle cx="{sun}" cy="46" r="22" fill="#f3c46b"/>'
        f'<path d="M0 {hill + 60} Q90 {hill} 180 {hill + 70} T320 {hill + 40} V200 H0Z" fill="#6a7f58"/>{waves}'
        f'<path d="M{120 + seed % 90} 128 h70 l-12 20 h-46Z" fill="#b2501d"/><path d="M{140 + seed % 90} 128 v-20 h22 v20" fill="#f6f4ef"/>'
        f"</svg>\n"
    ).encode()


def svg_tile(number: int) -> bytes:
    """A small repeating tile of the skin."""
    step = 4 + number % 7
    lines = "".join(
        f'<path d="M0 {at} h32" stroke="{_SEA[number % 5]}" stroke-opacity=".4"/>' for at in range(2, 32, step)
    )
    return f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 32 32">{lines}<!-- tile {number} --></svg>\n'.encode()


def png(width: int, height: int, seed: int) -> bytes:
    """A small picture of sky and sea as PNG (RFC 2083)."""
    rows = bytearray()
    for y in range(height):
        rows.append(0)
        for x in range(width):
            sea = y > height * 0.55 + (x * seed % 7) / 3
            shade = (x * 3 + y * 5 + seed * 11) % 24
            rows += bytes((20, 84 + shade, 106 + shade) if sea else (200 - shade, 222 - shade, 226))
    return b"\x89PNG\r\n\x1a\n" + b"".join(
        (
            _chunk(b"IHDR", struct.pack(">IIBBBBB", width, height, 8, 2, 0, 0, 0)),
            _chunk(b"IDAT", zlib.compress(bytes(rows), 9)),
            _chunk(b"IEND", b""),
        )
    )


def _chunk(kind: bytes, data: bytes) -> bytes:
    return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))


@functools.cache
def photograph(width: int, height: int, seed: int, *, places: bool = False) -> bytes:
    """A picture of sky, hills and water with grain, as JPEG; with `places` it says where it was taken (EXIF)."""
    noise = random.Random(seed)
    small = Image.new("RGB", (max(2, width // 4), max(2, height // 4)))
    horizon = small.height * 0.5
    for y in range(small.height):
        for x in range(small.width):
            grain = noise.randrange(26)
            if y < horizon - 14 * math.sin(x / 40 + seed):
                small.putpixel((x, y), (168 + grain, 196 + grain // 2, 214 + grain // 2))
            else:
                small.putpixel((x, y), (22 + grain, 78 + grain, 96 + grain))
    exif = Image.Exif()
    if places:
        exif.get_ifd(0x8825).update({1: "N", 2: (60.0, 9.0, 12.0), 3: "W", 4: (1.0, 8.0, 45.0)})
    kept = io.BytesIO()
    small.resize((width, height), Image.Resampling.BICUBIC).save(kept, "JPEG", quality=92, exif=exif)
    return kept.getvalue()
