"""What a scan of a site finds, said to a person: what visitors notice, where, and what can be done about it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import Any

from nailer.core.files.sitepath import SitePath
from nailer.core.site.address import Wrong, WrongWay
from nailer.core.site.exposed import GRAVE, Danger, Exposed
from nailer.core.site.graph import BrokenReference, Fault, RefersAt
from nailer.core.site.links import Use
from nailer.core.words import count_text, size_text

_SHOWN = 4


class FindingKind(StrEnum):
    """What kinds of things are looked for. The first five are faults of references."""

    MISSING = "missing"
    WRITTEN_OTHERWISE = "written-otherwise"
    ONLY_HERE = "only-here"
    RENAMED = "renamed"
    ON_A_DISK = "on-a-disk"
    INSECURE = "insecure"
    EXPOSED = "exposed"
    RIVALS = "rivals"
    LISTS = "lists"
    PLACEHOLDER = "placeholder"
    WAY = "way"
    OTHERS = "others"


REFERENCES = (
    FindingKind.MISSING,
    FindingKind.WRITTEN_OTHERWISE,
    FindingKind.ONLY_HERE,
    FindingKind.RENAMED,
    FindingKind.ON_A_DISK,
    FindingKind.INSECURE,
)
_GONE = REFERENCES[:4]
_OF_FAULT = {
    Fault.MISSING: FindingKind.MISSING,
    Fault.WRITTEN_OTHERWISE: FindingKind.WRITTEN_OTHERWISE,
    Fault.ONLY_HERE: FindingKind.ONLY_HERE,
    Fault.RENAMED: FindingKind.RENAMED,
    Fault.ON_A_DISK: FindingKind.ON_A_DISK,
    Fault.INSECURE: FindingKind.INSECURE,
}


class Gravity(StrEnum):
    """How much it matters to visitors and owner."""

    BAD = "bad"
    WARN = "warn"
    NOTE = "note"


class Mend(StrEnum):
    """What a button of a finding makes a plan for."""

    SEND = "send"
    RENAME = "rename"
    REWRITE = "rewrite"
    TAKE_DOWN = "take-down"
    MOVE_OUT = "move-out"
    CLOSE = "close"
    SET_ASIDE = "set-aside"
    FORBID_LISTS = "forbid-lists"
    FORBID = "forbid"


@dataclass(frozen=True, slots=True)
class SiteFinding:
    """One thing that was found. `key` tells it from others of its kind. `other` is what a name is really called, or the file
    that is served. `said` is what the web answered, `danger` what whoever finds it has in hands."""

    kind: FindingKind
    key: str
    path: SitePath | None = None
    other: SitePath | None = None
    address: str = ""
    places: tuple[RefersAt, ...] = ()
    said: str = ""
    size: int = 0
    danger: Danger | None = None

    @property
    def pages(self) -> tuple[SitePath, ...]:
        """The pages on which it shows, each once."""
        return tuple(dict.fromkeys(one.page for one in self.places))

    @property
    def name(self) -> str:
        """What it is about, as it is read."""
        return self.path.shown if self.path is not None else self.address

    @property
    def data(self) -> dict[str, Any]:
        """As it is stored."""
        return {
            "key": self.key,
            "path": self.path.token if self.path is not None else None,
            "other": self.other.token if self.other is not None else None,
            "address": self.address,
            "places": [[one.page.token, one.written, one.use.value] for one in self.places[:500]],
            "said": self.said,
            "size": self.size,
            "danger": self.danger.value if self.danger else None,
        }


def finding_of(kind: FindingKind, data: Mapping[str, Any]) -> SiteFinding:
    """A finding out of what was stored."""

    def path(token: str | None) -> SitePath | None:
        return SitePath.of_token(token) if token is not None else None

    places = tuple(RefersAt(SitePath.of_token(page), written, Use(use)) for page, written, use in data["places"])
    danger = Danger(data["danger"]) if data["danger"] else None
    return SiteFinding(
        kind,
        data["key"],
        path(data["path"]),
        path(data["other"]),
        data["address"],
        places,
        data["said"],
        data["size"],
        danger,
    )


def of_broken(one: BrokenReference, said: str = "") -> SiteFinding:
    """What a reference that leads wrong is as a finding; `said` is what its address answered."""
    kind = _OF_FAULT[one.fault]
    key = one.path.token if one.path is not None else one.address
    return SiteFinding(kind, key, one.path, one.other, one.address, one.places, said)


def of_exposed(one: Exposed, address: str, said: str) -> SiteFinding:
    """A name that answers on the web and should not."""
    return SiteFinding(
        FindingKind.EXPOSED, one.path.token, one.path, None, address, (), said, one.entry.size, one.danger
    )


def of_way(one: WrongWay) -> SiteFinding:
    """Something that is wrong with a way in to the site."""
    return SiteFinding(FindingKind.WAY, f"{one.wrong.value}: {one.about}", address=one.about, said=one.sentence)


# What is said beside a plan before it is carried out. Pages of these are fetched before and after the job.
_PUT_BACK = (
    "Nailer checks the page before and after. If the page gets worse, Nailer takes the change back automatically."
)
_MAY_SHUT = f"If the server does not allow this rule, the whole folder returns error 500. {_PUT_BACK}"
CAUTIONS = {Mend.FORBID: _MAY_SHUT, Mend.FORBID_LISTS: _MAY_SHUT, Mend.SET_ASIDE: _PUT_BACK}
WATCHED = frozenset(CAUTIONS)
FIRST_PAGE_CAUTION = f"The new page replaces the old one in one step. Nailer keeps the old page. {_PUT_BACK}"


@dataclass(frozen=True, slots=True)
class MendButton:
    """A button: what it makes a plan for, its words, and the findings it is about by their place in the list."""

    mend: Mend
    words: str
    about: tuple[int, ...]


@dataclass(frozen=True, slots=True)
class FindingCard:
    """Findings of one sort, as they are shown: `title` says what it is, `notice` what visitors notice or strangers get,
    `names` the first few. `about` are the places of its findings in the list they were made of."""

    sort: str
    gravity: Gravity
    title: str
    notice: str
    names: tuple[str, ...]
    about: tuple[int, ...]
    actions: tuple[MendButton, ...] = ()


# What visitors notice of something that is not there: one and many, what they see.
_USES: Mapping[Use, tuple[str, str, str]] = {
    Use.PICTURE: ("picture", "pictures", "Visitors see an empty frame."),
    Use.STYLE: ("style", "styles", "Visitors see pages without styling."),
    Use.SCRIPT: ("script", "scripts", "Parts of the page do not work."),
    Use.FONT: ("font", "fonts", "Visitors see a different font."),
    Use.MEDIA: ("sound or film", "sounds and films", "The sound or film does not play."),
    Use.FRAME: ("framed page", "framed pages", "A frame on the page stays empty."),
    Use.FORM: ("form target", "form targets", "Visitors cannot send the form."),
    Use.ICON: ("icon", "icons", "Browser tabs and home screens show no icon."),
    Use.MANIFEST: ("manifest", "manifests", "Visitors cannot install the site as an app."),
    Use.FEED: ("feed", "feeds", "Feed readers get no updates."),
    Use.MOVE: (
        "redirect target",
        "redirect targets",
        "Visitors get a “not found” page.",
    ),
    Use.LISTED: ("listed page", "listed pages", "Search engines get a “not found” page."),
    Use.PAGE: ("link", "links", "The link leads to a “not found” page."),
}
_DANGER_WORDS: Mapping[Danger, tuple[str, str]] = {
    Danger.SECRETS: ("settings or keys", "Assume that its passwords and keys are known: change them."),
    Danger.HISTORY: ("the history of the site", "Anyone can rebuild all current and earlier files from it."),
    Danger.DATABASE: ("a copy of a database", "Assume that all its data is known."),
    Danger.ARCHIVE: ("an archive", "Anyone who finds its name can download everything in it."),
    Danger.SOURCE: ("an old copy", "The server shows its source code, including any passwords in it."),
    Danger.LOG: ("a log", "It shows who visited the site and when."),
    Danger.WORKING: ("a working file", "It is large, and not meant for visitors."),
    Danger.LITTER: ("a file list left by a system", "It names files that no page uses."),
}


def cards(found: Sequence[SiteFinding]) -> list[FindingCard]:
    """Findings as cards, what visitors notice most first."""
    made = [*_of_gone(found), *_of_exposed(found), *_of_rest(found)]
    order = list(Gravity)
    return sorted(made, key=lambda one: order.index(one.gravity))


def _of_gone(found: Sequence[SiteFinding]) -> list[FindingCard]:
    """What pages refer to and do not get: a card for each use."""
    by_use: dict[Use, list[int]] = defaultdict(list)
    for number, one in enumerate(found):
        if one.kind in _GONE and one.places:
            by_use[_worst(one)].append(number)
    return [_gone_card(use, by_use[use], found) for use in _USES if use in by_use]


def _worst(one: SiteFinding) -> Use:
    order = list(_USES)
    return min((place.use for place in one.places), key=order.index)


def _gone_card(use: Use, about: list[int], found: Sequence[SiteFinding]) -> FindingCard:
    one, many, notice = _USES[use]
    some = [found[number] for number in about]
    pages = len({page for finding in some for page in finding.pages})
    is_one = len(some) == 1
    if use in (Use.PAGE, Use.LISTED, Use.MOVE):
        what = f"{count_text(len(some), one, many)} {'is' if is_one else 'are'} broken"
    else:
        what = f"{count_text(len(some), one, many)} {'is' if is_one else 'are'} missing"
    kinds = {kind: [number for number in about if found[number].kind is kind] for kind in _GONE}
    said = [notice, *_why_gone(kinds, len(some))]
    gravity = Gravity.WARN if use in (Use.PAGE, Use.LISTED, Use.ICON, Use.FEED, Use.MANIFEST) else Gravity.BAD
    return FindingCard(
        f"gone-{use}",
        gravity,
        f"{what} on {count_text(pages, 'page')}",
        " ".join(said),
        tuple(_name_gone(finding) for finding in some[:_SHOWN]),
        tuple(about),
        _gone_actions(kinds),
    )


def _why_gone(kinds: Mapping[FindingKind, list[int]], count: int) -> list[str]:
    here, written = len(kinds[FindingKind.ONLY_HERE]), len(kinds[FindingKind.WRITTEN_OTHERWISE])
    renamed = len(kinds[FindingKind.RENAMED])
    if here == count:
        return ["The file exists here but not there." if count == 1 else "They are here, not there."]
    parts = [
        f"{here} of them {'is' if here == 1 else 'are'} here, not there" if here else "",
        f"{written} {'is' if written == 1 else 'are'} on the server with different capital letters" if written else "",
        f"{renamed} {'was' if renamed == 1 else 'were'} renamed since" if renamed else "",
    ]
    text = ", ".join(one for one in parts if one)
    return [text + "."] if text else []


def _gone_actions(kinds: Mapping[FindingKind, list[int]]) -> tuple[MendButton, ...]:
    here, written = kinds[FindingKind.ONLY_HERE], kinds[FindingKind.WRITTEN_OTHERWISE]
    renamed = kinds[FindingKind.RENAMED]
    made = []
    if here:
        made.append(MendButton(Mend.SEND, f"Upload {count_text(len(here), 'file')}", tuple(here)))
    if written:
        made.append(MendButton(Mend.RENAME, f"Fix {count_text(len(written), 'file name')}", tuple(written)))
    if renamed:
        made.append(
            MendButton(Mend.REWRITE, f"Update links to {count_text(len(renamed), 'renamed file')}", tuple(renamed))
        )
    return tuple(made)


def _name_gone(one: SiteFinding) -> str:
    if one.other is not None:
        how = "is now" if one.kind is FindingKind.RENAMED else "is there as"
        return f"{one.name} ({how} {one.other.name.decode('utf-8', 'replace')})"
    return f"{one.name} ({one.said})" if one.said else one.name


def _of_exposed(found: Sequence[SiteFinding]) -> list[FindingCard]:
    by_danger: dict[Danger, list[int]] = defaultdict(list)
    for number, one in enumerate(found):
        if one.kind is FindingKind.EXPOSED and one.danger is not None:
            by_danger[one.danger].append(number)
    made = []
    for danger in Danger:
        about = by_danger.get(danger)
        if not about:
            continue
        some = [found[number] for number in about]
        what, notice = _DANGER_WORDS[danger]
        size = size_text(sum(one.size for one in some))
        title = f"Anyone can download {what}" if len(some) == 1 else f"Anyone can download {what} ({len(some)} files)"
        actions = [
            MendButton(Mend.TAKE_DOWN, "Remove it there" if len(some) == 1 else "Remove them there", tuple(about)),
            MendButton(Mend.FORBID, "Block with a server rule", tuple(about)),
        ]
        if len({one.path.parent for one in some if one.path is not None}) == 1:
            words = "Move it off the web" if len(some) == 1 else "Move them off the web"
            actions.insert(1, MendButton(Mend.MOVE_OUT, words, tuple(about)))
        if danger is Danger.SECRETS:
            actions.append(MendButton(Mend.CLOSE, "Set permissions to 600", tuple(about)))
        made.append(
            FindingCard(
                f"exposed-{danger.name.lower()}",
                Gravity.BAD if danger in GRAVE else Gravity.WARN,
                title,
                notice,
                tuple(f"{one.name}, {one.said}" for one in some[:_SHOWN]) if size else (),
                tuple(about),
                tuple(actions),
            )
        )
    return made


def _of_rest(found: Sequence[SiteFinding]) -> list[FindingCard]:
    """One card for each kind that needs no more telling apart, and one for each folder with rival first pages."""
    by_kind: dict[FindingKind, list[int]] = defaultdict(list)
    for number, one in enumerate(found):
        by_kind[one.kind].append(number)
    made = [_rivals_card(found[number], number) for number in by_kind[FindingKind.RIVALS]]
    made += [_way_card(found[number], number) for number in by_kind[FindingKind.WAY]]
    for kind, (single, many, notice) in _REST.items():
        about = by_kind.get(kind)
        if about:
            some = [found[number] for number in about]
            title = count_text(len(some), single, many)
            actions = (
                (MendButton(Mend.FORBID_LISTS, "Turn off directory listings …", tuple(about)),)
                if kind is FindingKind.LISTS
                else ()
            )
            names = tuple(f"{one.name} ({one.said})" if one.said else one.name for one in some[:_SHOWN])
            gravity = Gravity.BAD if kind in (FindingKind.ON_A_DISK, FindingKind.PLACEHOLDER) else Gravity.WARN
            made.append(FindingCard(kind.value, gravity, title, notice, names, tuple(about), actions))
    return made


_REST: Mapping[FindingKind, tuple[str, str, str]] = {
    FindingKind.PLACEHOLDER: (
        "address shows the hosting provider's placeholder page",
        "addresses show the hosting provider's own page",
        "Visitors do not see the site: its account is not set up, or its first page is missing.",
    ),
    FindingKind.ON_A_DISK: (
        "link points to a local disk",
        "references point to a local disk",
        "It works only on the computer where the page was made.",
    ),
    FindingKind.INSECURE: (
        "part of a page is loaded without https",
        "parts of pages come without https",
        "Browsers block it on https pages or show a warning.",
    ),
    FindingKind.OTHERS: (
        "broken link to another site",
        "broken links to other sites",
        "The link leads to a “not found” page or to nothing.",
    ),
    FindingKind.LISTS: (
        "folder shows a public directory listing",
        "folders show a public directory listing",
        "Anyone who opens the address sees a list of all its files.",
    ),
}


# What browsers stop at before they show anything.
_SHUTS_OUT = (Wrong.PARKED, Wrong.BROKEN, Wrong.CERTIFICATE_OVER, Wrong.CERTIFICATE_NAME, Wrong.LEADS_NOWHERE)


def _way_card(one: SiteFinding, number: int) -> FindingCard:
    shut = any(one.key.startswith(f"{wrong.value}: ") for wrong in _SHUTS_OUT)
    notice = (
        "Visitors who use this address do not see the site." if shut else "See below for each address, step by step."
    )
    gravity = Gravity.BAD if shut else Gravity.WARN
    return FindingCard("way", gravity, one.said.rstrip("."), notice, (one.address,), (number,))


def _rivals_card(one: SiteFinding, number: int) -> FindingCard:
    where = one.name
    served = one.other.name.decode("utf-8", "replace") if one.other is not None else ""
    actions: tuple[MendButton, ...]
    others = [place.written for place in one.places if place.written != served]
    if served:
        notice = (
            f"Visitors get {served}; {', '.join(others)} is not shown to anyone."
            if others
            else f"Visitors get {served}."
        )
        actions = (MendButton(Mend.SET_ASIDE, f"Set {served} aside", (number,)),)
    else:
        # A program's answer is not its text: which one was served cannot be told, and none is offered to be moved.
        notice = f"Nailer cannot tell which one visitors get: the address answered {one.said or 'nothing'}."
        actions = ()
    return FindingCard(
        "rivals",
        Gravity.WARN,
        f"{len(one.places)} start pages in {where}",
        notice,
        tuple(place.page.shown for place in one.places),
        (number,),
        actions,
    )
