"""Links that lead to other sites: asked politely, a few a second, one at a time of each host, and only where its rules for
robots allow it (RFC 9309)."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Mapping, Sequence
from urllib.parse import urlsplit
from urllib.robotparser import RobotFileParser

from nailer.core.check.live import Fetched
from nailer.core.site.findings import FindingKind, SiteFinding
from nailer.core.site.graph import Graph, RefersAt
from nailer.core.words import count_text
from nailer.services.editing import Editing

_EVERY_S = 0.4
_MOST = 400
_LONGEST_RULES = 500 * 1024  # RFC 9309, 2.5
_AGENT = "Nailer"
_GONE = (404, 410)


class OtherSites:
    """`pause` waits so many seconds between two questions."""

    def __init__(
        self, editing: Editing, every_s: float = _EVERY_S, pause: Callable[[float], Awaitable[None]] = asyncio.sleep
    ) -> None:
        self._live = editing.live_check
        self._every_s = every_s
        self._pause = pause

    async def findings(self, graph: Graph, problems: list[str], heard: Callable[[int, int], None]) -> list[SiteFinding]:
        """Links to other sites that lead nowhere. What could not be asked is added to `problems`; `heard` is told how many
        of how many are done."""
        links = graph.elsewhere()
        wanted = dict(list(links.items())[:_MOST])
        if len(links) > _MOST:
            problems.append(f"{count_text(len(links), 'link')} lead to other sites; the first {_MOST} were checked.")
        robots: dict[str, RobotFileParser] = {}
        found: list[SiteFinding] = []
        silent: list[SiteFinding] = []
        answered = forbidden = 0
        for number, (address, places) in enumerate(_by_turns(wanted)):
            heard(number, len(wanted))
            if not await self._may_ask(address, robots):
                forbidden += 1
                continue
            answer = await self._politely(address)
            answered += answer.status is not None
            if answer.status in _GONE:
                found.append(_finding(address, places, str(answer.status)))
            elif answer.status is None:
                silent.append(_finding(address, places, answer.words))
        if forbidden:
            problems.append(f"{count_text(forbidden, 'link')} not checked: the other site's robots.txt forbids it.")
        if silent and not answered:
            # Nobody answered at all: that tells of this machine's way out, not of them.
            problems.append(f"No other site could be reached from Nailer's machine. The first one: {silent[0].said}")
            return found
        return [*found, *silent]

    async def _may_ask(self, address: str, robots: dict[str, RobotFileParser]) -> bool:
        parts = urlsplit(address)
        origin = f"{parts.scheme}://{parts.netloc}"
        if origin not in robots:
            rules = RobotFileParser()
            answer, text = await self._live.content(f"{origin}/robots.txt")
            await self._pause(self._every_s)
            # RFC 9309, 2.3.1: without such a file everything may be asked; where the server fails, nothing.
            if answer.status is not None and answer.status >= 500:
                rules.parse(["User-agent: *", "Disallow: /"])
            else:
                rules.parse(
                    text[:_LONGEST_RULES].decode("utf-8", "replace").splitlines() if answer.status == 200 else []
                )
            robots[origin] = rules
        return robots[origin].can_fetch(_AGENT, address)

    async def _politely(self, address: str) -> Fetched:
        begun_s = time.monotonic()
        answer = await self._live.once(address, body=False)
        await self._pause(max(0.0, self._every_s - (time.monotonic() - begun_s)))
        return answer


def _finding(address: str, places: Sequence[RefersAt], said: str) -> SiteFinding:
    return SiteFinding(FindingKind.OTHERS, address, address=address, places=tuple(places), said=said)


def _by_turns(links: Mapping[str, Sequence[RefersAt]]) -> list[tuple[str, Sequence[RefersAt]]]:
    """Links so that one host is asked again only after all others had their turn."""
    turns: dict[str, int] = {}
    ordered = []
    for address, places in links.items():
        host = urlsplit(address).netloc
        turns[host] = turns.get(host, 0) + 1
        ordered.append((turns[host], address, places))
    return [(address, places) for _, address, places in sorted(ordered, key=lambda one: one[0])]
