"""The door of the wing: files on both sides, seen and changed one by one."""

from __future__ import annotations

from dataclasses import dataclass
from zoneinfo import ZoneInfo

from nailer.engine.engine import Engine
from nailer.services.files.browse import Browse
from nailer.services.files.contents_compared import ContentComparer
from nailer.services.files.contents_shown import ContentsShown
from nailer.services.files.guarded import GuardedFolders
from nailer.services.files.keeping import KeepBook
from nailer.services.files.opening import Opening
from nailer.services.files.pair_ends import PairEnds
from nailer.services.files.permissions import PermissionsPlans
from nailer.services.files.sieves import SieveBook
from nailer.services.files.single_change import SingleChange
from nailer.services.files.tray import TrayBook
from nailer.sides.here import HereSide
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Files:
    """Both sides as they are seen (`browse`), where typed text leads (`opening`), of any two folders (`ends`); changes to
    one name (`change`), permissions (`permissions`), guarded folders (`guarded`), keep marks (`keeping`), the tray (`tray`),
    sieves (`sieves`), and contents compared (`comparer`) or shown beside each other (`contents`). `here` is this machine's
    side."""

    here: HereSide
    browse: Browse
    opening: Opening
    ends: PairEnds
    change: SingleChange
    permissions: PermissionsPlans
    guarded: GuardedFolders
    keeping: KeepBook
    tray: TrayBook
    sieves: SieveBook
    comparer: ContentComparer
    contents: ContentsShown

    @classmethod
    def build(cls, stores: Stores, engine: Engine, zone: ZoneInfo) -> Files:
        """`zone` is whose days and hours the ledger shows."""
        browse = Browse(engine.here, engine.pool, stores.changes, stores.pairs, stores.sieves, stores.marks, zone)
        ends = PairEnds(browse, stores.sites)
        guarded = GuardedFolders()
        keeping = KeepBook(browse, stores.marks, stores.sites)
        return cls(
            here=engine.here,
            browse=browse,
            opening=Opening(browse),
            ends=ends,
            change=SingleChange(browse, stores.changes, keeping),
            permissions=PermissionsPlans(browse, stores.jobs, engine.runner, guarded),
            guarded=guarded,
            keeping=keeping,
            tray=TrayBook(stores.tray),
            sieves=SieveBook(stores.sieves, stores.pairs, ends),
            comparer=ContentComparer(engine.pool),
            contents=ContentsShown(browse, engine.spool),
        )
