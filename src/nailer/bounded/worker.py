"""The program of a worker: it calls functions of the core that its parent names, until its input ends."""

from __future__ import annotations

import gc
import importlib
import os
import pickle
import resource
import signal
import struct
import sys
from typing import Any, BinaryIO

from nailer.errors import NailerError

_LENGTH = struct.Struct(">I")
_COLLECT_FROM = 200_000  # objects: looking through them costs as much as reading a small page
_MOST_MEMORY_BYTES = 2 * 1024**3


def main() -> None:
    """Answer calls until the parent goes away."""
    resource.setrlimit(resource.RLIMIT_AS, (_MOST_MEMORY_BYTES, _MOST_MEMORY_BYTES))
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    # Trees of many small objects would be looked through over and over while they grow.
    gc.disable()
    calls, answers = sys.stdin.buffer, os.fdopen(os.dup(1), "wb")
    # What a reader prints must not be taken for its answer.
    os.dup2(2, 1)
    while (size := _number(calls)) is not None and (within_s := _number(calls)) is not None:
        signal.alarm(within_s)
        answer = _answer(calls.read(size))
        signal.alarm(0)
        answers.write(_LENGTH.pack(len(answer)) + answer)
        answers.flush()
        if gc.get_count()[0] > _COLLECT_FROM:
            gc.collect()


def _number(calls: BinaryIO) -> int | None:
    read = calls.read(_LENGTH.size)
    number: int | None = _LENGTH.unpack(read)[0] if len(read) == _LENGTH.size else None
    return number


def _answer(asked: bytes) -> bytes:
    module, name, args, kwargs = pickle.loads(asked)  # noqa: S301 - from the parent alone
    try:
        return pickle.dumps(("returned", _function(module, name)(*args, **kwargs)))
    except NailerError as refused:
        return pickle.dumps(("refused", (refused.kind, refused.sentence, refused.path)))
    except Exception as error:  # whatever a reader stumbles over is about the text, and told as that
        return pickle.dumps(("failed", type(error).__name__))


def _function(module: str, name: str) -> Any:
    if not module.startswith("nailer.core."):
        raise ValueError(f"{module} is not of the core")
    found: Any = importlib.import_module(module)
    for part in name.split("."):
        found = getattr(found, part)
    return found


if __name__ == "__main__":
    main()
