"""When a watched page counts as broken: its status, its length, an error's words, phrases that must or must not be there."""

from __future__ import annotations

from dataclasses import asdict, dataclass
from typing import Any

from nailer.core.check.live import Fetched
from nailer.core.words import size_text


@dataclass(frozen=True, slots=True)
class PageTest:
    """A page, and what makes it well: a phrase that must be there, one that must not ('' for none), and the fewest bytes."""

    address: str
    must: str = ""
    must_not: str = ""
    least_bytes: int = 1

    @property
    def data(self) -> dict[str, Any]:
        """As it is stored."""
        return asdict(self)


def broken_by(wish: PageTest, answer: Fetched, text: str) -> str:
    """Why an answer counts as broken; '' for one that is well. `text` is the whole page.

    >>> from nailer.core.check.live import FetchedHow
    >>> page = PageTest("https://a.example/", must="Ferries")
    >>> broken_by(page, Fetched(FetchedHow.PLAIN, page.address, 200, size=9), "Skerry Ferries")
    ''
    >>> broken_by(page, Fetched(FetchedHow.PLAIN, page.address, 500, size=9), "Skerry Ferries")
    'answers 500'
    """
    if answer.status is None:
        return f"does not answer: {answer.words}"
    if answer.status >= 400:
        return f"answers {answer.status}"
    if answer.size < wish.least_bytes:
        return f"answers {answer.status} with {size_text(answer.size)}" if answer.size else "is empty"
    if answer.trouble:
        return f"shows the error: {answer.trouble[:120]}"
    if wish.must and wish.must not in text:
        return f"lacks “{wish.must[:60]}”"
    if wish.must_not and wish.must_not in text:
        return f"shows “{wish.must_not[:60]}”"
    return ""
