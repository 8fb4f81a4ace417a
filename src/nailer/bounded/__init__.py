"""Reading what others wrote, in a process of its own and within a deadline.

A page, a style, a manifest or a log may be made to keep its reader busy for minutes, or to end it. Readers are pure
functions of `nailer.core`; here they are called in one of two worker processes. A worker that does not answer in time, or
dies, is replaced, and the text is said to be unreadable: that is a finding of the one file, never the end of what reads it.

    links = await bounded(links_in, name, data)

The workers are shared by the whole process, begin with the first call and end with it. This package imports nothing of
Nailer but its errors.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import ParamSpec, TypeVar

from nailer.bounded.pool import WITHIN_S, Workers
from nailer.unbroken import in_thread

_P = ParamSpec("_P")
_R = TypeVar("_R")

pool = Workers()


async def bounded(function: Callable[_P, _R], *args: _P.args, **kwargs: _P.kwargs) -> _R:
    """What a reader of the core returns. Raises Unreadable, and the errors of Nailer's own that the reader raises."""
    result: _R = await in_thread(pool.call, function, args, kwargs, WITHIN_S)
    return result


__all__ = ["bounded", "pool"]
