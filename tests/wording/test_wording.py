"""What people read is written in one name for one meaning."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

from tests.wording.names import BANNED, Banned
from tests.wording.texts import Text, all_texts

TOP = Path(__file__).parents[2]


@pytest.fixture(scope="module")
def texts() -> list[Text]:
    return list(all_texts())


def test_the_texts_are_found(texts: list[Text]) -> None:
    """The reader of texts reads: pages, messages of the engine, the scripts of pages and the command line."""
    assert len(texts) > 5000
    words = {one.words for one in texts}
    assert "Set a new password" in words or any("password" in one for one in words)
    for part in ("web/templates/", "web/scripts/", "services/", "engine/", "command/", "errors.py"):
        assert sum(one.where.startswith(part) for one in texts) > 20, part


def test_the_documents_use_the_same_names() -> None:
    # What servers are said to do stands in the words of the scripted servers' own table.
    files = [one for one in [*(TOP / "docs").glob("*.md"), TOP / "README.md"] if one.name != "servers.md"]
    found = [
        f"{file.name}:{number}: {line.strip()} (say instead: {banned.instead})"
        for file in files
        for number, line in enumerate(file.read_text().splitlines(), 1)
        for banned in BANNED
        if re.search(banned.pattern, re.sub(r"`[^`]*`", "", line), re.IGNORECASE)
        and not any(other in line for other in banned.but)
    ]

    assert len(files) > 8
    assert found == []


@pytest.mark.parametrize("banned", BANNED, ids=[one.pattern for one in BANNED])
def test_no_text_uses_a_second_name(texts: list[Text], banned: Banned) -> None:
    pattern = re.compile(banned.pattern, re.IGNORECASE)
    found = [
        f"{one.where}:{one.line}: {one.words}"
        for one in texts
        if pattern.search(one.words) and not any(other in one.words for other in banned.but)
    ]
    assert found == [], f"say instead: {banned.instead}"
