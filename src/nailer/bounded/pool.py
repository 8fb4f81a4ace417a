"""The worker processes, as whoever calls them sees them. Everything here blocks."""

from __future__ import annotations

import io
import os
import pickle
import queue
import select
import struct
import subprocess
import sys
import threading
import time
from collections.abc import Callable, Mapping, Sequence
from typing import Any

import structlog

from nailer import errors
from nailer.errors import NailerError, Unreadable

_log = structlog.get_logger()

WITHIN_S = 10.0
_WORKERS = 2
_LENGTH = struct.Struct(">I")
_LARGEST_BYTES = 256 * 1024 * 1024
# A worker that hangs in C hears nothing: the kernel ends it, should this process not have done so.
_GRACE_S = 5


class Workers:
    """At most two workers; each call has one to itself. Thread-safe."""

    def __init__(self) -> None:
        self._idle: queue.LifoQueue[_Worker | None] = queue.LifoQueue()
        for _ in range(_WORKERS):
            self._idle.put(None)
        self._lock = threading.Lock()
        self._running: set[_Worker] = set()

    def call(
        self, function: Callable[..., Any], args: Sequence[Any], kwargs: Mapping[str, Any], within_s: float
    ) -> Any:
        """What a function of the core returns. Raises Unreadable, and the errors of Nailer's own that it raises."""
        asked = pickle.dumps((function.__module__, function.__qualname__, tuple(args), dict(kwargs)))
        worker = self._idle.get()
        try:
            if worker is not None and not worker.is_alive:
                self._end(worker)
                worker = None
            if worker is None:
                worker = self._begin()
            answer = worker.ask(asked, within_s)
        except (OSError, EOFError, TimeoutError) as error:
            if worker is not None:
                self._end(worker)
                worker = None
            _log.warning("a text could not be read and its reader was ended", reader=function.__qualname__)
            late = isinstance(error, TimeoutError)
            raise Unreadable(
                f"It took longer than {within_s:g} seconds to read." if late else "Its reader broke down.",
            ) from error
        finally:
            self._idle.put(worker)
        return _result(answer)

    @property
    def pids(self) -> set[int]:
        """The processes that run now."""
        with self._lock:
            return {one.process.pid for one in self._running}

    def close(self) -> None:
        """End every worker. The next call begins new ones."""
        with self._lock:
            running = list(self._running)
        for worker in running:
            self._end(worker)

    def _begin(self) -> _Worker:
        worker = _Worker()
        with self._lock:
            self._running.add(worker)
        return worker

    def _end(self, worker: _Worker) -> None:
        worker.end()
        with self._lock:
            self._running.discard(worker)


class _Worker:
    """One process that reads, with its two pipes."""

    def __init__(self) -> None:
        # Nothing of this process's settings and secrets: only where Python finds its modules.
        plain = {"PYTHONPATH": os.pathsep.join(map(os.path.abspath, sys.path)), "PATH": os.defpath}
        self.process = subprocess.Popen(
            [sys.executable, "-m", "nailer.bounded.worker"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env=plain,
            cwd="/",
            start_new_session=True,
        )

    @property
    def is_alive(self) -> bool:
        """True while the process runs."""
        return self.process.poll() is None

    def ask(self, asked: bytes, within_s: float) -> bytes:
        """The answer to one call. Raises OSError, EOFError, and TimeoutError where it does not come in time."""
        stdin, stdout = self.process.stdin, self.process.stdout
        assert stdin is not None
        assert stdout is not None
        stdin.write(_LENGTH.pack(len(asked)) + _LENGTH.pack(int(within_s) + _GRACE_S) + asked)
        stdin.flush()
        until = time.monotonic() + within_s
        (size,) = _LENGTH.unpack(self._read(stdout.fileno(), _LENGTH.size, until))
        if size > _LARGEST_BYTES:
            raise EOFError
        return self._read(stdout.fileno(), size, until)

    @staticmethod
    def _read(file: int, count: int, until: float) -> bytes:
        parts = bytearray()
        while len(parts) < count:
            ready, _, _ = select.select([file], [], [], max(0.0, until - time.monotonic()))
            if not ready:
                raise TimeoutError
            part = os.read(file, min(count - len(parts), 1024 * 1024))
            if not part:
                raise EOFError
            parts += part
        return bytes(parts)

    def end(self) -> None:
        """Kill the process and let go of its pipes."""
        self.process.kill()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                try:
                    pipe.close()
                except OSError:
                    pass  # what was still to be written to a dead process
        self.process.wait()


class _Careful(pickle.Unpickler):
    """Takes values of the core and of Python's own plain types, and nothing that could act: a worker has read what somebody
    made to do harm."""

    _PLAIN = frozenset({("datetime", "datetime"), ("datetime", "timezone"), ("datetime", "timedelta")})

    def find_class(self, module: str, name: str) -> Any:
        """A class by its name. Raises UnpicklingError for any other."""
        if module == "nailer.core" or module.startswith("nailer.core."):
            found = super().find_class(module, name)
            if isinstance(found, type):
                return found
        elif (module, name) in self._PLAIN or (module == "builtins" and name in ("frozenset", "set", "bytearray")):
            return super().find_class(module, name)
        raise pickle.UnpicklingError(f"{module}.{name} is not taken from a worker")


def _result(answer: bytes) -> Any:
    try:
        how, what = _Careful(io.BytesIO(answer)).load()
    except (pickle.UnpicklingError, EOFError, AttributeError, ValueError, TypeError) as error:
        raise Unreadable("Its reader gave an answer that cannot be used.") from error
    if how == "returned":
        return what
    if how == "refused":
        kind, sentence, path = what
        found = getattr(errors, kind, None)
        if isinstance(found, type) and issubclass(found, NailerError):
            refused = found(sentence)
            refused.path = path
            raise refused
    raise Unreadable("Its reader gave up on it: it is nested too deeply, or made to do harm.")
