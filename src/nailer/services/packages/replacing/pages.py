"""What visitors get before and after a replacement, and whether that is worse."""

from __future__ import annotations

import asyncio

from nailer.core.check.live import Fetched, broke
from nailer.core.files.sitepath import address_of
from nailer.core.packages.manifest import Manifest
from nailer.core.words import span_text
from nailer.services.editing import Editing
from nailer.services.packages.declaring import declared_in, entries_of
from nailer.services.packages.replacing.patience import Patience
from nailer.services.packages.replacing.plans import ReplacementPlans
from nailer.sides.side import Side
from nailer.store.packages.replacements import Replacement
from nailer.store.sites import Site

_SECOND_LOOK_S = 1.0  # some servers read a program anew only after a moment
_MOST_ROOTS = 3
_MOST_PAGES = 8
_NAMED_CACHES = 6
_CACHED = (b".css", b".js", b".mjs")


class ReplacementPages:
    def __init__(self, editing: Editing, plans: ReplacementPlans, patience: Patience) -> None:
        self._live = editing.live_check
        self._saving = editing.saving
        self._plans = plans
        self._patience = patience

    async def answers(self, site: Site) -> list[Fetched]:
        """What the watched pages answer, and the first page of each document root."""
        ways = await self._saving.ways(site.id)
        addresses = [root.address for root in site.document_roots[:_MOST_ROOTS]]
        wanted = list(dict.fromkeys([*addresses, *ways.watched]))[:_MOST_PAGES]
        return list(await asyncio.gather(*(self._live.once(one) for one in wanted)))

    async def worse(self, one: Replacement, site: Site) -> str:
        """What is worse than before, also when it is looked at again; '' for nothing. Raises what looking raises."""
        why = await self._looked(one, site)
        if why:
            await asyncio.sleep(_SECOND_LOOK_S)
            why = await self._looked(one, site)
        return why

    async def _looked(self, one: Replacement, site: Site) -> str:
        if one.new_copy_id is not None:
            said: list[str] = []

            async def _read_back(side: Side) -> None:
                found = await declared_in(side, one.path, await entries_of(side, one.path))
                said.append(found.version.text if found is not None else "no version")

            await self._patience.do(site, _read_back)
            wanted = await self._plans.declares(one)
            if said[-1] != wanted:
                return f"{one.path} declares {said[-1]}, not {wanted}"
        after = await asyncio.gather(*(self._live.once(page.address) for page in one.pages))
        pairs = zip(one.pages, after, strict=True)
        return "; ".join(f"{now.address} {why}" for then, now in pairs if (why := broke(then, now)))

    async def caches(self, one: Replacement, site: Site) -> str:
        """Which styles and scripts visitors may have of the old version still, and for how long, in a sentence."""
        result = await self._plans.result(one) if one.new_copy_id is not None else Manifest(())
        new = {row.below for row in await self._plans.rows(one) if row.taken(one.choices) is not None and row.new}
        paths = [one.path.join(name.below) for name in result.files if name.below in new]
        addresses = [
            address
            for path in paths
            if path.name.lower().endswith(_CACHED) and (address := address_of(path, site.document_roots)) is not None
        ]
        answers = await asyncio.gather(*(self._live.once(at, body=False) for at in addresses[:_NAMED_CACHES]))
        held = [(answer.address, answer.keeps_s) for answer in answers if answer.keeps_s]
        if not held:
            return ""
        longest = max(keeps for _, keeps in held if keeps is not None)
        names = ", ".join(address.rpartition("/")[2] for address, _ in held[:3])
        return (
            f"Returning visitors may still see the old {names} from their browser cache for up to {span_text(longest)}."
        )
