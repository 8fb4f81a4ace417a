"""Findings: the slips that blank a page are found where they are, and what is well is left in peace."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.check.findings import findings
from nailer.core.compare.merge import merged
from nailer.core.files.text import TextForm
from nailer.standins.demo import content


@pytest.mark.parametrize(
    ("name", "text", "what", "where"),
    [
        ("a.html", "<p>x</p></div>", "</div> closes nothing", "</div>"),
        ("a.html", "<ul><li>a<li>b", "<ul> has no end tag", "<ul>"),
        ("a.html", "<b><i>x</b></i>", "<i> is not closed before </b>", "<i>"),
        ("a.html", "<p>a <a href='x", "a tag is begun and never ended: is a quote or > missing?", "<a href='x"),
        ("a.html", '<a href="x>y</a><b title="z">', "href runs on into the next tag: is a quote missing?", None),
        ("a.html", '<img src="a" src="b">', "<img> has src twice; browsers use the first", '<img src="a" src="b">'),
        ("a.html", "<div/>", "<div/> does not close itself in HTML: it stays open", "<div/>"),
        ("a.css", "a { b: c", "{ is not closed", "{"),
        ("a.css", "a { b: c } }", "} closes nothing", "}"),
        ("a.css", "a { b c; d: e }", "neither a declaration nor a rule: is a colon, a semicolon or { missing?", None),
        ("a.css", "a { color: ; }", "color has no value", "color"),
        ("a.css", "a { } /* no end", "a comment is begun and never ended", "/*"),
        ("a.js", "f(1, [2);", "[ is not closed", "["),
        ("a.js", "f('it is);\ng();", "a quote is begun and never ended on this line", "'"),
        ("a.js", "f() /* no end", "a comment in the JavaScript is begun and never ended", "/*"),
        ("a.php", "<?php if (f(1) { g(); }", "( is not closed", "("),
        ("a.json", '{"a": 1, b: 2}', "JSON: Expecting property name enclosed in double quotes", "b"),
        ("a.cgi", " #!/bin/sh\n", "#! must be the very first characters", " #!/bin/sh"),
        ("a.cgi", "echo\n", "a script begins with #! and its interpreter", "echo"),
        ("a.pl", "#!perl\n", "the interpreter needs its full path, such as /usr/bin/perl", "#!perl"),
        ("a.txt", "GrÃ¼ÃŸe", "this looks like UTF-8 that was stored as Windows-1252", "Ã¼"),
        ("a.txt", "caf\ufffd", "a character was lost here because of a wrong character set", "\ufffd"),
    ],
)
def test_slips_are_found_where_they_are(name: str, text: str, what: str, where: str | None) -> None:
    found = {one.what: text[one.start : one.end] for one in reversed(findings(name, text))}
    assert what in found, found
    assert where is None or found[what] == where


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("a.html", "<!doctype html><p>a<p>b<br><ul><li>x</ul><svg><path d='M0'/></svg>"),
        ("a.html", "<script>if (a < b) { f('</p>'); }</script><table><tr><td>x</table>"),
        ("a.css", '@media print { a::before { content: "}"; } } /* { */ .b { c: url(d.png) }'),
        ("a.js", "const a = /[(]/; const b = `x ${f('(')} y`; // )\n"),
        ("a.php", "<p><?php echo '('; /* { */ ?></p>"),
        ("a.json", '{"a": [1, 2]}'),
        ("a.cgi", "#!/usr/bin/perl -w\nprint 1;\n"),
        ("a.txt", "Grüße ( [ {"),
    ],
)
def test_what_is_well_is_left_in_peace(name: str, text: str) -> None:
    assert findings(name, text) == []


def test_line_ends_and_marks_break_a_script() -> None:
    text = "#!/bin/sh\necho\n"
    assert "CR" in findings("a.cgi", text, TextForm(line_end="\r\n"))[0].what
    assert "byte order mark" in findings("a.cgi", text, TextForm(mark=True))[0].what


def test_the_demos_own_pages_read_cleanly() -> None:
    for name, data in content.level_files().items():
        try:
            text = data.decode()
        except UnicodeDecodeError:
            continue
        assert findings(name.rpartition("/")[2], text) == [], name


@given(st.sampled_from(["a.html", "a.css", "a.js", "a.php", "a.json", "a.cgi", "a.txt"]), st.text(max_size=200))
def test_any_text_can_be_looked_at(name: str, text: str) -> None:
    for one in findings(name, text):
        assert 0 <= one.start <= one.end <= len(text) + 1


_TEXTS = st.lists(st.sampled_from(["a\n", "b\n", "c\n", "d"]), max_size=8).map("".join)


@given(_TEXTS, _TEXTS)
def test_a_merge_with_nothing_new_is_what_the_other_made(base: str, mine: str) -> None:
    assert merged(base, mine, base).text == mine
    assert merged(base, base, mine).text == mine
    assert merged(base, mine, mine).text == mine
    assert not merged(base, mine, base).conflicts


@given(_TEXTS, _TEXTS, _TEXTS)
def test_a_merge_is_the_same_from_both_ends(base: str, mine: str, theirs: str) -> None:
    one, other = merged(base, mine, theirs), merged(base, theirs, mine)
    assert [(piece.mine, piece.theirs) for piece in one.conflicts] == [
        (piece.theirs, piece.mine) for piece in other.conflicts
    ]
    assert bool(one.conflicts) or one.text == other.text
