"""What nothing may remove, and what a host owns."""

from __future__ import annotations

from datetime import date

import pytest

from nailer.core.files.entry import Entry, Kind, SideName
from nailer.core.files.guarding import proposed_guards
from nailer.core.files.keeping import KeepMark, Keeps
from nailer.core.files.sitepath import SitePath
from nailer.core.plans.plan import FoundFile, Verdict, removal_plan
from tests.builders import a_file, a_folder, path

HERE, THERE = SideName.HERE, SideName.THERE
MARK = KeepMark(THERE, path("/htdocs/old/contract.pdf"), date(2027, 1, 3), "the client still checks it")


def test_a_mark_keeps_what_it_is_on_what_is_in_it_and_the_folders_above() -> None:
    keeps = Keeps([MARK, KeepMark(THERE, path("/htdocs/img"), None, "")])

    assert keeps.because(THERE, MARK.path) == "kept until 3 January 2027: the client still checks it"
    assert keeps.because(THERE, path("/htdocs/img/deep/pier.svg")) == "kept"
    assert keeps.because(THERE, path("/htdocs/old")).startswith("holds /htdocs/old/contract.pdf, kept until")
    assert keeps.because(THERE, path("/htdocs/older")) == ""
    assert keeps.because(HERE, MARK.path) == "", "the other side is another place"


def test_a_removal_leaves_what_is_kept_and_every_folder_above_it() -> None:
    tree = [
        FoundFile((b"old",), a_folder("old")),
        FoundFile((b"old", b"contract.pdf"), a_file("contract.pdf")),
        FoundFile((b"old", b"draft.pdf"), a_file("draft.pdf")),
    ]
    keeps = Keeps([MARK])

    steps = removal_plan(tree, lambda below: keeps.because(THERE, path("/htdocs").join(below)))

    gone = {step.target[-1] for step in steps if step.verdict is Verdict.REMOVES}
    assert gone == {b"draft.pdf"}


def _folder(name: str, owner: int = 1000) -> Entry:
    return Entry(name.encode(), Kind.FOLDER, owner_id=owner)


@pytest.mark.parametrize("name", ["mail", "Logs", ".ssh", "ssl", "certificates", "stats", "backups"])
def test_what_a_host_keeps_is_guarded_by_its_name(name: str) -> None:
    assert proposed_guards(SitePath(), [_folder("htdocs"), _folder(name)], []) == [SitePath((name.encode(),))]


def test_what_somebody_else_owns_is_guarded_and_what_is_published_never_is() -> None:
    entries = [_folder("htdocs"), _folder("data"), _folder("panel", owner=0), _folder("logs"), a_file("mail")]

    found = proposed_guards(SitePath(), entries, [path("/htdocs"), path("/logs/public")])

    assert found == [path("/panel")], "a folder above what is published is not guarded, and a file is no folder"


def test_an_account_of_two_equal_owners_tells_nothing() -> None:
    assert proposed_guards(SitePath(), [_folder("a", 1), _folder("b", 2)], []) == []
