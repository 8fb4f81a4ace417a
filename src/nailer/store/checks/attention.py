"""What lists of sites say of each: findings by number, the last scan, copies, and timers that failed."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime

from nailer.core.site.address import Wrong
from nailer.core.site.attention import FailedTimer
from nailer.core.site.findings import FindingKind, Gravity, SiteFinding, cards
from nailer.core.words import aware
from nailer.store.database import Database, Work

_CERTIFICATES = (Wrong.CERTIFICATE_OVER, Wrong.CERTIFICATE_NAME, Wrong.CERTIFICATE_SOON)


@dataclass(frozen=True, slots=True)
class FindingCounts:
    """How many cards a site's findings make, and what is wrong with a certificate ('' where nothing is known to be)."""

    serious: int = 0
    others: int = 0
    certificate: str = ""

    @property
    def all(self) -> int:
        """The cards that stand on the site's page."""
        return self.serious + self.others


@dataclass(frozen=True, slots=True)
class SiteStored:
    """Of one site. `scanned_at` is None where no scan was ever done; `tested`: a file put there was seen at an address."""

    added_at: datetime
    scanned_at: datetime | None
    copied: bool
    tested: bool
    counts: FindingCounts
    failed_timers: tuple[FailedTimer, ...]


def counted(found: Sequence[SiteFinding]) -> FindingCounts:
    """The numbers of findings that stand, as their page counts them."""
    made = cards(found)
    serious = sum(one.gravity is Gravity.BAD for one in made)
    ways = {one.key.partition(": ")[0] for one in found if one.kind is FindingKind.WAY}
    return FindingCounts(serious, len(made) - serious, next((one.value for one in _CERTIFICATES if one in ways), ""))


def write_counts(work: Work, site_id: int, found: Sequence[SiteFinding]) -> None:
    """Store the numbers of what stands, in the transaction that changes it."""
    counts = counted(found)
    work.run(
        "attention.count",
        site_id=site_id,
        serious=counts.serious,
        others=counts.others,
        certificate=counts.certificate,
    )


class AttentionStore:
    def __init__(self, database: Database) -> None:
        self._db = database

    async def uncounted(self) -> list[int]:
        """Sites whose findings have no numbers yet."""
        rows = await self._db.read(lambda work: work.rows("attention.uncounted"))
        return [row["site_id"] for row in rows]

    async def all(self) -> dict[int, SiteStored]:
        """What is stored of every site."""

        def _read(work: Work) -> dict[int, SiteStored]:
            counts = {
                row["site_id"]: FindingCounts(row["serious"], row["others"], row["certificate"])
                for row in work.rows("attention.counts")
            }
            failed: dict[int, list[FailedTimer]] = {}
            for row in work.rows("attention.failed_timers"):
                failed.setdefault(row["site_id"], []).append(
                    FailedTimer(row["id"], row["name"], aware(row["at"]), row["state"] == "asked")
                )
            return {
                row["site_id"]: SiteStored(
                    aware(row["created_at"]),
                    aware(row["scanned_at"]) if row["scanned_at"] else None,
                    bool(row["copied"]),
                    bool(row["tested"]),
                    counts.get(row["site_id"], FindingCounts()),
                    tuple(failed.get(row["site_id"], ())),
                )
                for row in work.rows("attention.sites")
            }

        return await self._db.read(_read)
