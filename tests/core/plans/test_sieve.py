"""Sieves: what they hold back, how they read, what trying them says; ignore files; kinds of files."""

from __future__ import annotations

import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from nailer.core.files.entry import NS
from nailer.core.files.kinds import FileKind, kind_by_head, kind_by_name
from nailer.core.plans.sieve import (
    Condition,
    CountedAs,
    Match,
    Name,
    RuleGroup,
    Sieve,
    Sieves,
    Test,
    checked_pattern,
    house_sieves,
    ignore_text,
    read_ignore,
    rule_data,
    rule_of,
    tried,
)
from nailer.errors import InvalidInput
from tests.builders import NOON_S, a_file, a_folder

NOW_NS = NOON_S * NS
DAY_NS = 86_400 * NS
PICTURE, LARGE = Match(Test.KIND, "picture"), Match(Test.LARGER, "8000000")
WORKING = Sieve(
    "Working files",
    RuleGroup(
        CountedAs.ANY,
        (Match(Test.KIND, "layered"), RuleGroup(CountedAs.ALL, (PICTURE, LARGE)), Match(Test.PATTERN, "**/_drafts/")),
    ),
    always=("press/*.tif",),
)


def sieve(*parts: Condition, how: CountedAs = CountedAs.ANY, always: tuple[str, ...] = (), **more: bool) -> Sieve:
    return Sieve("test", RuleGroup(how, parts), always, **more)


def a_name(path: str, size: int = 10, days: float = 0, kind: FileKind | None = None) -> Name:
    below = tuple(part for part in path.encode().split(b"/") if part)
    return Name(below, path.endswith("/"), size, NOW_NS - int(days * DAY_NS), kind)


def catches(one: Sieve, path: str, size: int = 10, days: float = 0, kind: FileKind | None = None) -> bool:
    return Sieves([one], NOW_NS).of(a_name(path, size, days, kind)) is not None


@pytest.mark.parametrize(
    ("part", "yes", "no"),
    [
        (Match(Test.PATTERN, "*.tmp"), ["a.tmp", "x/y/a.tmp", "a.tmp/", "a.tmp/inside"], ["a.tmpx", "tmp"]),
        (Match(Test.PATTERN, "press/*.tif"), ["press/a.tif"], ["x/press/a.tif", "press/b/a.tif"]),
        (Match(Test.PATTERN, "/build/"), ["build/", "build/x/y"], ["x/build/", "build"]),
        (Match(Test.PATTERN, "**/_drafts/"), ["_drafts/a", "x/_drafts/b/c"], ["_drafts", "drafts/a"]),
        (Match(Test.KIND, "picture"), ["a.JPG", "x/b.svg"], ["a.psd", "a.html"]),
        (Match(Test.KIND, "versions"), [".git/", ".git/HEAD", "sub/.git/x"], ["git/x", ".github/"]),
        (Match(Test.KIND, "litter"), ["img/Thumbs.db", "node_modules/x/y.js"], ["thumbs.html"]),
        (Match(Test.KIND, "data"), ["a.json"], ["a.js"]),
    ],
)
def test_what_a_condition_catches(part: Match, yes: list[str], no: list[str]) -> None:
    assert [path for path in yes if not catches(sieve(part), path)] == []
    assert [path for path in no if catches(sieve(part), path)] == []


def test_sizes_and_ages() -> None:
    assert catches(sieve(LARGE), "a", 8_000_001)
    assert not catches(sieve(LARGE), "a", 8_000_000)
    assert catches(sieve(Match(Test.SMALLER, "10")), "a", 9)
    assert catches(sieve(Match(Test.OLDER, "400")), "a", days=401)
    assert not catches(sieve(Match(Test.OLDER, "400")), "a", days=399)
    assert catches(sieve(Match(Test.NEWER, "2")), "a", days=1)


def test_groups_nest() -> None:
    assert catches(WORKING, "img/a.tif", 9_000_000)
    assert not catches(WORKING, "img/a.tif", 7_000_000)
    assert not catches(WORKING, "press/a.tif", 9_000_000)
    others = sieve(PICTURE, Match(Test.KIND, "page"), how=CountedAs.NONE)
    assert catches(others, "a.css")
    assert not catches(others, "a.png")


def test_a_folder_is_held_back_whole_only_where_that_is_sure() -> None:
    assert catches(sieve(Match(Test.PATTERN, "drafts/")), "drafts/")
    assert not catches(sieve(PICTURE, how=CountedAs.NONE), "img/")
    assert not catches(sieve(LARGE), "img/")
    both = sieve(Match(Test.PATTERN, "drafts/"), LARGE, how=CountedAs.ALL)
    assert not catches(both, "drafts/")
    assert catches(both, "drafts/a", 9_000_000)


def test_with_exceptions_no_folder_is_held_back_whole() -> None:
    one = sieve(Match(Test.PATTERN, "drafts/"), always=("drafts/ready.html",))

    assert not catches(one, "drafts/")
    assert catches(one, "drafts/a.html")
    assert not catches(one, "drafts/ready.html")


def test_the_first_sieve_that_names_a_file_decides() -> None:
    keeps = Sieve("press", RuleGroup(CountedAs.ANY, (Match(Test.PATTERN, "nothing-at-all"),)), always=("press/*.tif",))
    order, turned = Sieves([keeps, WORKING], NOW_NS), Sieves([WORKING, keeps], NOW_NS)
    draft = a_name("press/_drafts/a.html")

    assert order.of(a_name("press/x.tif", 9_000_000)) is None
    assert (order.of(draft), turned.of(draft)) == (WORKING, WORKING)


def test_effects_are_apart_and_a_sieve_can_be_off() -> None:
    unseen = sieve(Match(Test.PATTERN, "logs/"), stays=False, unseen=True)
    both = Sieves([unseen], NOW_NS)

    assert both.held((b"logs",), a_folder("logs")) == ""
    assert both.effects((b"logs",), a_folder("logs"), None)[1] == "test"
    assert not catches(sieve(PICTURE, on=False), "a.png")


def test_either_side_of_a_name_holds_it_back() -> None:
    sieves = Sieves([sieve(LARGE)], NOW_NS)

    assert sieves.held((b"a",), a_file("a", 1), a_file("a", 9_000_000)) == "test"
    assert sieves.held((b"a",), a_file("a", 1), None) == ""


def test_first_bytes_tell_where_the_ending_does_not() -> None:
    layered = sieve(Match(Test.KIND, "layered"))

    assert Sieves([layered], NOW_NS).asks_kinds
    assert catches(layered, "poster", kind=kind_by_head(b"8BPS\0\1"))
    assert not catches(layered, "poster.html", kind=FileKind.LAYERED)
    assert kind_by_head(b"RIFF\0\0\0\0WEBPVP8") is FileKind.PICTURE
    assert kind_by_head(b"\0\0\0\x18ftypmp42") is FileKind.SOUND


@pytest.mark.parametrize(
    ("name", "kind"),
    [
        (b".env.local", FileKind.SECRET),
        (b"dump.sql.gz", FileKind.DATABASE),
        (b"site.css~", FileKind.OLD),
        (b"error_log", FileKind.LOG),
        (b"site.tar.gz", FileKind.ARCHIVE),
        (b"a.woff2", FileKind.FONT),
        (b"CHANGES", None),
    ],
)
def test_kinds_by_name(name: bytes, kind: FileKind | None) -> None:
    assert kind_by_name(name) is kind


def test_a_rule_reads_as_a_sentence_and_as_an_exact_line() -> None:
    assert WORKING.sentence == (
        "Leave behind everything that is a layered image or layout or (is a picture and is larger than 8.0 MB) "
        "or is under **/_drafts/, but always transfer press/*.tif"
    )
    assert WORKING.exact == (
        "kind is layered or (kind is picture and size > 8.0 MB) or path in **/_drafts/; except press/*.tif"
    )
    assert sieve(Match(Test.OLDER, "400"), how=CountedAs.NONE, stays=False, unseen=True).sentence == (
        "Do not list anything that matches none of these: is older than 400 days"
    )
    assert sieve().sentence == "No conditions yet"


def test_trying_a_sieve_says_what_it_catches() -> None:
    names = [
        a_name("a.psd", 60_000_000),
        a_name("img/_drafts/b.psd", 40),
        a_name("img/_drafts/c.png", 9_000_000),
        a_name("img/big.jpg", 9_100_000),
        a_name("press/big.tif", 9_000_000),
        a_name("index.html"),
    ]

    found = tried(WORKING, names, NOW_NS, {(b"img", b"big.jpg"): (b"index.html",)})

    assert (found.files, found.count, found.size) == (6, 4, 78_100_040)
    assert [(one.count, one.alone) for one in found.caught] == [(2, 1), (2, 1), (2, 0)]
    assert found.kinds == [("layered image or layout", 2), ("picture", 2)]
    assert found.largest[0] == ((b"a.psd",), 60_000_000)
    assert found.carried == [((b"press", b"big.tif"), 9_000_000)]
    assert found.used == [((b"img", b"big.jpg"), (b"index.html",))]


def test_trying_warns_of_what_the_rule_does_not_name() -> None:
    names = [a_name(f"p{n}.html") for n in range(20)] + [a_name("a.png")]
    one = sieve(Match(Test.PATTERN, "p*"), PICTURE)

    warnings = tried(one, names, NOW_NS).warnings

    assert any("almost nothing" in text for text in warnings)
    assert any("One condition" in text for text in warnings)
    assert any("20 pages would stay behind" in text for text in warnings)
    assert tried(sieve(Match(Test.KIND, "page")), names[:2], NOW_NS).warnings == []


_CONDITIONS = st.recursive(
    st.one_of(
        st.builds(Match, st.just(Test.KIND), st.sampled_from(list(FileKind)).map(str)),
        st.builds(Match, st.just(Test.PATTERN), st.sampled_from(["*.a", "b/", "**/c", "/d"])),
        st.builds(Match, st.sampled_from([Test.LARGER, Test.OLDER]), st.integers(0, 10**9).map(str)),
    ),
    lambda inner: st.builds(RuleGroup, st.sampled_from(list(CountedAs)), st.lists(inner, max_size=3).map(tuple)),
    max_leaves=8,
)


@given(st.lists(_CONDITIONS, max_size=3).map(lambda parts: RuleGroup(CountedAs.ANY, tuple(parts))))
def test_a_rule_survives_being_stored(rule: RuleGroup) -> None:
    assume(_depth(rule) <= 5)

    assert rule_of(rule_data(rule)) == rule


def _depth(rule: Condition) -> int:
    return 1 + max((_depth(part) for part in rule.parts), default=0) if isinstance(rule, RuleGroup) else 0


@given(
    st.lists(_CONDITIONS, max_size=2).map(lambda parts: RuleGroup(CountedAs.ANY, tuple(parts))),
    st.sampled_from(["x.png", "b/c.a", "d"]),
)
def test_what_holds_of_a_folder_holds_of_all_in_it(rule: RuleGroup, inside: str) -> None:
    one = Sieve("test", rule)
    if catches(one, "b/"):
        assert catches(one, f"b/{inside}")


@pytest.mark.parametrize(
    "data",
    [
        None,
        {"how": "some", "parts": []},
        {"how": "any", "parts": "x"},
        {"test": "colour", "value": "red"},
        {"test": "kind", "value": "dragon"},
        {"test": "larger", "value": "8 MB"},
        {"test": "pattern", "value": "!x"},
        {"test": "pattern", "value": " "},
        {"test": "pattern", "value": "/"},
    ],
)
def test_what_is_no_rule_is_refused_with_a_reason(data: object) -> None:
    with pytest.raises(InvalidInput) as refused:
        rule_of(data)

    assert refused.value.what


def test_an_ignore_file_is_read_and_written() -> None:
    read = read_ignore("# house\n*.tmp\n\n/build/\n!keep.tmp\n*.log\n\\#odd\n/\n")

    assert read.patterns == ("*.tmp", "/build/", "*.log", "\\#odd")
    assert read.always == ("keep.tmp",)
    assert [note.split(" ")[1] for note in read.notes] == ["6", "7", "8", "8"]
    assert ignore_text(WORKING).splitlines() == [
        "# Working files",
        "# cannot be written as an ignore pattern: is a layered image or layout",
        "# cannot be written as an ignore pattern: is a picture and is larger than 8.0 MB",
        "**/_drafts/",
        "!press/*.tif",
    ]


def test_the_house_sieves_hold_back_what_nobody_should_publish() -> None:
    sieves = Sieves(house_sieves(), NOW_NS)

    assert sieves.held((b".git",), a_folder(".git")) == "House rules"
    assert sieves.held((b".env",), a_file(".env")) == "Secrets"
    assert sieves.held((b"index.html",), a_file()) == ""


def test_a_pattern_is_one_line() -> None:
    with pytest.raises(InvalidInput):
        checked_pattern("a\nb")
