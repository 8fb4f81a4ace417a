"""Whether what is offered is a new version of what is there, or another package."""

from __future__ import annotations

import re
from enum import StrEnum

from nailer.core.packages.declared import Declared
from nailer.core.packages.versions import Order, order

_VERSION_END = re.compile(rb"[-_.]?v?\d+(\.\d+)+[a-z0-9.-]*$", re.I)


class Likeness(StrEnum):
    """How two packages are alike: the same; of another name in a folder of the same name; two different ones."""

    SAME = "same"
    RENAMED = "renamed"
    OTHER = "other"


def without_version(name: bytes) -> bytes:
    """A folder's name without a version at its end, as archives have it.

    >>> without_version(b"harbour-1.5.0"), without_version(b"Harbour"), without_version(b"web2")
    (b'harbour', b'Harbour', b'web2')
    """
    return _VERSION_END.sub(b"", name) or name


def likeness(old: Declared, old_folder: bytes, new: Declared, new_folder: bytes) -> Likeness:
    """Whether `new` is a version of `old`: by the names they declare; where one declares none, by their folders."""
    same_folder = without_version(old_folder).lower() == without_version(new_folder).lower()
    if old.name and new.name:
        if _plain(old.name) == _plain(new.name):
            return Likeness.SAME
        return Likeness.RENAMED if same_folder else Likeness.OTHER
    return Likeness.SAME if same_folder else Likeness.OTHER


def _plain(name: str) -> str:
    return re.sub(r"\W+", "", name).casefold()


def step_words(new: Declared, old: Declared) -> tuple[str, bool]:
    """What replacing `old` by `new` is, in a sentence, and whether that is what a person would expect.

    >>> from nailer.core.packages.versions import version_of
    >>> step_words(Declared("", version_of("1.10"), ""), Declared("", version_of("1.9"), ""))
    ('1.9 to 1.10', True)
    """
    step = f"{old.version.text or 'no version'} to {new.version.text or 'no version'}"
    match order(new.version, old.version):
        case Order.NEWER:
            return step, True
        case Order.SAME:
            return f"{step}: the same version again", False
        case Order.OLDER:
            return f"{step}: this goes back to an older version", False
        case _:
            return f"{step}: unknown which one is newer", False
