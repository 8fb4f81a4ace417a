"""What holds the loop is told, and what does not is not."""

from __future__ import annotations

import asyncio
import time

import structlog

from nailer.watchdog import watched


async def test_what_held_the_loop_is_logged_with_where_it_was() -> None:
    with structlog.testing.capture_logs() as logs, watched():
        await asyncio.sleep(0.1)
        _computes_for_long()
        await asyncio.sleep(0.1)

    # On a busy machine the loop may be held by others, too.
    held = [one["where"] for one in logs if one["event"] == "the event loop was held"]
    assert any("_computes_for_long" in where for where in held)


async def test_a_loop_that_only_waits_is_not_held() -> None:
    with structlog.testing.capture_logs() as logs, watched():
        await asyncio.sleep(0.3)

    assert not any("_computes" in one.get("where", "") for one in logs)


def _computes_for_long() -> None:
    until = time.monotonic() + 0.5
    while time.monotonic() < until:
        pass
