"""The door of the wing: many-file actions, from the plan that is read to the job that has ended."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.engine.engine import Engine
from nailer.services.files import Files
from nailer.services.plans.account_room import AccountRoom
from nailer.services.plans.arriving import Arriving
from nailer.services.plans.changes import ChangeLog
from nailer.services.plans.comparing import PlanComparing
from nailer.services.plans.confirming import Confirming
from nailer.services.plans.jobs import Jobs
from nailer.services.plans.kept_copies import KeptCopies
from nailer.services.plans.leftovers import Leftovers
from nailer.services.plans.make import PlanMaker
from nailer.services.plans.notices import Notices, Post
from nailer.services.plans.prepared import PreparedFiles
from nailer.services.plans.read import PlanReader
from nailer.services.plans.removal import RemovalCheck
from nailer.services.plans.speeds import Speeds
from nailer.services.plans.take_back import TakeBacks
from nailer.services.plans.unpacking.archive_plans import ArchivePlans
from nailer.services.plans.unpacking.archives import Archives
from nailer.services.plans.unpacking.server_commands import ServerCommands
from nailer.services.plans.uploads import Uploads
from nailer.services.sites import Sites
from nailer.store.stores import Stores


@dataclass(frozen=True, slots=True)
class Incoming:
    """Where what browsers send comes in: archives to be unpacked, and large files part by part."""

    archives: Archives
    arriving: Arriving


@dataclass(frozen=True, slots=True)
class Plans:
    """Plans are made (`make`; of archives `unpacking`; of changes `take_back`), read (`reader`) and weighed (`room`,
    `removal`), confirmed (`confirming`), and become jobs (`jobs`) under limits of speed (`speeds`). What a browser sends
    comes in at `uploads`, what was prepared here at `prepared`; archives are unpacked here (`archives`) or there (`server`).
    `changes` says what was done, `kept` bounds what is kept of it, `leftovers` clears half files, `notices` writes when all
    is done."""

    make: PlanMaker
    unpacking: ArchivePlans
    take_back: TakeBacks
    reader: PlanReader
    room: AccountRoom
    removal: RemovalCheck
    confirming: Confirming
    jobs: Jobs
    speeds: Speeds
    uploads: Uploads
    prepared: PreparedFiles
    archives: Archives
    server: ServerCommands
    changes: ChangeLog
    kept: KeptCopies
    leftovers: Leftovers
    notices: Notices

    @classmethod
    def build(cls, stores: Stores, engine: Engine, sites: Sites, files: Files, incoming: Incoming, post: Post) -> Plans:
        """`incoming` is where what was sent comes in: the engine carries from there."""
        archives = incoming.archives
        largest = engine.tools.keep_largest_bytes
        browse, runner = files.browse, engine.runner
        comparing = PlanComparing(browse, files.comparer, stores.changes)
        maker = PlanMaker(
            browse, stores.jobs, runner, files.sieves, comparing, files.keeping, keep_largest_bytes=largest
        )
        reader = PlanReader(stores.jobs, engine.pool, files.sieves)
        server = ServerCommands(engine.pool, browse)
        removal = RemovalCheck(browse, stores.changes, stores.jobs, keep_largest_bytes=largest)
        leftovers = Leftovers(stores.parts, stores.sites, browse)
        return cls(
            make=maker,
            unpacking=ArchivePlans(maker, browse, archives, engine.spool),
            take_back=TakeBacks(browse, stores.jobs, stores.changes, runner),
            reader=reader,
            room=AccountRoom(browse, stores.jobs, reader),
            removal=removal,
            confirming=Confirming(reader, maker, removal, files.guarded),
            jobs=Jobs(stores.jobs, stores.parts, engine.live, runner, leftovers, sites),
            speeds=Speeds(stores.limits, engine.limits, stores.sites, stores.jobs),
            uploads=Uploads(engine.tools, stores.jobs, runner, browse, incoming.arriving),
            prepared=PreparedFiles(stores.jobs, archives, engine.spool, runner),
            archives=archives,
            server=server,
            changes=ChangeLog(stores.changes, engine.kept),
            kept=KeptCopies(stores.changes, engine.kept),
            leftovers=leftovers,
            notices=Notices(stores.jobs, stores.accounts, stores.sites, engine.pool, post, archives, server),
        )
