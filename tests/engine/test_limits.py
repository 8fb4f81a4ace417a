"""Limits of speed, on a clock of the test's own: it jumps to the next moment at which anything is due."""

from __future__ import annotations

import asyncio
import selectors
from collections.abc import Coroutine
from types import SimpleNamespace
from typing import Any

import pytest

from nailer.core.files.entry import SideName
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.limits import ALL_SITES, Limit, Limits
from nailer.engine.limits import SpeedLimits, lines_of

_SITE, _OTHER = 7, 8


class _Jumping(asyncio.SelectorEventLoop):
    """Nothing here waits for a socket, so time may jump instead of passing."""

    def __init__(self) -> None:
        super().__init__(selectors.SelectSelector())
        self._now_s = 100.0

    def time(self) -> float:
        return self._now_s

    def _run_once(self) -> None:
        if not self._ready and self._scheduled:  # type: ignore[attr-defined]
            self._now_s = max(self._now_s, self._scheduled[0].when())  # type: ignore[attr-defined]
        super()._run_once()  # type: ignore[misc]


def run(work: Coroutine[Any, Any, None]) -> None:
    with asyncio.Runner(loop_factory=_Jumping) as runner:
        runner.run(work)


class Sending:
    """Jobs that send as fast as they may, and what came through of each."""

    def __init__(self, limits: SpeedLimits) -> None:
        self.limits = limits
        self.passed: dict[int, int] = {}

    async def send(self, job: int, *, site: int = _SITE, side: SideName = SideName.THERE, flights: int = 1) -> None:
        async def one() -> None:
            while True:
                count = self.limits.slice_bytes((site, side)) or 256 * 1024
                await self.limits.pay(job, count, (site, side))
                self.passed[job] = self.passed.get(job, 0) + count
                await asyncio.sleep(0)

        await asyncio.gather(*(one() for _ in range(flights)))

    async def for_s(self, seconds: float, *jobs: Coroutine[Any, Any, None]) -> dict[int, int]:
        self.passed = {}
        tasks = [asyncio.create_task(job) for job in jobs]
        await asyncio.sleep(seconds)
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
        return self.passed


@pytest.mark.parametrize("rate", [30_000, 1_000_000, 80_000_000])
def test_a_limit_is_held_within_five_percent_over_ten_seconds(rate: int) -> None:
    async def story() -> None:
        limits = SpeedLimits(lambda: 0)
        limits.set_all({ALL_SITES: Limits(Limit(up=rate))})
        sending = Sending(limits)

        passed = await sending.for_s(10, sending.send(1, flights=4))

        assert passed[1] == pytest.approx(10 * rate, rel=0.05)
        await limits.close()

    run(story())


def test_jobs_share_a_limit_evenly_however_many_files_each_sends() -> None:
    async def story() -> None:
        limits = SpeedLimits(lambda: 0)
        limits.set_all({ALL_SITES: Limits(Limit(up=1_000_000))})
        sending = Sending(limits)

        passed = await sending.for_s(10, sending.send(1, flights=20), sending.send(2, site=_OTHER))

        assert passed[1] == pytest.approx(passed[2], rel=0.05)
        assert sum(passed.values()) == pytest.approx(10_000_000, rel=0.05)
        await limits.close()

    run(story())


def test_a_site_has_its_own_limit_beside_that_of_all() -> None:
    async def story() -> None:
        limits = SpeedLimits(lambda: 0)
        limits.set_all({ALL_SITES: Limits(Limit(down=1_000_000)), _SITE: Limits(Limit(down=200_000))})
        sending = Sending(limits)

        passed = await sending.for_s(
            10, sending.send(1, side=SideName.HERE), sending.send(2, site=_OTHER, side=SideName.HERE)
        )

        assert passed[1] == pytest.approx(2_000_000, rel=0.05)
        assert passed[2] == pytest.approx(8_000_000, rel=0.05)
        assert limits.slice_bytes((_SITE, SideName.THERE)) is None, "the other direction is free"
        await limits.close()

    run(story())


def test_a_limit_can_be_changed_while_a_job_runs() -> None:
    async def story() -> None:
        limits = SpeedLimits(lambda: 0)
        limits.set_all({ALL_SITES: Limits(Limit(up=100_000))})
        sending = Sending(limits)
        job = asyncio.create_task(sending.send(1))
        await asyncio.sleep(10)
        slow = sending.passed[1]

        limits.set_all({ALL_SITES: Limits(Limit(up=1_000_000))})
        await asyncio.sleep(10)

        assert slow == pytest.approx(1_000_000, rel=0.05)
        assert sending.passed[1] - slow == pytest.approx(10_000_000, rel=0.05)
        job.cancel()
        await asyncio.gather(job, return_exceptions=True)
        await limits.close()

    run(story())


@pytest.mark.parametrize(
    ("kind", "to_side", "source", "lines"),
    [
        (JobKind.TRANSFER, SideName.THERE, None, ((_SITE, SideName.THERE),)),
        (JobKind.TRANSFER, SideName.HERE, None, ((_SITE, SideName.HERE),)),
        (JobKind.SYNC, SideName.HERE, None, ((_SITE, SideName.HERE),)),
        (JobKind.DROP, SideName.HERE, None, ()),
        (JobKind.COPY, SideName.HERE, None, ()),
        (JobKind.COPY, SideName.THERE, None, ((_SITE, SideName.HERE), (_SITE, SideName.THERE))),
        (JobKind.COPY, SideName.THERE, _OTHER, ((_OTHER, SideName.HERE), (_SITE, SideName.THERE))),
        (JobKind.SYNC, SideName.THERE, _OTHER, ((_OTHER, SideName.HERE), (_SITE, SideName.THERE))),
    ],
)
def test_each_byte_counts_on_the_lines_it_takes(
    kind: JobKind, to_side: SideName, source: int | None, lines: Any
) -> None:
    job: Any = SimpleNamespace(kind=kind, to_side=to_side, site_id=_SITE, source_site_id=source)

    assert lines_of(job) == lines


def test_between_two_sites_both_directions_are_held_to_their_limits() -> None:
    async def story() -> None:
        limits = SpeedLimits(lambda: 0)
        limits.set_all({_OTHER: Limits(Limit(down=200_000)), _SITE: Limits(Limit(up=1_000_000))})
        lines = ((_OTHER, SideName.HERE), (_SITE, SideName.THERE))
        passed = 0

        async def copy() -> None:
            nonlocal passed
            while True:
                count = limits.slice_bytes(*lines) or 256 * 1024
                await limits.pay(1, count, *lines)
                passed += count

        task = asyncio.create_task(copy())
        await asyncio.sleep(10)
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)

        assert passed == pytest.approx(2_000_000, rel=0.05)
        await limits.close()

    run(story())
