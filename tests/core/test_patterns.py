"""Text and patterns that are made to explode cost no more than their length."""

from __future__ import annotations

import random
import re
import sys
from collections.abc import Callable

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nailer.core.connecting import letter
from nailer.core.connecting.ssh_config import read_config
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.search import SearchWanted
from nailer.core.patterns import linear
from nailer.core.plans.sieve import CountedAs, Match, RuleGroup, Sieve, Test, read_ignore, tried
from nailer.core.plans.sieve import Name as TriedName

BOMBS = ["*a" * 40 + "b", "**/a/" * 30 + "b", "[a-z]*" * 40 + "!", "a*" * 80 + "b"]


def steps_of(work: Callable[[], object]) -> int:
    """How many calls of functions it takes, of Python's own and of ours."""
    count = 0

    def _count(*_: object) -> None:
        nonlocal count
        count += 1

    sys.setprofile(_count)
    try:
        work()
    finally:
        sys.setprofile(None)
    return count


@pytest.mark.parametrize("pattern", BOMBS)
def test_a_sieve_that_is_made_to_explode_does_not(pattern: str) -> None:
    sieve = Sieve("Bomb", RuleGroup(CountedAs.ANY, (Match(Test.PATTERN, pattern),)))
    names = [TriedName((b"a" * 250,), 1), TriedName(tuple([b"a"] * 1000), 1)]

    assert tried(sieve, names, 0).count == 0


@pytest.mark.parametrize("pattern", BOMBS)
def test_a_configuration_that_is_made_to_explode_does_not(pattern: str) -> None:
    text = f"Host {'a' * 5000}\n HostName x.example\nHost {pattern.replace('/', '')}\n User maren\n"

    assert [one.user for one in read_config(text)] == [""]


def test_an_ignore_file_of_nothing_but_stars_is_read() -> None:
    assert len(read_ignore("\n".join(BOMBS)).patterns) == len(BOMBS)


def test_a_name_that_is_made_to_explode_is_looked_for_in_no_time() -> None:
    entry = Entry(b"a" * 255, Kind.FILE, 1)

    assert not SearchWanted(name="*a" * 40 + "b").fits(entry)


@given(st.text("ab*?/.", min_size=1, max_size=8), st.binary(max_size=12))
def test_linear_matching_agrees_with_the_expressions_of_the_language(shape: str, text: bytes) -> None:
    expression = "".join({"*": ".*", "?": "."}.get(one, re.escape(one)) for one in shape).encode()

    assert bool(linear(expression).fullmatch(text)) == bool(re.compile(expression, re.S).fullmatch(text))


NASTY = {
    "hyphens": "-",
    "letters": "a",
    "digits": "1",
    "dots": "a.",
    "lines": "\n",
    "labels": "host: ",
    "mails": "a@b.de ",
    "hosts": "ftp.x.example ",
    "accounts": "user: a{} server: ftp{}.x.example\n",
    "tables": "| a ",
    "addresses": "ftp://u:p@h.example/x ",
    "quotes": '"',
    "pairs": '"user":"a{}",',
    "unended": '{"password":"',
    "tags": "<user>a",
    "attributes": '<a b="c" ',
    "nested": "<a><b></b>",
}


@pytest.mark.parametrize("piece", NASTY.values(), ids=NASTY)
def test_a_letter_costs_in_proportion_to_its_length(piece: str) -> None:
    def _of(length: int) -> str:
        return "".join(piece.replace("{}", str(number)) for number in range(length // len(piece) + 1))[:length]

    whole = steps_of(lambda: letter.read(_of(40_000)))

    assert whole < 6_000_000
    assert whole < 8 * steps_of(lambda: letter.read(_of(10_000))) + 10_000


def test_a_letter_of_everything_at_once_ends() -> None:
    chance = random.Random(1)
    words = [
        "a@b.de",
        "ftp.x.example",
        "host:",
        "user:",
        "/www",
        "---",
        "|",
        "=",
        "\n",
        "Server",
        "x" * 300,
        '"',
        "mail",
    ]
    text = " ".join(chance.choice(words) for _ in range(9000))[:40_000]

    assert steps_of(lambda: letter.read(text)) < 3_000_000


def test_no_word_and_no_line_of_a_letter_is_endless() -> None:
    text = "a" * 40_000 + "\n" + "word " * 5_000

    assert max(map(len, letter.without_endless_words(text).split())) <= 500
    assert letter.read("Server: ftp.mosslane.example\n" + "-" * 30_000).accounts[0].fields
