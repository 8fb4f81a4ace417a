"""Many-file actions: plans made and read, uploads, archives, removal, room, kept copies, notices."""

from __future__ import annotations

from nailer.engine.live import InFlight, LiveJob
from nailer.services.plans.arriving import Arriving
from nailer.services.plans.door import Incoming, Plans
from nailer.services.plans.make import Dropped, FromFolder, PlanMaker
from nailer.services.plans.notices import Notices, Post
from nailer.services.plans.prepared import PreparedFiles, Rename, Write
from nailer.services.plans.read import PlanReader, PlanToRead
from nailer.services.plans.take_back import TakeBacks
from nailer.services.plans.target import folder_items, missing_folders, room_at
from nailer.services.plans.unpacking.archives import Archives, Unpacked, is_archive
from nailer.services.plans.unpacking.server_commands import ServerCommands, Staged
from nailer.store.changes import WHAT_WORDS, Change, What
from nailer.store.jobs import FailureGroup, Item, Job

__all__ = [
    "WHAT_WORDS",
    "Archives",
    "Arriving",
    "Change",
    "Dropped",
    "FailureGroup",
    "FromFolder",
    "InFlight",
    "Incoming",
    "Item",
    "Job",
    "LiveJob",
    "Notices",
    "PlanMaker",
    "PlanReader",
    "PlanToRead",
    "Plans",
    "Post",
    "PreparedFiles",
    "Rename",
    "ServerCommands",
    "Staged",
    "TakeBacks",
    "Unpacked",
    "What",
    "Write",
    "folder_items",
    "is_archive",
    "missing_folders",
    "room_at",
]
