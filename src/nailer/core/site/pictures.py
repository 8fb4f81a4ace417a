"""How large a picture need be where pages show it, and what speaks for a smaller copy."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nailer.core.words import size_text

SHARP = 2  # screens show up to two pixels of a picture for each of the page's
WORTH_BYTES = 50_000
_HEAVY_BYTES_A_PIXEL = 0.6


@dataclass(frozen=True, slots=True)
class PictureKnown:
    """A picture's pixels and bytes, the widths at which pages show it (in CSS pixels; none: nobody says), and whether it
    says where it was taken (None: not known)."""

    width: int
    height: int
    size: int
    shown: Sequence[int] = ()
    has_places: bool | None = None

    @property
    def enough(self) -> int | None:
        """The width that is sharp wherever it is shown; None where nobody says how wide that is, or it is no wider."""
        wanted = SHARP * max(self.shown) if self.shown else None
        return wanted if wanted is not None and wanted < self.width else None

    @property
    def bytes_a_pixel(self) -> float:
        """How much each pixel takes."""
        return self.size / max(1, self.width * self.height)

    @property
    def frees(self) -> int:
        """Bytes that a copy of enough width would save, roughly: they go with the pixels. 0 where that is not worth it."""
        if self.enough is None:
            return 0
        share = self.enough / self.width
        frees = int(self.size * (1 - share * share))
        return frees if frees >= WORTH_BYTES else 0


def advice(one: PictureKnown) -> list[str]:
    """What speaks for a smaller copy, in sentences; none where nothing does.

    >>> advice(PictureKnown(800, 600, 90_000, (400,)))
    []
    """
    said = []
    if one.enough is not None and one.frees:
        said.append(
            f"It is {one.width} pixels wide and shown at {max(one.shown)}: {one.enough} are sharp on every screen, and free "
            f"about {size_text(one.frees)}."
        )
    if one.bytes_a_pixel > _HEAVY_BYTES_A_PIXEL and one.size >= WORTH_BYTES:
        said.append(
            f"It is poorly compressed ({one.bytes_a_pixel:.1f} bytes per pixel). Saved again, it looks the same at "
            "a much smaller size."
        )
    if one.has_places:
        said.append("It contains the place where it was taken. Anyone who downloads it can see that.")
    return said
