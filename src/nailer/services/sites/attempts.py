"""Opening a site for a person who waits: connected, or a question to answer first, or the error that is in the way."""

from __future__ import annotations

import asyncio

from nailer.services.sites.questions import Question, Questions, asked_by
from nailer.sides.pool import Pool


class ConnectAttempts:
    """Openings under way, by person and site. Two pages of one person share one."""

    def __init__(self, pool: Pool, desk: Questions) -> None:
        self._pool = pool
        self._desk = desk
        self._tasks: dict[str, asyncio.Task[None]] = {}

    async def open(self, account_id: int, site_id: int) -> Question | None:
        """None once the site is connected, or a question that has to be answered first. Raises what dialling raises."""
        key = f"open:{account_id}:{site_id}"
        task = self._tasks.get(key)
        if task is None:
            with asked_by(self._desk.asker(key)):
                task = asyncio.create_task(self._connect(site_id))
            self._tasks[key] = task
            task.add_done_callback(lambda _: self._tasks.pop(key, None))
        asked = asyncio.create_task(self._desk.news(key).wait())
        try:
            await asyncio.wait({task, asked}, return_when=asyncio.FIRST_COMPLETED)
        finally:
            asked.cancel()
        if task.done():
            self._desk.forget(key)
            await task
            return None
        return self._desk.waiting(key)

    async def answer(self, account_id: int, site_id: int, question_id: str, answers: list[str]) -> Question | None:
        """Answer a question, and go on as `open`."""
        key = f"open:{account_id}:{site_id}"
        self._desk.answer(key, question_id, answers)
        return await self.open(account_id, site_id)

    async def close(self) -> None:
        """Cancel what is being connected."""
        tasks = list(self._tasks.values())
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)

    async def _connect(self, site_id: int) -> None:
        async with self._pool.side(site_id):
            return
