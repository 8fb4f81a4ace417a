"""Keeps the kept copies within their limits: copies that are too old are removed, and the oldest where they take too
much room."""

from __future__ import annotations

from datetime import timedelta

import structlog

from nailer.engine.kept import KeptStore
from nailer.engine.tasks import Often
from nailer.errors import InvalidInput, NailerError
from nailer.store.changes import ChangeStore
from nailer.store.database import utc_now

_log = structlog.get_logger()

_EVERY_S = 3600.0
_AT_ONCE = 500


class KeptCopies:
    def __init__(self, changes: ChangeStore, kept: KeptStore) -> None:
        self._changes = changes
        self._kept = kept
        self._often = Often("kept copies past their limits", self._tidy_now, every_s=_EVERY_S)

    def start(self) -> None:
        """Begin to let go what is past its limits."""
        self._often.start()

    async def stop(self) -> None:
        """End tidying."""
        await self._often.stop()

    async def limit(self, days: int | None, size: int | None) -> int:
        """Set the limits and hold to them at once; return how many copies were let go. Raises InvalidInput."""
        if (days is not None and days < 1) or (size is not None and size < 1):
            raise InvalidInput("Keep copies for at least 1 day and at least 1 byte. Leave a field empty for no limit.")
        await self._changes.write_keeping(days, size)
        return await self.tidy()

    async def tidy(self) -> int:
        """Let go of what lies beyond the limits, the oldest first; return how many."""
        days, most = await self._changes.keeping()
        gone = 0
        while True:
            _, stored = await self._changes.kept_room()
            oldest = await self._changes.oldest_kept(_AT_ONCE)
            before = utc_now() - timedelta(days=days) if days is not None else None
            beyond = []
            for digest, size, kept_at in oldest:
                too_old = before is not None and kept_at.replace(tzinfo=None) < before.replace(tzinfo=None)
                if not too_old and (most is None or stored <= most):
                    break
                beyond.append(digest)
                stored -= size
            if not beyond:
                return gone
            # The rows first: what is not on the disk any more must not be offered.
            forgotten = await self._changes.forget_kept(beyond)
            await self._kept.let_go(forgotten)
            gone += len(forgotten)
            if not forgotten:
                return gone

    async def _tidy_now(self) -> None:
        try:
            if gone := await self.tidy():
                _log.info("kept copies let go", copies=gone)
        except (NailerError, OSError) as error:
            _log.warning("kept copies could not be tidied", why=str(error)[:200])
