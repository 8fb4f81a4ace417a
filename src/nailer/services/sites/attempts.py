"""Opening a site for a person who waits: connected, or a question to answer first, or the error that is in the way."""

from __future__ import annotations

from nailer.engine.tasks import Background, comes_first
from nailer.services.sites.questions import Question, Questions, asked_by
from nailer.sides.pool import Pool


class ConnectAttempts:
    """Openings under way, by person and site. Two pages of one person share one."""

    def __init__(self, pool: Pool, desk: Questions) -> None:
        self._pool = pool
        self._desk = desk
        self._tasks = Background()

    async def open(self, account_id: int, site_id: int) -> Question | None:
        """None once the site is connected, or a question that has to be answered first. Raises what dialling raises."""
        key = f"open:{account_id}:{site_id}"
        task = self._tasks.of(key)
        if task is None:
            with asked_by(self._desk.asker(key)):
                task = self._tasks.begin(self._connect(site_id), key)
        if await comes_first(task, self._desk.news(key)):
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
        await self._tasks.close()

    async def _connect(self, site_id: int) -> None:
        async with self._pool.side(site_id):
            return
