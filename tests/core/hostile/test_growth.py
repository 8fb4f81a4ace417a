"""No reader costs more than its text is long: twice the text is at most two and a half times the work."""

from __future__ import annotations

import gc
import time
from collections.abc import Callable

import pytest

from nailer.errors import InvalidInput
from tests.core.hostile.readers import READERS
from tests.core.hostile.shapes import SHAPES, Shape

_AT_MOST = 2.5
_FROM_LETTERS, _UP_TO_LETTERS = 4_000, 32_000
# Below that a clock tells nothing; a reader that stays below it at the largest text is fast enough whatever its shape.
_TELLING_S = 0.03
_TRIES = 4


def work(reader: Callable[[str], object], text: str) -> float:
    """What a reading costs, as processor time of this thread. A refusal is an answer, too."""
    begun = time.thread_time()
    try:
        reader(text)
    except InvalidInput:
        pass
    return time.thread_time() - begun


def grows(reader: Callable[[str], object], shape: Shape) -> str:
    """Where the work grows faster than the text, '' where it does not. Measured again before it is said: a busy machine
    makes single measurements worthless, but never makes a quadratic reader look linear."""
    letters, before = _FROM_LETTERS, work(reader, shape.of(_FROM_LETTERS))
    while letters < _UP_TO_LETTERS:
        letters *= 2
        now = work(reader, shape.of(letters))
        tries = 0
        while now > _TELLING_S and now > _AT_MOST * before and tries < _TRIES:
            tries += 1
            before = max(before, work(reader, shape.of(letters // 2)))
            now = min(now, work(reader, shape.of(letters)))
        if now > _TELLING_S and now > _AT_MOST * before:
            return f"{shape.name}: {letters} letters cost {now / before:.1f} times what {letters // 2} cost"
        before = now
    return ""


@pytest.mark.parametrize("name", READERS)
def test_twice_the_text_is_at_most_two_and_a_half_times_the_work(name: str) -> None:
    gc.disable()  # a tree that grows would be looked through over and over; workers read without it, too
    try:
        told = [one for shape in SHAPES if (one := grows(READERS[name], shape))]
    finally:
        gc.enable()
        gc.collect()

    assert not told


def test_there_are_forty_shapes_and_none_twice() -> None:
    assert len({shape.of(100) for shape in SHAPES}) == len(SHAPES) >= 40


def test_a_reader_that_costs_the_square_is_told() -> None:
    """The test of the test: such a reader must not pass."""

    def _squares(text: str) -> int:
        return sum(text.count("<") for _ in range(len(text) // 4))

    assert "times what" in grows(_squares, Shape("less-than", "<"))
