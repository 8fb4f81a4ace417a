"""Permissions: the twelve bits as octal, as rwx text and as a sentence, and what suits which purpose (POSIX)."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.files.entry import Entry, Kind
from nailer.errors import InvalidInput

_WHO = ("owner", "group", "everyone")
_SPECIAL = ((0o4000, 0o100, "s"), (0o2000, 0o010, "s"), (0o1000, 0o001, "t"))
_PRIVATE_NAMES = (b".env", b"wp-config", b"settings.private", b"id_rsa", b"id_ed25519", b".htpasswd")
_SCRIPT_ENDINGS = (b".cgi", b".pl", b".sh")

DEFAULT_FILE = 0o644
PRIVATE_FILE = 0o600
DEFAULT_FOLDER = 0o755


def octal(permissions: int) -> str:
    """Three digits, four where setuid, setgid or sticky is set.

    >>> octal(0o644), octal(0o4755)
    ('644', '4755')
    """
    return f"{permissions & 0o7777:03o}"


def rwx(permissions: int) -> str:
    """Nine characters as POSIX writes them, with s, S, t and T.

    >>> rwx(0o644), rwx(0o4755), rwx(0o1777), rwx(0o2644)
    ('rw-r--r--', 'rwsr-xr-x', 'rwxrwxrwt', 'rw-r-Sr--')
    """
    text = ["rwxrwxrwx"[place] if permissions & (0o400 >> place) else "-" for place in range(9)]
    for place, (bit, run, letter) in enumerate(_SPECIAL):
        if permissions & bit:
            text[place * 3 + 2] = letter if permissions & run else letter.upper()
    return "".join(text)


@dataclass(frozen=True, slots=True)
class Bits:
    """One line of the permissions panel: who, and whether they may read, write and run."""

    who: str
    read: bool
    write: bool
    run: bool


def bits(permissions: int) -> tuple[Bits, ...]:
    """Owner, group and everyone, in that order."""
    shifted = [permissions >> shift for shift in (6, 3, 0)]
    return tuple(Bits(who, bool(a & 4), bool(a & 2), bool(a & 1)) for who, a in zip(_WHO, shifted, strict=True))


def sentence(permissions: int, *, folder: bool = False) -> str:
    """What the bits mean, for a person who does not count in octal.

    >>> sentence(0o644)
    'The owner can change it; everyone can read it.'
    >>> sentence(0o755, folder=True)
    'The owner can change what is in it; everyone can list and enter it.'
    >>> sentence(0o600)
    'The owner can change it; no one else can read it.'
    """
    owner, group, world = bits(permissions)
    change = "change what is in it" if folder else "change it"
    parts = []
    writers = [bit.who for bit in (owner, group, world) if bit.write]
    if world.write:
        parts.append(f"Everyone on the server can {change}")
    elif writers:
        parts.append(f"The {' and the '.join(writers)} can {change}")
    else:
        parts.append(f"No one can {change}")
    parts.append(_readers(group, world, folder=folder))
    return "; ".join(part for part in parts if part) + "."


def _readers(group: Bits, world: Bits, *, folder: bool) -> str:
    def _can(who: Bits) -> str:
        if folder:
            return " and ".join(word for word, on in (("list", who.read), ("enter", who.run)) if on)
        return " and ".join(word for word, on in (("read", who.read), ("run", who.run)) if on)

    if _can(world):
        return f"everyone can {_can(world)} it"
    if _can(group):
        return f"only the group can {_can(group)} it too"
    return "no one else can enter it" if folder else "no one else can read it"


def within(wanted: int, given: int) -> int:
    """The permissions of a new file that is to be as open as `wanted`, on a side that gave it `given` by itself: never more
    open than both say. Whoever may read by the side's own choice may also run what is to be run: new files are made without.

    >>> oct(within(0o755, 0o640)), oct(within(0o600, 0o644)), oct(within(0o644, 0o600))
    ('0o750', '0o600', '0o600')
    """
    return wanted & (given | (given & 0o444) >> 2)


def opened_beyond(found: int | None, wanted: int | None) -> bool:
    """True where others than the owner may do with a file what was not wanted. What is not known is not said to be so.

    >>> opened_beyond(0o644, 0o600), opened_beyond(0o640, 0o644), opened_beyond(None, 0o600)
    (True, False, False)
    """
    return found is not None and wanted is not None and bool(found & ~wanted & 0o077)


def fitting(entry: Entry, usual_file: int = DEFAULT_FILE) -> int:
    """The permissions that suit what the name stands for: folder 755, script 755, private settings 600, else the usual."""
    if entry.kind is Kind.FOLDER:
        return DEFAULT_FOLDER
    name = entry.name.lower()
    if any(name.startswith(private) for private in _PRIVATE_NAMES):
        return PRIVATE_FILE
    return 0o755 if name.endswith(_SCRIPT_ENDINGS) else usual_file


def carried_permissions(entry: Entry) -> int:
    """What a new file is to have that comes from one with these permissions: the same, never more for private settings than
    for their owner. A script may be run by whoever may read it. Raises ValueError where the permissions are not known.

    >>> [oct(carried_permissions(Entry(name, Kind.FILE, permissions=0o644))) for name in (b"a.html", b"run.cgi", b".env")]
    ['0o644', '0o755', '0o600']
    """
    if entry.permissions is None:
        raise ValueError("permissions that are not known cannot be transferred")
    permissions = entry.permissions & 0o777
    suits = fitting(entry)
    if suits == PRIVATE_FILE:
        return permissions & PRIVATE_FILE
    return permissions | (permissions & 0o444) >> 2 if suits == 0o755 else permissions


def trouble(entry: Entry) -> str | None:
    """What is wrong with an entry's permissions, in a few words, or None.

    >>> trouble(Entry(b"old-site.zip", Kind.FILE, permissions=0o666))
    'anyone on the server can write'
    """
    permissions = entry.permissions
    if permissions is None or entry.kind in (Kind.LINK, Kind.OTHER):
        return None
    if permissions & 0o002 and not (entry.is_folder and permissions & 0o1000):
        return "anyone on the server can write"
    if entry.is_folder:
        return None if permissions & 0o100 else "its owner cannot enter it"
    if fitting(entry) == 0o600 and permissions & 0o004:
        return "private settings that everyone can read"
    if fitting(entry) == 0o755 and not permissions & 0o100:
        return "script without run permission"
    return None


_CLAUSE = re.compile(r"(?P<who>[ugoa]*)(?P<acts>(?:[-+=](?:[ugo]|[rwxXst]*))+)")
_ACT = re.compile(r"(?P<sign>[-+=])(?P<bits>[ugo]|[rwxXst]*)")
_SHIFT = {"u": 6, "g": 3, "o": 0}
_RWX = re.compile(r"(?:[r-][w-][xsS-]){2}[r-][w-][xtT-]")


def of_octal(text: str) -> int:
    """The twelve bits behind three or four octal digits. Raises InvalidInput.

    >>> oct(of_octal("4755")), oct(of_octal("0644"))
    ('0o4755', '0o644')
    """
    if not re.fullmatch(r"[0-7]{3,4}", text.strip()):
        raise InvalidInput("Permissions in octal have three or four digits from 0 to 7.")
    return int(text.strip(), 8)


def of_rwx(text: str) -> int:
    """The twelve bits behind nine characters as POSIX writes them. Raises InvalidInput.

    >>> oct(of_rwx("rwsr-xr-t"))
    '0o5755'
    """
    text = text.strip()
    if not _RWX.fullmatch(text):
        raise InvalidInput("Permissions as text have nine characters, like rw-r--r--.")
    permissions = sum(0o400 >> place for place, sign in enumerate(text) if sign not in "-ST")
    return permissions | sum(bit for place, (bit, _, _) in enumerate(_SPECIAL) if text[place * 3 + 2] in "sStT")


def changed_by(expression: str, permissions: int, *, folder: bool = False) -> int:
    """What a symbolic expression makes of some permissions (POSIX, chmod). `X` is run for folders and for what already runs
    by anybody; where nobody is named, all are meant, whatever the umask. Raises InvalidInput.

    >>> oct(changed_by("u=rwX,go=rX", 0o600)), oct(changed_by("u=rwX,go=rX", 0o700)), oct(changed_by("go-w,+x", 0o666))
    ('0o644', '0o755', '0o755')
    """
    for clause in expression.strip().split(","):
        found = _CLAUSE.fullmatch(clause.strip())
        if found is None:
            raise InvalidInput(f"“{clause.strip()}” is not a valid expression. Write it like u=rwX,go=rX or g-w.")
        who = "ugo" if not found["who"] or "a" in found["who"] else found["who"]
        for act in _ACT.finditer(found["acts"]):
            permissions = _acted(permissions, who, act["sign"], act["bits"], folder)
    return permissions


def _acted(permissions: int, who: str, sign: str, bits_wanted: str, folder: bool) -> int:
    if bits_wanted in ("u", "g", "o"):
        copied = permissions >> _SHIFT[bits_wanted] & 7
        wanted = sum(copied << _SHIFT[one] for one in who)
    else:
        three = 4 * ("r" in bits_wanted) | 2 * ("w" in bits_wanted)
        runs = "x" in bits_wanted or ("X" in bits_wanted and (folder or permissions & 0o111))
        three |= 1 if runs else 0
        wanted = sum(three << _SHIFT[one] for one in who)
        if "s" in bits_wanted:
            wanted |= (0o4000 if "u" in who else 0) | (0o2000 if "g" in who else 0)
        if "t" in bits_wanted:
            wanted |= 0o1000
    if sign == "+":
        return permissions | wanted
    if sign == "-":
        return permissions & ~wanted
    mask = sum(7 << _SHIFT[one] for one in who)
    # A folder keeps its setuid and setgid unless they are named (POSIX leaves it open; GNU and BSD keep them).
    mask |= 0 if folder else (0o4000 if "u" in who else 0) | (0o2000 if "g" in who else 0)
    mask |= 0o1000 if who == "ugo" and not folder else 0
    return permissions & ~mask | wanted


def symbolic(permissions: int) -> str:
    """The expression that sets exactly these bits.

    >>> symbolic(0o644), symbolic(0o4750)
    ('u=rw,go=r', 'u=rwxs,g=rx,o=')
    """
    words = []
    for place, one in enumerate("ugo"):
        three = permissions >> _SHIFT[one] & 7
        word = "".join(sign for bit, sign in ((4, "r"), (2, "w"), (1, "x")) if three & bit)
        words.append(word + ("s" if place < 2 and permissions & _SPECIAL[place][0] else ""))
    groups: dict[str, str] = {}
    for one, word in zip("ugo", words, strict=True):
        groups[word] = groups.get(word, "") + one
    parts = [f"{who}={word}" for word, who in groups.items()]
    return ",".join(parts) + (",+t" if permissions & 0o1000 else "")


_FILE_PHRASES = (
    "nothing",
    "run",
    "write",
    "write and run",
    "read",
    "read and run",
    "read and write",
    "read, write and run",
)
_FOLDER_PHRASES = (
    "nothing",
    "enter",
    "change (without entering)",
    "enter and change",
    "list (names only)",
    "list and enter",
    "list and change (without entering)",
    "list, enter and change",
)


def phrases(*, folder: bool) -> tuple[str, ...]:
    """The words for each digit from 0 to 7: what somebody may do with a file, or with what is in a folder."""
    return _FOLDER_PHRASES if folder else _FILE_PHRASES


def difference(now: int, then: int, *, folder: bool = False) -> str:
    """What would change, in words; empty where nothing does.

    >>> difference(0o666, 0o644)
    'the group and everyone may no longer write'
    >>> difference(0o644, 0o755)
    'the owner, the group and everyone may now run'
    """
    verbs = ("list", "change", "enter") if folder else ("read", "write", "run")
    gained: dict[str, list[str]] = {}
    lost: dict[str, list[str]] = {}
    for who, shift in (("the owner", 6), ("the group", 3), ("everyone", 0)):
        for verb, bit in zip(verbs, (4, 2, 1), strict=True):
            before, after = now >> shift & bit, then >> shift & bit
            if before != after:
                (gained if after else lost).setdefault(verb, []).append(who)
    parts = [f"{_listed(who)} may now {verb}" for verb, who in gained.items()]
    parts += [f"{_listed(who)} may no longer {verb}" for verb, who in lost.items()]
    for bit, word in ((0o4000, "setuid"), (0o2000, "setgid"), (0o1000, "the sticky bit")):
        if (now ^ then) & bit:
            parts.append(f"{word} is {'set' if then & bit else 'taken away'}")
    return "; ".join(parts)


def _listed(words: list[str]) -> str:
    return words[0] if len(words) == 1 else ", ".join(words[:-1]) + " and " + words[-1]


class Purpose(StrEnum):
    """What files are for, which says which permissions they need."""

    WEBSITE = "website"
    SCRIPTS = "scripts"
    PRIVATE = "private"
    SERVER_WRITES = "server-writes"


@dataclass(frozen=True, slots=True)
class Preset:
    """The permissions a purpose asks for, and why."""

    purpose: Purpose
    word: str
    files: int
    folders: int
    why: str


PRESETS = (
    Preset(
        Purpose.WEBSITE,
        "Standard website",
        0o644,
        0o755,
        "Everyone can read; only you can change. Scripts get 755; private settings stay private.",
    ),
    Preset(
        Purpose.SCRIPTS, "Executable scripts", 0o755, 0o755, "The web server may start them; only you can change them."
    ),
    Preset(
        Purpose.PRIVATE,
        "Private settings",
        0o600,
        0o700,
        "Only you can read them. A program that runs as you still can.",
    ),
    Preset(
        Purpose.SERVER_WRITES,
        "Writable by the server",
        0o664,
        0o775,
        "The group can change them. For upload and cache folders if the web server runs in your group.",
    ),
)


@dataclass(frozen=True, slots=True)
class PermissionsWish:
    """What many names are to get: an octal or symbolic expression each for files and folders (empty: they stay as they
    are). `by_purpose`: scripts and private settings get what suits them instead."""

    files: str = ""
    folders: str = ""
    by_purpose: bool = False

    def check(self) -> None:
        """Raises InvalidInput where an expression cannot be read."""
        for one in (self.files, self.folders):
            if one:
                wanted(one, 0o644, folder=False)

    def of(self, entry: Entry) -> int | None:
        """What an entry gets; None where it stays as it is, or has no permissions of its own."""
        if entry.permissions is None or entry.kind not in (Kind.FILE, Kind.FOLDER):
            return None
        expression = self.folders if entry.is_folder else self.files
        if not expression:
            return None
        if self.by_purpose and entry.is_file and (suits := fitting(entry)) != DEFAULT_FILE:
            private = suits == 0o600
            return entry.permissions if private and not entry.permissions & 0o077 else suits
        return wanted(expression, entry.permissions, folder=entry.is_folder)


def wanted(expression: str, permissions: int, *, folder: bool) -> int:
    """What an expression, octal or symbolic, makes of some permissions. Raises InvalidInput."""
    if expression.strip().isdecimal():
        return of_octal(expression)
    return changed_by(expression, permissions, folder=folder)


@dataclass(frozen=True, slots=True)
class Transition:
    """How many names go from one set of permissions to another, what they are, and whether what they have now is a risk."""

    now: int
    then: int
    what: str
    risk: str
    count: int
    examples: tuple[bytes, ...]

    @property
    def stays(self) -> bool:
        """True where nothing would change."""
        return self.now == self.then


def transitions(entries: Iterable[tuple[bytes, Entry]], wish: PermissionsWish) -> list[Transition]:
    """What a wish does to entries (each with the name it is shown by), counted; what changes first, the riskiest above.

    >>> one = Entry(b"a.html", Kind.FILE, permissions=0o666)
    >>> [(oct(t.now), oct(t.then), t.what, t.count) for t in transitions([(b"a.html", one)], PermissionsWish("644", "755"))]
    [('0o666', '0o644', 'anyone could write', 1)]
    """
    groups: dict[tuple[int, int, str, str], list[bytes]] = {}
    for shown, entry in entries:
        if entry.permissions is None or entry.kind not in (Kind.FILE, Kind.FOLDER):
            continue
        now = entry.permissions
        then = wish.of(entry)
        then = now if then is None else then
        groups.setdefault((now, then, _what(entry, now, then), risk_of(entry)), []).append(shown)
    found = [
        Transition(now, then, what, risk, len(names), tuple(names[:50]))
        for (now, then, what, risk), names in groups.items()
    ]
    return sorted(found, key=lambda one: (one.stays, not one.risk, -one.count, one.now))


def risk_of(entry: Entry) -> str:
    """What is risky about an entry's permissions as they are, in a few words; empty where nothing is."""
    permissions = entry.permissions
    if permissions is None or entry.kind not in (Kind.FILE, Kind.FOLDER):
        return ""
    if permissions & 0o002 and not (entry.is_folder and permissions & 0o1000):
        return "anyone can write"
    if permissions & 0o6000 and entry.is_file:
        return "runs with its owner's rights"
    if entry.is_file and fitting(entry) == 0o600 and permissions & 0o004:
        return "private settings that everyone can read"
    if entry.is_folder and not permissions & 0o100:
        return "no one can enter"
    if entry.is_file and fitting(entry) == 0o755 and not permissions & 0o100:
        return "script without run permission"
    if entry.is_file and permissions & 0o111 and fitting(entry) == DEFAULT_FILE:
        return "runnable, but not a script"
    return ""


def _what(entry: Entry, now: int, then: int) -> str:
    """What the names of a transition have in common."""
    suits = fitting(entry)
    if entry.is_folder:
        if now & 0o002 and not now & 0o1000:
            return "folders anyone could write in"
        return "folders that no one could enter" if not now & 0o100 else "folders"
    if suits == 0o600:
        return "private settings, left private" if not now & 0o077 else "private settings others could read"
    if suits == 0o755:
        return "scripts" if now & 0o100 else "scripts that could not run"
    if now & 0o6000:
        return "ran with their owner's rights"
    if now & 0o002:
        return "anyone could write"
    if now & 0o111 and not then & 0o111:
        return "runnable, but not a script"
    if now & 0o020 and not then & 0o020:
        return "group could write"
    return "pages, styles, pictures"
