"""Names that a server lists in another spelling, and lists that may lack the very name that is asked for."""

from __future__ import annotations

from dataclasses import replace

from nailer.core.files.completeness import Incomplete, Lack
from nailer.core.files.sitepath import SitePath
from nailer.core.files.tree import Tree
from nailer.services.files.folding import folded
from nailer.sides.memory import MemorySide
from nailer.sides.side import once
from tests.builders import a_file, a_folder


async def test_a_list_that_was_cut_proves_no_other_spelling() -> None:
    """Both folders are there, and the list shows one of them: they are two."""
    side = MemorySide()
    for name in (b"Img", b"img"):
        await side.make_folder(SitePath((name,)))
    here, cut = Tree({(): [a_folder("Img")]}), Incomplete(Lack.CUT)

    tree, renamed = await folded(side, SitePath(), Tree({(): [a_folder("img")]}, lacks={(): cut}), here, {})

    assert renamed == []
    assert [one.name for one in tree.folders[()]] == [b"img"]


async def test_what_is_below_a_folder_goes_along_and_others_stay() -> None:
    """The side answers to either spelling, as a server that folds does."""
    side = MemorySide()
    await side.make_folder(SitePath((b"Img",)))
    await side.write(SitePath((b"Img", b"Pier.svg")), once(b"12345"))
    listed = Tree(
        {(): [a_folder("img"), a_file("x.html")], (b"img",): [replace(a_file("pier.svg", size=5), stamp=None)]}
    )
    here = Tree({(): [a_folder("Img")], (b"Img",): [a_file("Pier.svg", size=5)]})

    tree, renamed = await folded(side, SitePath(), listed, here, {})

    assert renamed == [((b"Img",), b"img"), ((b"Img", b"Pier.svg"), b"pier.svg")]
    assert [one.name for one in tree.folders[()]] == [b"Img", b"x.html"]
    assert [one.name for one in tree.folders[(b"Img",)]] == [b"Pier.svg"]
