"""The table of decisions for a page that is blank or broken: each row with what just does not lead there."""

from __future__ import annotations

from dataclasses import replace
from datetime import UTC, datetime
from typing import Any

import pytest

from nailer.core.check.live import Fetched, FetchedHow
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import DocumentRoot
from nailer.core.site.broken import ChangedLately, Next, PageEvidence, leads
from nailer.core.site.error_log import LogLine, LogTail, is_error_log, lines_of, own_path
from tests.builders import path

PAGE = path("/htdocs/index.php")
NOW = datetime(2026, 11, 29, tzinfo=UTC)
WELL = {"size": 900, "media_type": "text/html", "begins": "<!doctype html><p>Moss Lane"}


def seen(status: int | None = 200, *, answer: dict[str, Any] | None = None, **more: Any) -> PageEvidence:
    """A page that is well, but for what is named."""
    fetched = Fetched(FetchedHow.PLAIN, "https://a.example/", status, **(WELL | (answer or {})))
    usual = {"visible": 20, "path": PAGE, "entry": a_file(900), "room": 10**9}
    return PageEvidence(fetched, 90, **(usual | more))


def a_file(size: int, permissions: int = 0o644) -> Entry:
    return Entry(b"index.php", Kind.FILE, size, permissions=permissions)


def steps(evidence: PageEvidence) -> list[Next]:
    return [one.next for one in leads(evidence)]


def log(*lines: LogLine, fresh: bool = True) -> LogTail:
    return LogTail(path("/logs/error.log"), lines, lines if fresh else ())


FATAL = LogLine("", "Fatal error: x in /home/u/htdocs/lib.php on line 3", path("/htdocs/lib.php"), 3)
NOWHERE = LogLine("", "Fatal error: memory size exhausted")
CHANGED = ChangedLately(path("/htdocs/lib.php"), NOW, "replaced", "maren", 7)
OPEN = ((path("/htdocs"), 0o755), (PAGE, 0o644))


def test_a_page_that_is_well_is_said_to_be_well() -> None:
    (only,) = leads(seen(chain=OPEN))
    assert only.next is Next.APART
    assert "It works now" in only.sentence


ROWS = {
    "nothing answers": (seen(None, answer={"words": "refused", "size": 0}), Next.ADDRESS, seen()),
    "a password": (seen(401), Next.EDIT, seen()),
    "a folder is shut": (
        seen(403, chain=((path("/htdocs"), 0o750), (PAGE, 0o644))),
        Next.PERMISSIONS,
        seen(403, chain=OPEN),
    ),
    "the file is shut": (
        seen(403, chain=((path("/htdocs"), 0o755), (PAGE, 0o600))),
        Next.PERMISSIONS,
        seen(403, chain=((path("/htdocs"), 0o711), (PAGE, None))),
    ),
    "no first page": (seen(403, entry=Entry(b"x", Kind.FOLDER), chain=OPEN[:1]), Next.SEND, seen(403, chain=OPEN)),
    "probably shows another folder": (seen(404), Next.PROVE, seen(404, entry=None)),
    "capitals": (seen(404, entry=None, other=path("/htdocs/Index.php")), Next.RENAME, seen(404, entry=None)),
    "taken away": (
        seen(404, entry=None, changed=(ChangedLately(PAGE, NOW, "removed", "tam", 9),)),
        Next.TAKE_BACK,
        seen(404, entry=None, changed=(ChangedLately(path("/htdocs/x.php"), NOW, "removed", "tam", 9),)),
    ),
    "only here": (seen(404, entry=None, entry_here=a_file(10)), Next.SEND, seen(404, entry=None)),
    "the log names a file": (seen(500, log=log(FATAL)), Next.EDIT, seen(200, log=log(FATAL))),
    "and somebody changed it": (
        seen(500, log=log(FATAL), changed=(CHANGED,)),
        Next.TAKE_BACK,
        seen(200, log=log(FATAL), changed=(CHANGED,)),
    ),
    "the log says something": (seen(500, log=log(NOWHERE)), Next.LOG, seen(200, log=log(NOWHERE))),
    "the page says it": (
        seen(answer={"trouble": "Parse error: unexpected end"}),
        Next.EDIT,
        seen(answer={"trouble": ""}),
    ),
    "no bytes there, some here": (
        seen(answer={"size": 0}, entry=a_file(0), entry_here=a_file(10)),
        Next.SEND,
        seen(answer={"size": 0}, entry=a_file(10), entry_here=a_file(10)),
    ),
    "no room": (seen(500, room=0), Next.ROOM, seen(500, room=5_000_000)),
    "no room, but the page is well": (seen(500, room=0), Next.ROOM, seen(200, room=0)),
    "the program's text": (seen(answer={"begins": "<?php echo"}), Next.SCRIPT, seen(answer={"begins": "<p>&lt;?php"})),
    "another kind": (
        seen(answer={"media_type": "text/plain"}),
        Next.EDIT,
        seen(answer={"media_type": "text/plain", "begins": "Moss Lane"}),
    ),
    "a script fails": (seen(500, path=path("/cgi-bin/x.cgi")), Next.SCRIPT, seen(500, log=log())),
    "something changed": (seen(500, changed=(CHANGED,)), Next.TAKE_BACK, seen(200, changed=(CHANGED,))),
    "something is missing": (seen(missing=(path("/htdocs/a.css"),)), Next.REFERENCES, seen(missing=())),
    "nothing to see": (seen(visible=0), Next.APART, seen(answer={"size": 0}, visible=None)),
    "a cache": (seen(500, answer={"age_s": 9}), Next.LIVE, seen(200, answer={"age_s": 9})),
}


@pytest.mark.parametrize("name", ROWS)
def test_each_row_leads_where_it_says_and_only_then(name: str) -> None:
    evidence, wanted, near = ROWS[name]
    assert wanted in steps(evidence)
    assert wanted not in steps(near)


def test_slow_is_said() -> None:
    assert any("s: visitors see" in one.sentence for one in leads(replace(seen(), took_ms=9000)))
    assert not any("s: visitors see" in one.sentence for one in leads(replace(seen(), took_ms=7000)))


def test_no_sentence_guesses() -> None:
    said = [one.sentence for evidence, _, near in ROWS.values() for one in [*leads(evidence), *leads(near)]]
    assert said
    for sentence in said:
        assert not {"probably", "maybe", "perhaps", "likely", "seems"} & set(sentence.lower().replace(".", " ").split())


def test_of_what_could_not_be_looked_at_nothing_is_said() -> None:
    unseen = seen(404, path=None, entry=None, knows_there=False, knows_here=False)
    (only,) = leads(unseen)
    assert only.next is Next.ADDRESS
    assert "could not be checked" in only.sentence
    (only,) = leads(seen(404, entry=None, knows_here=False))
    assert only.sentence == "No file with this name exists there."


def test_what_the_log_says_now_counts_more_than_what_it_said_before() -> None:
    old = LogLine("Mon", "Fatal error: old", path("/htdocs/old.php"))
    tail = LogTail(path("/logs/error.log"), (FATAL, old), (FATAL,))
    assert leads(seen(500, log=tail))[0].path == FATAL.path
    assert leads(seen(500, log=replace(tail, fresh=())))[0].path == old.path


def test_the_servers_own_words_are_not_taken_for_the_programs() -> None:
    assert not any(
        "program's error" in one.sentence for one in leads(seen(500, answer={"trouble": "Internal Server Error"}))
    )
    assert any("program's error" in one.sentence for one in leads(seen(500, answer={"trouble": "Parse error: x"})))


ROOTS = (DocumentRoot(path("/htdocs"), "https://a.example/"),)


@pytest.mark.parametrize(
    ("line", "wanted", "number"),
    [
        ("[29-Nov-2026 10:00:00 UTC] PHP Fatal error:  Uncaught Error in /home/u/htdocs/a.php:12", "/htdocs/a.php", 12),
        ('  File "/srv/htdocs/app.py", line 7, in main', "/htdocs/app.py", 7),
        ("died at /home/u/htdocs/x.pl line 3.", "/htdocs/x.pl", 3),
        ('2026/11/29 10:00:00 [error] open() "/home/u/htdocs/i.png" failed', "/htdocs/i.png", None),
        ("PHP Fatal error in /usr/share/php/x.php on line 3", None, None),
        ("error in /home/u/htdocs-old/x.php on line 3", None, None),
    ],
)
def test_the_file_that_a_line_names_is_found(line: str, wanted: str | None, number: int | None) -> None:
    (found,) = lines_of(line.encode(), ROOTS, is_cut=False)
    assert (found.path, found.number) == (path(wanted) if wanted else None, number)


def test_who_visited_is_not_shown() -> None:
    line = b"[Sun Nov 29 10:00:00 2026] [error] [client 192.0.2.7:4711] failed, referer: https://b.example/?q=me"
    (found,) = lines_of(line, ROOTS, is_cut=False)
    assert found.text == "[error] failed,"
    assert "192.0.2" not in found.text + found.stamp


def test_a_line_that_began_earlier_is_left_out() -> None:
    assert [one.text for one in lines_of(b"half a line\nwhole\n\n", ROOTS, is_cut=True)] == ["whole"]


def test_a_path_of_the_machine_is_one_of_the_site_only_below_a_whole_document_root() -> None:
    deep = (DocumentRoot(path("/web/htdocs"), "https://a.example/"),)
    assert own_path("/home/u/web/htdocs/a.php", deep) == path("/web/htdocs/a.php")
    assert own_path("/home/u/htdocs/a.php", deep) is None
    assert own_path("/home/u/htdocs", ROOTS) is None
    assert own_path("/x/a.php", (DocumentRoot(path("/"), "https://a.example/"),)) is None


@pytest.mark.parametrize("name", [b"error_log", b"error.log", b"php-error.log", b"site.error.log", b"errors.log.2"])
def test_error_logs_are_known_by_their_names(name: bytes) -> None:
    assert is_error_log(name)
    assert not is_error_log(name + b".gz")


@pytest.mark.parametrize("name", [b"access.log", b"error.html", b"error.php", b"terror.log", b"mirrors"])
def test_what_is_no_error_log(name: bytes) -> None:
    assert not is_error_log(name)
