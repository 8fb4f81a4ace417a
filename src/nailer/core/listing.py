"""Listings of FTP servers as entries: the facts of MLSD (RFC 3659, 7), and LIST in its Unix and DOS forms.

LIST was never standardised (RFC 959 calls it text for people). Two forms have survived: what `ls -l` prints, and what
DOS printed. Both show the server's own wall clock; recent files come without a year, so the server's today decides it.
Every stamp says how coarse it is: a listing that shows only days must not make a file look changed.
"""

from __future__ import annotations

import re
from calendar import timegm
from collections.abc import Iterable
from dataclasses import dataclass

from nailer.core.entry import NS, Entry, Kind, Stamp

_MINUTE_NS = 60 * NS
_DAY_S = 86_400
_DAY_NS = _DAY_S * NS
_MONTHS = (b"jan", b"feb", b"mar", b"apr", b"may", b"jun", b"jul", b"aug", b"sep", b"oct", b"nov", b"dec")

_UNIX = re.compile(
    rb"^(?P<kind>[-dlbcpsD])(?P<mode>[-rwxsStTlL]{9})[+@.]?\s+"
    rb"(?:(?P<links>\d+)\s+)?"
    rb"(?:(?P<owner>[^\s]+)\s+)??(?:(?P<group>[^\s]+)\s+)??"
    rb"(?:\d+,\s*)?(?P<size>\d+)\s+"
    rb"(?P<when>[A-Za-z]{3}\s+\d{1,2}\s+(?:\d{1,2}:\d{2}|\d{4})|\d{1,2}\s+[A-Za-z]{3}\s+(?:\d{1,2}:\d{2}|\d{4})"
    rb"|\d{4}-\d{2}-\d{2}\s+\d{2}:\d{2}(?::\d{2})?)"
    rb" (?P<name>.+)$",
    re.DOTALL,
)
_DOS = re.compile(
    rb"^(?P<when>\d{2}-\d{2}-\d{2,4}\s+\d{1,2}:\d{2}\s*(?:[AaPp][Mm])?|\d{4}-\d{2}-\d{2}\s+\d{1,2}:\d{2})\s+"
    rb"(?:(?P<mark><[A-Za-z]+>)|(?P<size>[\d,.]+))\s+(?P<name>.+)$",
    re.DOTALL,
)


@dataclass(frozen=True, slots=True)
class Clock:
    """A server's wall clock: `now_s` is UTC in seconds since 1970, `offset_s` what its listings are ahead of UTC."""

    now_s: float
    offset_s: int = 0


@dataclass(frozen=True, slots=True)
class Listed:
    """What a LIST held. `unread` are lines that are neither entries nor known ornament: the listing is then doubtful."""

    entries: list[Entry]
    unread: list[bytes]


@dataclass(frozen=True, slots=True)
class Facts:
    """One line of MLSD or MLST. `unique` tells two names of one folder; `is_own` marks the folder itself or its parent."""

    entry: Entry
    unique: bytes | None
    is_own: bool


def parse_facts(line: bytes) -> Facts | None:
    """An entry from `fact=value;fact=value; name`; None where the line is none (RFC 3659, 7.2). Times are UTC.

    >>> one = parse_facts(b"type=file;size=9;modify=20261123104209.5;UNIX.mode=0644; sailings.json")
    >>> one.entry.name, one.entry.size, oct(one.entry.access), one.entry.stamp.precision_ns
    (b'sailings.json', 9, '0o644', 100000000)
    """
    written, blank, name = line.partition(b" ")
    if not blank or not name or b"=" not in written:
        return None
    facts: dict[bytes, bytes] = {}
    for part in written.split(b";"):
        key, equals, value = part.partition(b"=")
        if equals:
            facts[key.lower()] = value
    kind, target = _kind_of_type(facts.get(b"type", b"file"))
    entry = Entry(
        name=name,
        kind=kind,
        size=_number(facts.get(b"size")) if kind is Kind.FILE else 0,
        stamp=parse_time(facts[b"modify"]) if b"modify" in facts else None,
        access=_octal(facts.get(b"unix.mode")),
        owner=_text(facts.get(b"unix.ownername") or facts.get(b"unix.owner") or facts.get(b"unix.uid")),
        group=_text(facts.get(b"unix.groupname") or facts.get(b"unix.group") or facts.get(b"unix.gid")),
        target=target,
    )
    return Facts(entry, facts.get(b"unique"), facts.get(b"type", b"").lower() in (b"cdir", b"pdir"))


def parse_time(text: bytes) -> Stamp | None:
    """A time of MDTM and MLSD, `YYYYMMDDHHMMSS[.fraction]` in UTC (RFC 3659, 2.3); None where it is none.

    >>> parse_time(b"19700101000001").at_s
    1.0
    """
    found = re.fullmatch(rb"(\d{4})(\d{2})(\d{2})(\d{2})(\d{2})(\d{2})(?:\.(\d{1,9}))?", text.strip())
    if found is None:
        return None
    year, month, day, hour, minute, second = (int(part) for part in found.groups()[:6])
    at_s = _seconds(year, month, day, hour, minute, min(second, 59))
    if at_s is None:
        return None
    digits = found.group(7) or b""
    fraction_ns = int(digits.ljust(9, b"0")) if digits else 0
    return Stamp(at_s * NS + fraction_ns, NS // 10 ** len(digits))


def quoted_path(line: bytes) -> bytes | None:
    """The path in the answer to PWD (RFC 959, appendix II): between quotes, a quote in it doubled.

    >>> quoted_path(b'"/home/a""b" is the current directory')
    b'/home/a"b'
    """
    found = re.match(rb'\s*"((?:[^"]|"")*)"', line)
    return found[1].replace(b'""', b'"') if found else None


def time_text(stamp: Stamp) -> bytes:
    """A stamp as MFMT takes it, in whole seconds of UTC.

    >>> time_text(Stamp.seconds(1))
    b'19700101000001'
    """
    days, rest = divmod(max(0, stamp.at_ns // NS), _DAY_S)
    year, month, day = _civil(days)
    return b"%04d%02d%02d%02d%02d%02d" % (year, month, day, rest // 3600, rest % 3600 // 60, rest % 60)


def parse_list(lines: Iterable[bytes], clock: Clock) -> Listed:
    """The entries of a LIST in either form. `total 12` and a heading that names the folder are ornament.

    >>> parse_list([b"total 4", b"-rw-r--r--  1 web www  9 Nov 23 10:42 a b.html"], Clock(1_795_430_520)).entries[0].name
    b'a b.html'
    """
    entries: list[Entry] = []
    unread: list[bytes] = []
    for line in lines:
        line = line.rstrip(b"\r\n")
        entry = _unix(line, clock) or _dos(line, clock)
        if entry is None:
            if line.strip() and not re.match(rb"(?i)^(total|insgesamt|summe)\b", line):
                unread.append(line)
        elif entry.name not in (b".", b".."):
            entries.append(entry)
    return Listed(entries, unread)


def offset_of(listed: Stamp, exact: Stamp) -> int:
    """What a listing's clock is ahead of UTC, in seconds: one file's time as LIST shows it, read as if it were UTC,
    against its time by MDTM. Split into quarter hours, as zones are; the rest is the listing's coarseness.

    >>> offset_of(Stamp(7260 * NS, _MINUTE_NS), Stamp.seconds(61))
    7200
    """
    return round((listed.at_ns - exact.at_ns) / NS / 900) * 900


def _unix(line: bytes, clock: Clock) -> Entry | None:
    found = _UNIX.match(line)
    if found is None:
        return None
    stamp = _list_time(found["when"], clock)
    if stamp is None:
        return None
    kind = {b"-": Kind.FILE, b"d": Kind.FOLDER, b"D": Kind.FOLDER, b"l": Kind.LINK}.get(found["kind"], Kind.OTHER)
    name, target = found["name"], None
    if kind is Kind.LINK and b" -> " in name:
        name, _, target = name.partition(b" -> ")
    owner, group = found["owner"], found["group"]
    return Entry(
        name=name,
        kind=kind,
        size=int(found["size"]) if kind is Kind.FILE else 0,
        stamp=stamp,
        access=_bits(found["mode"]),
        owner=_text(owner),
        group=_text(group),
        target=target,
    )


def _dos(line: bytes, clock: Clock) -> Entry | None:
    found = _DOS.match(line)
    if found is None:
        return None
    stamp = _list_time(found["when"], clock)
    if stamp is None:
        return None
    mark, name, target = (found["mark"] or b"").upper(), found["name"], None
    kind = Kind.FILE
    if mark:
        kind = Kind.FOLDER if mark == b"<DIR>" else Kind.LINK
    if kind is Kind.LINK and name.endswith(b"]") and b" [" in name:
        name, _, target = name[:-1].rpartition(b" [")
    size = re.sub(rb"[,.]", b"", found["size"] or b"0")
    return Entry(name=name, kind=kind, size=int(size or b"0") if kind is Kind.FILE else 0, stamp=stamp, target=target)


def _list_time(text: bytes, clock: Clock) -> Stamp | None:
    """A time of LIST, from the server's wall clock to UTC, with its precision."""
    parts = re.split(rb"[\s:]+", text.strip())
    if re.match(rb"\d{4}-\d{2}-\d{2}", parts[0]):
        year, month, day = (int(part) for part in parts[0].split(b"-"))
        second = int(parts[3]) if len(parts) > 3 else 0
        return _stamp(clock, (year, month, day), (int(parts[1]), int(parts[2]), second), NS if len(parts) > 3 else 0)
    if b"-" in parts[0]:
        return _dos_time(parts, clock)
    day_text, month_text = (parts[1], parts[0]) if parts[1].isdigit() else (parts[0], parts[1])
    if month_text.lower() not in _MONTHS:
        return None
    month, day = _MONTHS.index(month_text.lower()) + 1, int(day_text)
    if len(parts) == 3:
        return _stamp(clock, (int(parts[2]), month, day), (0, 0, 0), _DAY_NS)
    hour, minute = int(parts[2]), int(parts[3])
    # A listing leaves the year out for what is at most some months old: the latest such day that is not to come.
    # A day of grace, as the clock there may be ahead of what we believe.
    latest_s = clock.now_s + clock.offset_s + _DAY_S
    this_year = _civil(int(latest_s // _DAY_S))[0]
    for year in range(this_year, this_year - 9, -1):
        at_s = _seconds(year, month, day, hour, minute, 0)
        if at_s is not None and at_s <= latest_s:
            return Stamp((at_s - clock.offset_s) * NS, _MINUTE_NS)
    return None


def _dos_time(parts: list[bytes], clock: Clock) -> Stamp | None:
    month, day, year = (int(part) for part in parts[0].split(b"-"))
    if year < 100:
        year += 2000 if year < 70 else 1900
    hour, minute = int(parts[1]), int(parts[2][:2])
    half = (parts[3] if len(parts) > 3 else parts[2][2:]).lower()
    if half:
        hour = hour % 12 + (12 if half == b"pm" else 0)
    return _stamp(clock, (year, month, day), (hour, minute, 0), 0)


def _stamp(clock: Clock, date: tuple[int, int, int], time: tuple[int, int, int], precision_ns: int) -> Stamp | None:
    at_s = _seconds(*date, *time)
    return None if at_s is None else Stamp((at_s - clock.offset_s) * NS, precision_ns or _MINUTE_NS)


def _seconds(year: int, month: int, day: int, hour: int, minute: int, second: int) -> int | None:
    """Seconds since 1970 of a UTC time; None where there is no such day or hour."""
    if not (1 <= month <= 12 and 1 <= day <= _days_in(year, month) and hour < 24 and minute < 60):
        return None
    return timegm((year, month, day, hour, minute, second))


def _days_in(year: int, month: int) -> int:
    if month == 2:
        return 29 if year % 4 == 0 and (year % 100 != 0 or year % 400 == 0) else 28
    return 30 if month in (4, 6, 9, 11) else 31


def _civil(days: int) -> tuple[int, int, int]:
    """Year, month and day of a day counted from 1970-01-01, in the Gregorian calendar."""
    year = 1970 + days // 366
    while timegm((year + 1, 1, 1, 0, 0, 0)) // _DAY_S <= days:
        year += 1
    rest = days - timegm((year, 1, 1, 0, 0, 0)) // _DAY_S
    month = 1
    while rest >= _days_in(year, month):
        rest -= _days_in(year, month)
        month += 1
    return year, month, rest + 1


def _kind_of_type(text: bytes) -> tuple[Kind, bytes | None]:
    """The kind a `type` fact names, and a link's target. Links have no type of their own in RFC 3659; servers write
    `OS.unix=slink:target`, `OS.unix=symlink`, or the like."""
    lower = text.lower()
    if lower in (b"dir", b"cdir", b"pdir"):
        return Kind.FOLDER, None
    if lower == b"file":
        return Kind.FILE, None
    if lower.startswith(b"os.unix=s") and b"link" in lower:
        return Kind.LINK, text.partition(b":")[2] or None
    return Kind.OTHER, None


def _bits(text: bytes) -> int:
    """The twelve permission bits of `rwxr-xr-x`, with s, S, t and T (POSIX `ls`)."""
    bits = 0
    for place, letter in enumerate(text):
        character = chr(letter)
        if character not in "-STlL":
            bits |= 1 << (8 - place)
        if character in "sStTlL" and place in (2, 5, 8):
            bits |= 1 << (11 - place // 3)
    return bits


def _number(text: bytes | None) -> int:
    return int(text) if text is not None and text.isdigit() else 0


def _octal(text: bytes | None) -> int | None:
    # Some servers write Python's `0o644`.
    return int(text.removeprefix(b"0o"), 8) & 0o7777 if text and re.fullmatch(rb"(0o)?[0-7]+", text) else None


def _text(text: bytes | None) -> str | None:
    return text.decode("utf-8", "replace") if text else None
