"""Expressions that somebody else wrote, matched in time that grows with the text alone."""

from __future__ import annotations

from typing import Protocol, cast

import re2

_MOST_BYTES = 64 * 1024 * 1024  # of one compiled expression: hundreds of patterns in one


class LinearPattern(Protocol):
    """A compiled expression over bytes."""

    def match(self, text: bytes) -> object | None:
        """What matches at the beginning; None for nothing."""

    def fullmatch(self, text: bytes) -> object | None:
        """What matches from end to end; None for nothing."""


def linear(expression: bytes) -> LinearPattern:
    """An expression over bytes, whatever they are; a dot matches every byte. Raises ValueError where it is none, or larger
    than what is meant by hand.

    >>> linear(b".*tmp").fullmatch(b"caf\\xe9.tmp") is not None, linear(b"(a*)*b").match(b"a" * 10_000)
    (True, None)
    """
    options = re2.Options()
    options.encoding = re2.Options.Encoding.LATIN1
    options.dot_nl = True
    options.log_errors = False
    options.max_mem = _MOST_BYTES
    try:
        return cast(LinearPattern, re2.compile(expression, options))
    except re2.error as error:
        raise ValueError(f"the expression cannot be read: {error}") from error
