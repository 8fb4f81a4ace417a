"""Changes that can be taken back."""

from __future__ import annotations

from pathlib import Path

import pytest

from nailer.core.files.entry import SideName
from nailer.seal import Seal
from nailer.store.changes import ChangeStore, NewChange, What
from nailer.store.database import Database
from nailer.store.sites import Secrets, SiteStore
from tests.builders import a_file, a_site, path

PASSWORD = "a very secret word"


@pytest.fixture
def sites(database: Database, tmp_path: Path) -> SiteStore:
    return SiteStore(database, Seal.at(tmp_path / "seal.key"))


async def test_removed_names_are_found_below_their_folder_only(database: Database, sites: SiteStore) -> None:
    site = await sites.add(a_site(), Secrets(PASSWORD))
    changes = ChangeStore(database)
    for name in ("/a_b/x", "/aXb/x", "/a_b/deep/y", "/a_bc/z"):
        await changes.add_confirmed(NewChange(site.id, SideName.THERE, path(name), What.REMOVED, None, a_file("x")))

    found = await changes.removed_in(site.id, SideName.THERE, path("/a_b"))

    assert {str(one.path) for one in found} == {"/a_b/x", "/a_b/deep/y"}
