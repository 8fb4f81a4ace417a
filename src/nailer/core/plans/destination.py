"""Does the destination fit? The names that are sent are compared with what is there and around it. A better place is named.

Each finding is advice with its reason and the place it means; nothing is decided here.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass

from nailer.core.files.names import names_text
from nailer.core.files.sitepath import SitePath, shown_name

_MOSTLY = 0.5
_CLEARLY = 0.4
_PACKAGES = 3


@dataclass(frozen=True, slots=True)
class Sent:
    """One name that is sent; of a folder the names directly in it."""

    name: bytes
    is_folder: bool
    inside: frozenset[bytes] = frozenset()
    only_folder: bytes | None = None  # the one folder in it, where there is nothing else


@dataclass(frozen=True, slots=True)
class Around:
    """A folder at or near the destination: its names, and which of them are folders."""

    names: frozenset[bytes]
    folders: frozenset[bytes] = frozenset()


@dataclass(frozen=True, slots=True)
class Better:
    """A place that seems meant, and why."""

    place: SitePath
    reason: str


def overlap(sent: Sequence[bytes], there: frozenset[bytes]) -> float:
    """Which share of the sent names is there: |sent ∩ there| / |sent|; 0 where nothing is sent.

    >>> overlap([b"a", b"b", b"c", b"d"], frozenset({b"a", b"b", b"x"}))
    0.5
    """
    return len(there.intersection(sent)) / len(sent) if sent else 0.0


def better_places(sent: Sequence[Sent], target: SitePath, around: Mapping[SitePath, Around]) -> list[Better]:
    """Places that fit clearly better than `target`, the most likely first.

    `around` holds the destination itself, and as far as they could be read its parent, its folders and the folder that
    the pair maps the source to.
    """
    names = [one.name for one in sent]
    here = around.get(target, Around(frozenset()))
    found = [*_own_name(sent, target), *_wrapped_twice(sent, target, here)]
    own = overlap(names, here.names)
    fitting = [
        (overlap(names, one.names), place)
        for place, one in around.items()
        if place != target and overlap(names, one.names) >= max(_MOSTLY, own + _CLEARLY)
    ]
    for share, place in sorted(fitting, key=lambda one: -one[0]):
        count = round(share * len(names))
        which = "its name is" if len(names) == 1 else f"{count} of the {len(names)} names are"
        if count == len(names) > 1:
            which = "all names are"
        found.append(
            Better(place, f"{which} already in {place.shown}, but {'none' if not own else 'few'} in {target.shown}")
        )
    if not found:
        found += _loose(sent, target, here)
    seen: set[SitePath] = set()
    return [one for one in found if not (one.place in seen or seen.add(one.place))]  # type: ignore[func-returns-value]


def _own_name(sent: Sequence[Sent], target: SitePath) -> list[Better]:
    """A folder is sent into a folder of the same name. Perhaps only its content is meant."""
    if len(sent) == 1 and sent[0].is_folder and target.names and sent[0].name == target.name:
        name = shown_name(target.name)
        return [Better(target.parent, f"{target.shown} is called {name} itself: this would make {name}/{name}")]
    return []


def _wrapped_twice(sent: Sequence[Sent], target: SitePath, here: Around) -> list[Better]:
    """A folder that holds nothing but one folder, as archives packed twice do."""
    for one in sent:
        if one.is_folder and one.only_folder is not None and one.only_folder in (one.name, *here.folders):
            outer, inner = shown_name(one.name), shown_name(one.only_folder)
            return [Better(target, f"{outer} contains only the folder {inner}, so it would end up in {outer}/{inner}")]
    return []


def _loose(sent: Sequence[Sent], target: SitePath, here: Around) -> list[Better]:
    """Loose files are sent to a place where there are only folders, each a package of its own."""
    files = [one.name for one in sent if not one.is_folder]
    if files and len(here.folders) >= _PACKAGES and here.folders == here.names and not here.names.intersection(files):
        return [Better(target, f"{target.shown} holds folders only: {names_text(files)} would be mixed in with them")]
    return []
