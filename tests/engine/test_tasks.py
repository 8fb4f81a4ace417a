"""What is begun is ended: looking every few seconds, what goes on beside others, what many do at once."""

from __future__ import annotations

import asyncio
import gc

import pytest

from nailer.engine.tasks import Background, Often, at_once, comes_first, told_by
from nailer.errors import StoreUnavailable


async def test_it_looks_again_whatever_fails_and_ends_what_it_began() -> None:
    looks, enough, ended = [], asyncio.Event(), asyncio.Event()

    async def _works() -> None:
        try:
            await asyncio.sleep(60)
        finally:
            ended.set()

    async def _look() -> None:
        looks.append(len(looks))
        if len(looks) == 1:
            raise StoreUnavailable("away")
        if len(looks) == 2:
            raise ValueError("a defect")
        if len(looks) == 3:
            often.begin(_works())
        if len(looks) > 4:
            enough.set()

    often = Often("anything", _look, every_s=0.0)
    often.start()
    async with asyncio.timeout(30):
        await enough.wait()
    await often.stop()
    assert ended.is_set()
    seen = len(looks)
    await asyncio.sleep(0.05)
    assert len(looks) == seen


async def test_one_that_was_never_started_stops() -> None:
    async def _never() -> None:
        raise AssertionError

    await Often("nothing", _never).stop()


async def test_it_is_woken_before_its_time() -> None:
    looked = asyncio.Event()

    async def _look() -> None:
        looked.set()

    often = Often("anything", _look, every_s=3600.0)
    often.start()
    async with asyncio.timeout(30):
        await looked.wait()
        looked.clear()
        often.wake()
        await looked.wait()
    await often.stop()


async def test_by_one_key_one_goes_on() -> None:
    tasks, go_on = Background(), asyncio.Event()
    task = tasks.begin(go_on.wait(), "key")  # type: ignore[arg-type]
    assert tasks.of("key") is task
    go_on.set()
    await tasks.all_ended()
    assert tasks.of("key") is None
    never = tasks.begin(asyncio.sleep(3600), "other")
    await tasks.close()
    assert never.cancelled()


@pytest.mark.parametrize("most", [1, 3, 50])
async def test_so_many_at_once_and_each_once(most: int) -> None:
    under_way, highest = 0, 0

    async def _step(number: int) -> int:
        nonlocal under_way, highest
        under_way += 1
        highest = max(highest, under_way)
        await asyncio.sleep(0)
        under_way -= 1
        return number

    found = [number async for number in at_once((_step(number) for number in range(20)), most)]
    assert sorted(found) == list(range(20))
    assert highest == min(most, 20)


async def test_the_first_that_fails_ends_the_others() -> None:
    ended = []

    async def _step(number: int) -> None:
        try:
            if number == 2:
                raise ValueError("two")
            await asyncio.sleep(60)
        finally:
            ended.append(number)

    with pytest.raises(ValueError, match="two"):
        _ = [one async for one in at_once((_step(number) for number in range(4)), 4)]
    assert sorted(ended) == [0, 1, 2, 3]


async def test_of_several_that_fail_at_once_none_is_left_unheard() -> None:
    """The loop complains of a task whose failure nobody asked for."""
    unheard: list[object] = []
    asyncio.get_running_loop().set_exception_handler(lambda _, context: unheard.append(context))

    async def _fails(number: int) -> None:
        await asyncio.sleep(0)
        raise ValueError(str(number))

    with pytest.raises(ValueError, match=r"\d"):
        _ = [one async for one in at_once((_fails(number) for number in range(5)), 5)]
    gc.collect()
    assert unheard == []


async def test_what_is_told_comes_in_order_and_then_what_is_raised() -> None:
    async def _work(tell) -> None:  # type: ignore[no-untyped-def]
        tell(1)
        await asyncio.sleep(0)
        tell(None)
        raise StoreUnavailable("away")

    told = []
    with pytest.raises(StoreUnavailable):
        async for one in told_by(_work):
            told.append(one)  # noqa: PERF401 - what came before the error counts
    assert told == [1, None]


async def test_whichever_comes_first() -> None:
    future: asyncio.Future[int] = asyncio.get_running_loop().create_future()
    event = asyncio.Event()
    assert not await comes_first(future, event, 0.01)
    event.set()
    assert not await comes_first(future, event)
    future.set_result(1)
    assert await comes_first(future, event)
