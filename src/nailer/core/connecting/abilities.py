"""What a server can do, as it says and as trying has shown, and what that means for the person."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Abilities:
    """True: it can; False: it cannot; None: not known yet.

    `exact_times` are listings in UTC to the second; `swap` is taking a name's place in one step; `features` are the
    server's own words for what it offers, `software` what it calls itself.
    """

    software: str = ""
    permissions: bool | None = None
    times: bool | None = None
    exact_times: bool | None = None
    links: bool | None = None
    resume: bool | None = None
    swap: bool | None = None
    renames: bool | None = None
    room: bool | None = None
    features: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True)
class Said:
    """One ability in words: what it is, whether it is there, and what that means."""

    what: str
    can: bool | None
    meaning: str


_WORDS: tuple[tuple[str, str, str, str], ...] = (
    (
        "permissions",
        "Permissions",
        "can be read and set",
        "cannot be set: the server decides the permissions of uploaded files",
    ),
    (
        "times",
        "Times",
        "files keep their modification time",
        "files get the time of the upload; Nailer remembers the original times to compare",
    ),
    (
        "exact_times",
        "Exact times",
        "listings show seconds in UTC",
        "listings show minutes or days by the server's own clock",
    ),
    (
        "links",
        "Symbolic links",
        "are shown as links",
        "look like ordinary files and folders; Nailer checks again before it removes anything",
    ),
    (
        "resume",
        "Resuming transfers",
        "an interrupted file continues where it stopped",
        "an interrupted file starts again from the beginning",
    ),
    (
        "renames",
        "Renaming",
        "works: a new file gets its final name only when it is complete",
        "not possible: files are overwritten in place if you allow it, and visitors may get an incomplete file meanwhile",
    ),
    (
        "swap",
        "Replacing in one step",
        "a new file replaces the old one without a gap",
        "for a moment the file is missing",
    ),
    (
        "room",
        "Free space",
        "reported before a job starts",
        "not reported; set the storage quota in the site's settings so that Nailer can watch it",
    ),
)


def in_words(abilities: Abilities) -> list[Said]:
    """Every ability with what it means, for the person.

    >>> in_words(Abilities(permissions=False))[0].meaning
    'cannot be set: the server decides the permissions of uploaded files'
    """
    said = []
    for name, what, good, bad in _WORDS:
        can: bool | None = getattr(abilities, name)
        said.append(Said(what, can, "not tested yet" if can is None else good if can else bad))
    return said
