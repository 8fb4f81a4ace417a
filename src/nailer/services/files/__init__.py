"""Seeing and changing single files: browsing, search, permissions, guarded folders, trees, sieves."""

from __future__ import annotations

from nailer.services.files.browse import FRESH_S, Browse, Ledger
from nailer.services.files.contents_compared import ComparedEnd, ContentComparer, content_hash
from nailer.services.files.door import Files
from nailer.services.files.download import Drain, file_to_fetch, tar_head, tarred, zip_info, zipped
from nailer.services.files.folder_pair import FolderPair
from nailer.services.files.folding import folded
from nailer.services.files.guarded import GuardedFolders
from nailer.services.files.keeping import KeepBook, mark_of
from nailer.services.files.opening import LedTo, Nowhere
from nailer.services.files.pair_ends import PairEnds, side_of, top_of
from nailer.services.files.permissions import PermissionsPlans, PermissionsReading
from nailer.services.files.preview import ShownAs, caption, kind_of, preview
from nailer.services.files.search import Hit, Passed, folders_like, known_folders, names_beyond_ascii, search
from nailer.services.files.second_look import looked_again
from nailer.services.files.sieves import OnPair, SieveBook
from nailer.services.files.tray import Tray, TrayBook
from nailer.services.files.trees import Progress, kinds_by_content, read_tree

__all__ = [
    "FRESH_S",
    "Browse",
    "ComparedEnd",
    "ContentComparer",
    "Drain",
    "Files",
    "FolderPair",
    "GuardedFolders",
    "Hit",
    "KeepBook",
    "LedTo",
    "Ledger",
    "Nowhere",
    "OnPair",
    "PairEnds",
    "Passed",
    "PermissionsPlans",
    "PermissionsReading",
    "Progress",
    "ShownAs",
    "SieveBook",
    "Tray",
    "TrayBook",
    "caption",
    "content_hash",
    "file_to_fetch",
    "folded",
    "folders_like",
    "kind_of",
    "kinds_by_content",
    "known_folders",
    "looked_again",
    "mark_of",
    "names_beyond_ascii",
    "preview",
    "read_tree",
    "search",
    "side_of",
    "tar_head",
    "tarred",
    "top_of",
    "zip_info",
    "zipped",
]
