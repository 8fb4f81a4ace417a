"""Numbers that somebody sent: in an address, a form, a header or a file. There is one way to read them."""

from __future__ import annotations

import re

_MOST_DIGITS = 19
_AMOUNT = re.compile(r"[0-9]{1,19}(\.[0-9]{0,19})?|\.[0-9]{1,19}")
MOST = 2**62  # what every column of the database and every size of a file can hold


def number_in(text: str, *, least: int = 0, most: int = MOST) -> int | None:
    """A number in plain decimal digits, within its bounds; None where it is none. Never raises, however long the text.

    >>> number_in("42"), number_in("007"), number_in("-1"), number_in("²"), number_in("9" * 5000)
    (42, 7, None, None, None)
    >>> number_in("70000", most=65535) is None
    True
    """
    if not (text.isascii() and text.isdecimal() and len(text) <= _MOST_DIGITS):
        return None
    number = int(text)
    return number if least <= number <= most else None


def amount_in(text: str, *, most: float = float(MOST)) -> float | None:
    """An amount from zero on as people type it, with a point or a comma; None where it is none, or beyond `most`.

    >>> amount_in("1,5"), amount_in("0.25"), amount_in("9" * 400), amount_in("nan"), amount_in("1e9"), amount_in("-1")
    (1.5, 0.25, None, None, None, None)
    """
    digits = text.replace(",", ".")
    if not _AMOUNT.fullmatch(digits):
        return None
    amount = float(digits)
    return amount if amount <= most else None
