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
    access: bool | None = None
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
    ("access", "Permissions", "can be read and set", "cannot be set: what you upload gets what the server chooses"),
    (
        "times",
        "Times",
        "files keep their own time when they are carried",
        "files get the time of their upload; comparing relies on what Nailer remembers",
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
        "are not told from what they lead to; Nailer looks twice before removals",
    ),
    ("resume", "Going on half-way", "a cut file can go on where it stopped", "a cut file starts anew"),
    (
        "renames",
        "Renaming",
        "works: a new file takes its name only once it is whole",
        "is refused: a file is overwritten in place where you allow that, and visitors may meet half of it meanwhile",
    ),
    (
        "swap",
        "Swapping in one step",
        "a new file takes the old one's place with no gap",
        "for a moment between old and new the name is missing",
    ),
    ("room", "Space left", "is said before a job starts", "is not said; set your package's size to have it watched"),
)


def in_words(abilities: Abilities) -> list[Said]:
    """Every ability with what it means, for the person.

    >>> in_words(Abilities(access=False))[0].meaning
    'cannot be set: what you upload gets what the server chooses'
    """
    said = []
    for name, what, good, bad in _WORDS:
        can: bool | None = getattr(abilities, name)
        said.append(Said(what, can, "not tried yet" if can is None else good if can else bad))
    return said
