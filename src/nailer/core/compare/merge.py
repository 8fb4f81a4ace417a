"""Merging three ways: what two people made of one text, joined where they do not touch the same lines."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from merge3 import Merge3
from patiencediff import PatienceSequenceMatcher

# The library's types name difflib's class, which it is made like.
_MATCHER: Any = PatienceSequenceMatcher


@dataclass(frozen=True, slots=True)
class Piece:
    """A run of lines. Settled: `text` is the result. In conflict: `base`, `mine` and `theirs` stand against each other,
    and `text` is empty until somebody decides. `line` is the first line of it in `mine`, from 1."""

    settled: bool
    text: str = ""
    base: str = ""
    mine: str = ""
    theirs: str = ""
    line: int = 1


@dataclass(frozen=True, slots=True)
class Merged:
    """The pieces in order. `only_mine` and `only_theirs` count the changes that were taken over from one side alone."""

    pieces: tuple[Piece, ...]
    only_mine: int
    only_theirs: int

    @property
    def conflicts(self) -> tuple[Piece, ...]:
        """The pieces that a person must decide."""
        return tuple(one for one in self.pieces if not one.settled)

    @property
    def text(self) -> str:
        """The result where nothing is in conflict; what is, is as `mine` has it."""
        return "".join(one.text if one.settled else one.mine for one in self.pieces)


def merged(base: str, mine: str, theirs: str) -> Merged:
    """Merge three texts into one. A change that both sides made counts once.

    >>> merged("a\\nb\\nc\\n", "A\\nb\\nc\\n", "a\\nb\\nC\\n").text
    'A\\nb\\nC\\n'
    >>> [(one.mine, one.theirs) for one in merged("a\\n", "b\\n", "c\\n").conflicts]
    [('b\\n', 'c\\n')]
    """
    merge = Merge3(_lines(base), _lines(mine), _lines(theirs), sequence_matcher=_MATCHER)
    pieces: list[Piece] = []
    line, only_mine, only_theirs = 1, 0, 0
    for group in merge.merge_groups():
        kind = group[0]
        if kind == "conflict":
            before, mine_now, theirs_now = ("".join(part) for part in group[1:4])
            pieces.append(Piece(False, base=before, mine=mine_now, theirs=theirs_now, line=line))
            line += mine_now.count("\n")
            continue
        text = "".join(group[1])
        only_mine += kind == "a"
        only_theirs += kind == "b"
        pieces.append(Piece(True, text))
        # What only they have is not among my lines.
        line += text.count("\n") if kind != "b" else 0
    return Merged(tuple(pieces), only_mine, only_theirs)


def side_by_side(mine: str, theirs: str) -> Merged:
    """Two texts without a common base: a person must decide every place where they differ.

    >>> [(one.mine, one.theirs) for one in side_by_side("a\\nb\\n", "a\\nc\\n").conflicts]
    [('b\\n', 'c\\n')]
    """
    ours, other = _lines(mine), _lines(theirs)
    pieces: list[Piece] = []
    for what, start, end, from_, until in PatienceSequenceMatcher(None, ours, other).get_opcodes():
        mine_now, theirs_now = "".join(ours[start:end]), "".join(other[from_:until])
        if what == "equal":
            pieces.append(Piece(True, mine_now))
        else:
            pieces.append(Piece(False, mine=mine_now, theirs=theirs_now, line=start + 1))
    return Merged(tuple(pieces), 0, 0)


def _lines(text: str) -> list[str]:
    """Lines with their line feeds; other characters that Python takes for line ends are none here."""
    parts = text.split("\n")
    return [f"{part}\n" for part in parts[:-1]] + ([parts[-1]] if parts[-1] else [])
