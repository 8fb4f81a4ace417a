"""Questions to the person who waits for a connection: from the server, or for a password that is not stored.

Whoever connects for a person says so with `asked_by`; what dials far below then finds the one to ask. A job has nobody:
it stops and says what is needed.
"""

from __future__ import annotations

import asyncio
import contextlib
import secrets
from collections.abc import Callable, Iterator
from contextvars import ContextVar
from dataclasses import dataclass, field

from nailer.errors import NotFound
from nailer.sides.connection import Ask, nobody_answers

_ANSWER_WITHIN_S = 105.0

_asking: ContextVar[Ask] = ContextVar("asking", default=nobody_answers)


@dataclass(frozen=True, slots=True)
class Question:
    """What is asked: words of introduction, and prompts, each with whether the answer may be seen while typed."""

    id: str
    instructions: str
    prompts: tuple[tuple[str, bool], ...]
    answers: asyncio.Future[list[str]] = field(repr=False)


class Questions:
    """Holds questions until a person answers them, by the name of what is being connected."""

    def __init__(self) -> None:
        self._open: dict[str, Question] = {}
        self._news: dict[str, asyncio.Event] = {}

    def asker(self, what: str, told: Callable[[Question], None] | None = None) -> Ask:
        """An `Ask` whose questions wait here under `what`; `told` hears of each. No answer in two minutes is none."""

        async def _ask(instructions: str, prompts: tuple[tuple[str, bool], ...]) -> list[str]:
            future: asyncio.Future[list[str]] = asyncio.get_running_loop().create_future()
            question = Question(secrets.token_hex(8), instructions, prompts, future)
            self._open[what] = question
            self.news(what).set()
            if told is not None:
                told(question)
            try:
                async with asyncio.timeout(_ANSWER_WITHIN_S):
                    return await future
            except TimeoutError:
                return []
            finally:
                self._put_away(what, question)

        return _ask

    def news(self, what: str) -> asyncio.Event:
        """Set while a question waits."""
        return self._news.setdefault(what, asyncio.Event())

    def waiting(self, what: str) -> Question | None:
        """The question that waits for an answer, of one conversation; None where none does."""
        return self._open.get(what)

    def answer(self, what: str, question_id: str, answers: list[str]) -> None:
        """Give the answers. An empty list means that the person gives up. Raises NotFound for a question that is gone."""
        question = self._open.get(what)
        if question is None or question.id != question_id or question.answers.done():
            raise NotFound("The server is no longer waiting for this answer. Connect again.")
        question.answers.set_result(answers)
        self._put_away(what, question)

    def _put_away(self, what: str, question: Question) -> None:
        if self._open.get(what) is question:
            del self._open[what]
            self.news(what).clear()

    def forget(self, what: str) -> None:
        """End a conversation. Whoever waits for an answer is told that there will be none."""
        self._news.pop(what, None)


@contextlib.contextmanager
def asked_by(ask: Ask) -> Iterator[None]:
    """Inside, whoever dials may ask this person."""
    token = _asking.set(ask)
    try:
        yield
    finally:
        _asking.reset(token)


def who_to_ask() -> Ask:
    """Whom a server's questions go to in this task."""
    return _asking.get()
