"""Which scripts bring which others in."""

from __future__ import annotations

import pytest

from nailer.core.check.scripts import includes


@pytest.mark.parametrize(
    ("text", "name", "expected"),
    [
        (b'require "./board-lib.pl";', b"board-lib.pl", True),
        (b'  do "/home/www/cgi-bin/lib.pl" or die;', b"lib.pl", True),
        (b"require_relative 'winds'", b"winds.rb", True),
        (b"import tides\n", b"tides.py", True),
        (b"from .tides import today\n", b"tides.py", True),
        (b"#!/bin/sh\n. ./common.sh\n", b"common.sh", True),
        (b"source common.sh\n", b"common.sh", True),
        (b"# require 'lib.pl'\nprint 1;", b"lib.pl", False),
        (b"open(my $log, 'lib.pl.log');", b"lib.pl", False),
        (b"import tides_of_old\n", b"tides.py", False),
        (b"", b"lib.pl", False),
    ],
)
def test_a_file_that_others_bring_in_need_not_run(text: bytes, name: bytes, expected: bool) -> None:
    assert includes(text, name) is expected


@pytest.mark.parametrize("line", [b"load/", b"require ", b". ", b"lib.pl ", b"\n", b" ", b"do './"])
def test_a_long_line_made_to_do_harm_is_read_in_one_go(line: bytes) -> None:
    text = line * (400_000 // len(line))

    assert includes(text, b"library-of-no-one.pl") is False
    assert includes(text, b"lib.pl") is False
