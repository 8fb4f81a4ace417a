"""How a process of Nailer ends when it is told to: in order where something has been started, and always within seconds.

A handler that raises in the middle of whatever runs may raise where nobody hears it, and the signal is lost. So none does:
while Nailer loads there is nothing to end, and the process ends at once; while it starts the signal is noted, and the steps
of the start ask for it (`check`); once the server runs the signal is a call on its loop. Whatever hangs is ended by a timer.
This module imports nothing of Nailer.
"""

from __future__ import annotations

import os
import signal
import sys
import threading

SIGNALS = (signal.SIGINT, signal.SIGTERM)
INTERRUPTED = 130  # the exit status by which shells say that Ctrl-C ended a program
# From the signal to the end of the process. Everything is kept so that a kill loses nothing.
START_WITHIN_S = 4.0
RUNNING_WITHIN_S = 25.0

_asked = threading.Event()
_started = threading.Event()


def catch_signals() -> None:
    """Take SIGINT and SIGTERM in hand, until a server does."""
    for number in SIGNALS:
        signal.signal(number, _heard)


def begin() -> None:
    """Say that from here on something may have been started that has to be ended in order."""
    _started.set()


def check() -> None:
    """Raises KeyboardInterrupt where this process was told to end."""
    if _asked.is_set():
        raise KeyboardInterrupt


def end_at_last(within_s: float) -> None:
    """End this process after so many seconds, where a step that hangs keeps it from ending in order."""
    timer = threading.Timer(within_s, _end)
    timer.daemon = True
    timer.start()


def _heard(number: int, frame: object) -> None:
    if not _started.is_set():
        os._exit(INTERRUPTED)
    _asked.set()
    end_at_last(START_WITHIN_S)


def _end() -> None:
    sys.stderr.write(f"Nailer did not stop in time and was ended. Its work resumes at the next start.{os.linesep}")
    sys.stderr.flush()
    import faulthandler

    faulthandler.dump_traceback(all_threads=True)
    os._exit(INTERRUPTED)
