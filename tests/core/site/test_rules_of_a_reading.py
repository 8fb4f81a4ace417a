"""Room, savings, what is exposed, first pages, and how findings are said."""

from __future__ import annotations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.check.live import Fetched, FetchedHow
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.tree import Tree
from nailer.core.site.exposed import Danger, exposed, hands_out
from nailer.core.site.findings import FindingKind, Gravity, Mend, SiteFinding, cards, finding_of
from nailer.core.site.first_page import bare_folders, lists_contents, placeholder_words, rival_folders, served_of
from nailer.core.site.graph import RefersAt
from nailer.core.site.links import Use
from nailer.core.site.room import Box, RoomTaken, grown, squarified, tiles, weights
from nailer.core.site.rules import forbidding, without_lists
from nailer.core.site.savings import Reason, enough, savings
from nailer.errors import InvalidInput
from tests.builders import path
from tests.core.site.test_graph import ROOTS, names


@given(
    st.lists(st.integers(0, 10**13), max_size=40).map(lambda sizes: sorted(sizes, reverse=True)),
    st.floats(1, 2000),
    st.floats(1, 2000),
)
def test_boxes_fill_the_map_by_their_sizes_and_stay_in_it(sizes: list[int], width: float, height: float) -> None:
    boxes = squarified(sizes, Box(0, 0, width, height))

    assert len(boxes) == len(sizes)
    total = sum(sizes)
    for size, box in zip(sizes, boxes, strict=True):
        assert box.x >= 0
        assert box.y >= 0
        assert box.x + box.width <= width * 1.0001
        assert box.y + box.height <= height * 1.0001
        if total > 0:
            assert box.width * box.height == pytest.approx(size / total * width * height, rel=1e-3, abs=1e-6)


def test_a_folder_weighs_what_lies_below_it_and_says_when_that_is_not_all() -> None:
    file, folder = Entry(b"f", Kind.FILE, 5), Entry(b"d", Kind.FOLDER)
    link = Entry(b"l", Kind.LINK, target=b"d")
    known = weights(Tree({(): [file, folder, link], (b"d",): [file, file]}))
    assert known[()] == RoomTaken(15, 5)
    assert weights(Tree({(): [folder]}))[()] == RoomTaken(0, 1, complete=False), "the folder below was not read"


def test_the_rest_of_many_names_is_one_tile() -> None:
    tree = Tree({(): [Entry(b"%d" % number, Kind.FILE, number) for number in range(30)]})
    shown = tiles(tree, (), weights(tree), most=5)
    assert [one.name for one in shown] == [b"29", b"28", b"27", b"26", b"25", b""]
    assert (shown[-1].rest, shown[-1].weight.size) == (25, sum(range(25)))


def test_growth_names_the_deepest_folder_and_nothing_that_was_not_read_whole() -> None:
    before = {(): RoomTaken(10), (b"a",): RoomTaken(4), (b"b",): RoomTaken(6, complete=False)}
    now = {(): RoomTaken(30), (b"a",): RoomTaken(9), (b"b",): RoomTaken(21)}
    assert grown(before, now) == [((), 20), ((b"a",), 5)]


def test_each_byte_counts_once_and_what_is_kept_or_referred_to_stays() -> None:
    sizes = {"a.psd": 50, "b.zip": 40, "c.zip": 40, "d.zip": 7, "twin.png": 30, "twin-2.png": 30, "x.log": 3}
    there = names(*sizes, sizes=sizes)
    found = savings(
        there,
        wanted={path("/htdocs/d.zip"), path("/htdocs/twin-2.png")},
        twins=[[path("/htdocs/b.zip"), path("/htdocs/c.zip")], [path("/htdocs/twin.png"), path("/htdocs/twin-2.png")]],
        unreferenced=[path("/htdocs/a.psd"), path("/htdocs/twin.png")],
        smaller={path("/htdocs/twin-2.png"): 20},
        kept=lambda one: one.name == b"x.log",
    )

    assert [(one.reason, one.frees) for one in found] == [
        (Reason.WORKING, 50),
        (Reason.ARCHIVES, 80),
        (Reason.TWICE, 30),
        (Reason.SMALLER, 20),
    ]
    assert found[2].files[0].same_as == path("/htdocs/twin-2.png"), "the one that pages refer to stays"
    assert enough(found, 60) == [Reason.WORKING, Reason.ARCHIVES]


@pytest.mark.parametrize(
    ("file", "danger"),
    [
        (".env", Danger.SECRETS),
        (".env.production", Danger.SECRETS),
        ("dump.sql.gz", Danger.DATABASE),
        ("backup.tar.gz", Danger.ARCHIVE),
        ("index.php~", Danger.SOURCE),
        ("error_log", Danger.LOG),
        ("poster.psd", Danger.WORKING),
        ("img/.DS_Store", Danger.LITTER),
        (".env.example", None),
        ("environment.html", None),
        ("sql.html", None),
        ("catalogue.html", None),
    ],
)
def test_what_should_not_be_public_is_suspected_by_name_and_its_like_is_not(file: str, danger: Danger | None) -> None:
    found = exposed(names("index.html", file), ROOTS, set())
    assert [one.danger for one in found] == ([danger] if danger else [])


def test_an_archive_that_a_page_offers_is_meant_to_be_fetched_and_keys_never_are() -> None:
    there = names("press.zip", ".env")
    wanted = {path("/htdocs/press.zip"), path("/htdocs/.env")}
    assert [one.path.name for one in exposed(there, ROOTS, wanted)] == [b".env"]


def test_a_folder_of_history_is_one_thing_asked_for_by_a_file_in_it() -> None:
    found = exposed(names(".git/HEAD", ".git/objects/ab/cd.zip", "a/.git/config"), ROOTS, set())
    assert [(one.path, one.asked.name) for one in found] == [(path("/htdocs/.git"), b"HEAD")]


def test_rival_first_pages_are_found_and_the_served_one_is_told_by_its_hash() -> None:
    there = names("index.html", "news/index.html", "news/index.htm", "indexes.html")
    (rivals,) = rival_folders(there, ROOTS)
    assert [file.name for file, _ in rivals.files] == [b"index.htm", b"index.html"]
    digests = {path("/htdocs/news/index.html"): b"a", path("/htdocs/news/index.htm"): b"b"}
    answer = Fetched(FetchedHow.PLAIN, "", 200, b"b")
    assert served_of(rivals, digests, answer).served == path("/htdocs/news/index.htm")
    assert served_of(rivals, digests, Fetched(FetchedHow.PLAIN, "", 200, b"c")).served is None


def test_folders_without_a_first_page_are_suspected_and_hidden_ones_are_not() -> None:
    there = names("index.html", "img/a.png", "img/report.pdf", ".well-known/x", "empty/index.html")
    assert [(one.folder.name, len(one.telling)) for one in bare_folders(there, ROOTS)] == [(b"img", 1)]


@pytest.mark.parametrize(
    ("text", "is_placeholder"),
    [
        ("<title>This domain is parked</title>", True),
        ("<h1>Here is room for your new website</h1>", True),
        ("<title>Apache2 Debian Default Page</title>", True),
        ("<title>Parking for domain names: our prices</title>", False),
        ("<title>Skerry Ferries</title><p>This domain is parked</p>", False),
    ],
)
def test_the_hosts_own_page_is_known_by_its_title(text: str, is_placeholder: bool) -> None:
    assert bool(placeholder_words(text)) is is_placeholder


def test_a_list_that_a_server_makes_is_known_and_a_page_about_lists_is_not() -> None:
    assert lists_contents("<html><head><title>Index of /plates/</title>")
    assert not lists_contents("<title>Price index of the harbour</title>")


def test_rules_are_added_once_and_keep_what_is_there() -> None:
    text = without_lists("ErrorDocument 404 /x.html\n")
    assert text == "ErrorDocument 404 /x.html\nOptions -Indexes\n"
    assert without_lists(text) == text
    more = forbidding(text, [(path("/htdocs/.env"), Danger.SECRETS), (path("/htdocs/.git"), Danger.HISTORY)])
    assert '<FilesMatch "^(\\.env)$">' in more
    assert 'RedirectMatch 404 "/(\\.git)(/|$)"' in more
    assert forbidding(more, [(path("/htdocs/.env"), Danger.SECRETS), (path("/htdocs/.git"), Danger.HISTORY)]) == more


@pytest.mark.parametrize("name", [b'a".env', b"two\nlines.sql", b"back\\slash.bak", b"caf\xe9.zip"])
def test_a_name_that_would_break_the_file_of_rules_is_refused(name: bytes) -> None:
    with pytest.raises(InvalidInput, match="cannot stand in a rule"):
        forbidding("", [(path("/htdocs").child(name), Danger.SOURCE)])


@pytest.mark.parametrize(
    ("status", "size", "danger", "open_to_all"),
    [
        (200, 100, Danger.ARCHIVE, True),
        (206, 100, Danger.ARCHIVE, True),
        (403, 100, Danger.ARCHIVE, False),
        (None, 0, Danger.ARCHIVE, False),
        (200, 900, Danger.ARCHIVE, False),
        (200, 900, Danger.LOG, True),
        (200, 90, Danger.LOG, False),
    ],
)
def test_an_answer_hands_out_only_what_has_the_files_size(
    status: int | None, size: int, danger: Danger, open_to_all: bool
) -> None:
    answer = Fetched(FetchedHow.PLAIN, "", status, size=size)
    assert hands_out(answer, Entry(b"x", Kind.FILE, 100), danger) is open_to_all


def _gone(kind: FindingKind, name: str, *pages: str, use: Use = Use.PICTURE) -> SiteFinding:
    places = tuple(RefersAt(path(page), name, use) for page in pages)
    other = path("/htdocs/crew.jpg") if kind is FindingKind.WRITTEN_OTHERWISE else None
    return SiteFinding(kind, name, path("/htdocs/" + name), other, "https://a.example/" + name, places, "404")


def test_a_finding_is_stored_and_comes_back_as_it_was() -> None:
    one = _gone(FindingKind.WRITTEN_OTHERWISE, "Crew.jpg", "/htdocs/a.html")
    assert finding_of(one.kind, one.data) == one


def test_pictures_that_are_missing_are_one_card_with_a_button_for_what_each_needs() -> None:
    found = [
        _gone(FindingKind.ONLY_HERE, "deck.png", "/htdocs/a.html", "/htdocs/b.html"),
        _gone(FindingKind.WRITTEN_OTHERWISE, "Crew.jpg", "/htdocs/a.html"),
        _gone(FindingKind.MISSING, "pier.png", "/htdocs/c.html"),
        _gone(FindingKind.MISSING, "old.html", "/htdocs/c.html", use=Use.PAGE),
    ]
    pictures, links = cards(found)
    assert pictures.title == "3 pictures are missing on 3 pages"
    assert (pictures.gravity, links.gravity) == (Gravity.BAD, Gravity.WARN)
    assert [(one.mend, one.about) for one in pictures.actions] == [(Mend.SEND, (0,)), (Mend.RENAME, (1,))]
    assert links.title == "1 link is broken on 1 page"


def test_what_is_open_to_everybody_says_what_strangers_have_in_hands() -> None:
    found = [
        SiteFinding(FindingKind.EXPOSED, ".env", path("/htdocs/.env"), said="answers 200, 20 B", danger=Danger.SECRETS)
    ]
    (card,) = cards(found)
    assert card.gravity is Gravity.BAD
    assert card.title == "Anyone can download settings or keys"
    assert {one.mend for one in card.actions} == {Mend.TAKE_DOWN, Mend.MOVE_OUT, Mend.FORBID, Mend.CLOSE}
