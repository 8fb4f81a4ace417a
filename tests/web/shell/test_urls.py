"""Addresses: what changes with a file's content, and what survives in them."""

from __future__ import annotations

import re
import shutil
from pathlib import Path

import pytest

from nailer.web.shell.pages import static_folder
from nailer.web.shell.urls import asset_version
from tests.web.conftest import Visitor

BUILT = static_folder() / "vendor"


@pytest.fixture
def copied(tmp_path: Path) -> Path:
    """Scripts, styles and fonts that may be changed."""
    return Path(shutil.copytree(BUILT, tmp_path / "vendor"))


@pytest.mark.parametrize("name", sorted(file.name for file in BUILT.iterdir()))
def test_whatever_script_or_style_changes_gets_another_address(copied: Path, name: str) -> None:
    before = asset_version(copied)
    (copied / name).write_text("changed")

    assert asset_version(copied) != before


def test_templates_take_every_address_from_one_place() -> None:
    folder = static_folder().parent / "templates"
    own = re.compile(r"""(?:href|action|data-[\w-]+)=["']/[a-z]""")

    assert not [file.name for file in folder.rglob("*.html") if own.search(file.read_text())]


def test_addresses_of_before_lead_on_with_what_was_asked(maren: Visitor) -> None:
    site = maren.open_site()

    for before, now in (
        ("access?side=there&path=/htdocs", "permissions"),
        ("wire?as=text", "connection-log"),
        ("packages/copies", "copies"),
    ):
        answer = maren.get(f"{site}/{before}")
        assert answer.url.path == f"{site}/{now}"
        assert answer.url.query.decode() == before.partition("?")[2]
        assert answer.status_code == 200
