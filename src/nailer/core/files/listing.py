"""Listings of FTP servers as entries: the facts of MLSD (RFC 3659, 7), and LIST in its Unix and DOS forms.

LIST was never standardised (RFC 959 calls it text for people). Two forms have survived: what `ls -l` prints, and what
DOS printed. Both show the server's own wall clock; recent files come without a year, so the server's today decides it.
Every stamp says how coarse it is: a listing that shows only days must not make a file look changed.

Rows end with CR LF, and names may hold a bare LF: a server prints such a name as it is. A row that cannot be read costs that
row and is counted; a listing with such rows is not known to be whole (`core/files/completeness.py`).
"""

from __future__ import annotations

import re
from calendar import timegm
from collections.abc import Iterable
from dataclasses import dataclass

from nailer.core.files.entry import NS, Entry, Kind, Stamp


def _fits(letter: str, charset: str) -> bool:
    try:
        letter.encode(charset)
    except UnicodeEncodeError:
        return False
    return True


_MINUTE_NS = 60 * NS
_DAY_S = 86_400
_FIRST_YEAR, _LAST_YEAR = 1900, 2200  # nanoseconds since 1970 must fit 64 bits
_DAY_NS = _DAY_S * NS
_MOST_BYTES = 2**63 - 1
# How months are shortened in the languages that hosts set their servers to; without dots, in small letters.
_MONTH_WORDS = (
    "jan janv ene gen sty led jän tammi",
    "feb febr févr fev fév lut úno helmi",
    "mar mär mrz märz mars mrt maaliskuu maalis bře",
    "apr avr avril abr kwi dub huhti",
    "may mai maj mei mag maio kvě touko",
    "jun juin juni giu cze czer kesä",
    "jul juil juli lug lip čec heinä",
    "aug août aou ago sie srp elo",
    "sep sept set wrz zář syys",
    "oct okt ott out paź říj loka",
    "nov lis marras",
    "dec dez déc dic dis des gru pro joulu",
)
_MONTHS = {
    word.encode(charset): number
    for number, words in enumerate(_MONTH_WORDS, start=1)
    for word in words.split()
    for charset in ("utf-8", "iso-8859-1", "iso-8859-2")
    if word.isascii() or all(_fits(letter, charset) for letter in word)
} | {f"{number}月".encode(): number for number in range(1, 13)}

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
# Whatever stands for owner and group, blanks in it, and the dates of other languages. The first size and date count.
_LOOSE = re.compile(
    rb"^(?P<kind>[-dlbcpsDnP])(?P<mode>[-rwxsStTlL]{9})[+@.]?(?:\s+(?P<middle>[^\r\n]*?))??\s+"
    rb"(?:\d+,\s*)?(?P<size>\d{1,20})\s+"
    rb"(?P<when>\d{4}-\d{2}-\d{2}[ T]\s*\d{2}:\d{2}(?::\d{2}(?:\.\d{1,9})?)?(?:\s[+-]\d{4})?"
    rb"|\d{4}-\d{2}-\d{2} |\d{2}-\d{2} \d{2}:\d{2}"
    rb"|(?:[A-Za-z\x80-\xff]{3,12}\.?|\d{1,2}\xe6\x9c\x88)\s*\d{1,2}\.?\s+(?:\d{1,2}[:.]\d{2}|\d{4})"
    rb"|\d{1,2}\.?\s+[A-Za-z\x80-\xff]{3,12}\.?\s+(?:\d{1,2}[:.]\d{2}|\d{4}))"
    rb" (?P<name>.+)$",
    re.DOTALL,
)
_DOS = re.compile(
    rb"^(?P<when>\d{2}-\d{2}-\d{2,4}\s+\d{1,2}:\d{2}\s*(?:[AaPp][Mm])?|\d{4}-\d{2}-\d{2}\s+\d{1,2}:\d{2})\s+"
    rb"(?:(?P<mark><[A-Za-z]+>)|(?P<size>[\d,.]{1,26}))\s+(?P<name>.+)$",
    re.DOTALL,
)


_ORNAMENT = re.compile(rb"(?i)^(total|insgesamt|summe|totale|gesamt|totaal|razem|celkem|\xe5\x90\x88\xe8\xae\xa1)\b")


@dataclass(frozen=True, slots=True)
class Clock:
    """A server's wall clock: `now_s` is UTC in seconds since 1970, `offset_s` what its listings are ahead of UTC."""

    now_s: float
    offset_s: int = 0


@dataclass(frozen=True, slots=True)
class Rows:
    """What a listing held. `unread` are rows that are neither entries nor known ornament. `shows_itself`: the folder's own
    row was there (`.`, or the fact `cdir`), which proves that the server could look into it; `dots` says that some name in
    it begins with a dot."""

    entries: list[Entry]
    unread: list[bytes]
    shows_itself: bool = False

    @property
    def dots(self) -> bool:
        """True where the listing shows names that begin with a dot, itself among them."""
        return self.shows_itself or any(one.name.startswith(b".") for one in self.entries)


@dataclass(frozen=True, slots=True)
class Facts:
    """One line of MLSD or MLST. `unique` tells two names of one folder; `is_own` marks the folder itself or its parent."""

    entry: Entry
    unique: bytes | None
    is_own: bool


def parse_facts(line: bytes) -> Facts | None:
    """An entry from `fact=value;fact=value; name`; None where the line is none (RFC 3659, 7.2), or where it keeps back what
    must be known: the kind, and the size of a file. Times are UTC; one that cannot be is not known.

    >>> one = parse_facts(b"type=file;size=9;modify=20261123104209.5;UNIX.mode=0644; sailings.json")
    >>> one.entry.name, one.entry.size, oct(one.entry.permissions), one.entry.stamp.precision_ns
    (b'sailings.json', 9, '0o644', 100000000)
    """
    written, blank, name = line.partition(b" ")
    if not blank or not name or b"=" not in written or b"\0" in name:
        return None
    facts: dict[bytes, bytes] = {}
    for part in written.split(b";"):
        key, equals, value = part.partition(b"=")
        if equals:
            facts[key.lower()] = value
    if b"type" not in facts:
        return None
    kind, target = _kind_of_type(facts[b"type"])
    size = _number(facts.get(b"size")) if kind is Kind.FILE else 0
    if size is None:
        return None
    entry = Entry(
        name=name,
        kind=kind,
        size=size,
        stamp=parse_time(facts[b"modify"]) if b"modify" in facts else None,
        permissions=_octal(facts.get(b"unix.mode")),
        owner=_text(facts.get(b"unix.ownername") or facts.get(b"unix.owner") or facts.get(b"unix.uid")),
        group=_text(facts.get(b"unix.groupname") or facts.get(b"unix.group") or facts.get(b"unix.gid")),
        target=target,
        owner_id=_number(facts.get(b"unix.uid") or facts.get(b"unix.owner")),
    )
    return Facts(entry, facts.get(b"unique"), facts[b"type"].lower() in (b"cdir", b"pdir"))


def parse_facts_rows(lines: Iterable[bytes], *, bare: bool = False) -> Rows:
    """The entries of an MLSD listing. With `bare` its rows end with a bare LF: one that cannot be read is then most often
    the rest of a name with a line break in it, and the row before it, only the half of a name, is not believed.
    """
    entries: list[Entry] = []
    unread: list[bytes] = []
    itself = False
    complete_before = False
    for line in lines:
        facts = parse_facts(line)
        if facts is None:
            before = entries.pop().name if bare and complete_before and entries else None
            unread.append(line if before is None else before + b" / " + line)
            complete_before = False
        elif facts.is_own or facts.entry.name in (b".", b".."):
            itself, complete_before = True, False
        elif _is_no_name(facts.entry.name):
            unread.append(line)
            complete_before = False
        else:
            entries.append(facts.entry)
            complete_before = True
    return Rows(*_told_once(entries, unread), shows_itself=itself)


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


def rows_of(raw: bytes) -> tuple[list[bytes], bool]:
    """The rows of a listing as it came over the wire, and whether it ends where a row does. Where rows end with CR LF a
    bare LF belongs to a name.

    >>> rows_of(b"one\\r\\ntwo\\nhalves\\r\\n")
    ([b'one', b'two\\nhalves'], True)
    """
    end = b"\r\n" if raw.endswith(b"\r\n") or b"\r\n" in raw else b"\n"
    rows = raw.split(end)
    complete = not rows[-1]
    return [one for one in rows if one], complete


def _is_no_name(name: bytes) -> bool:
    return b"/" in name or b"\0" in name


def _told_once(entries: list[Entry], unread: list[bytes]) -> tuple[list[Entry], list[bytes]]:
    """Of two rows with one name neither can be trusted more: a name with a line break in it can hold a row of its own. The
    first is kept, and the second counts as unread."""
    names = {entry.name for entry in entries}
    if len(names) == len(entries):
        return entries, unread
    first: dict[bytes, Entry] = {}
    twice = [entry.name for entry in entries if first.setdefault(entry.name, entry) is not entry]
    return list(first.values()), unread + twice


def parse_list(lines: Iterable[bytes], clock: Clock) -> Rows:
    """The entries of a LIST in either form. `total 12` and a heading that names the folder are ornament.

    >>> parse_list([b"total 4", b"-rw-r--r--  1 web www  9 Nov 23 10:42 a b.html"], Clock(1_795_430_520)).entries[0].name
    b'a b.html'
    """
    entries: list[Entry] = []
    unread: list[bytes] = []
    itself = False
    for line in lines:
        entry = _easily_parsed(line) or _unix(line, clock) or _unix_loosely(line, clock) or _dos(line, clock)
        if entry is None:
            if line.strip() and not _ORNAMENT.match(line):
                unread.append(line)
        elif entry.name in (b".", b".."):
            itself = True
        elif _is_no_name(entry.name):
            unread.append(line)
        else:
            entries.append(entry)
    return Rows(*_told_once(entries, unread), shows_itself=itself)


def offset_of(listed: Stamp, exact: Stamp) -> int:
    """What a listing's clock is ahead of UTC, in seconds: one file's time as LIST shows it, read as if it were UTC,
    against its time by MDTM. Split into quarter hours, as zones are; the rest is the listing's coarseness.

    >>> offset_of(Stamp(7260 * NS, _MINUTE_NS), Stamp.seconds(61))
    7200
    """
    return round((listed.at_ns - exact.at_ns) / NS / 900) * 900


def _easily_parsed(line: bytes) -> Entry | None:
    """A row of the Easily Parsed LIST Format: facts behind a plus, each ended by a comma, and the name behind a tab.

    >>> _easily_parsed(b"+i8388621.48594,m825718503,r,s280,\\tdjb.html").size
    280
    """
    if not line.startswith(b"+"):
        return None
    facts, tab, name = line.partition(b"\t")
    if not tab or not name:
        return None
    said = {fact[:1]: fact[1:] for fact in facts[1:].split(b",") if fact}
    size, changed, permissions = (said.get(letter, b"") for letter in (b"s", b"m", b"u"))
    kind = Kind.FOLDER if b"/" in said else Kind.FILE if b"r" in said else Kind.OTHER
    bits = permissions.removeprefix(b"p")
    return Entry(
        name,
        kind,
        int(size) if kind is Kind.FILE and size.isdigit() and len(size) <= 18 else 0,
        Stamp.seconds(int(changed)) if changed.isdigit() and len(changed) <= 11 else None,
        int(bits, 8) & 0o7777 if bits and permissions.startswith(b"p") and not bits.strip(b"01234567") else None,
    )


def _unix(line: bytes, clock: Clock) -> Entry | None:
    found = _UNIX.match(line)
    if found is None or not _has_month(found["when"]):
        return None
    return _unix_entry(found, found["owner"], found["group"], clock)


def _unix_loosely(line: bytes, clock: Clock) -> Entry | None:
    found = _LOOSE.match(line)
    if found is None or not _has_month(found["when"]):
        return None
    words = (found["middle"] or b"").split()
    if words and words[0].isdigit() and len(words) != 2:
        words = words[1:]  # how many links there are to it
    owner = words[0] if words else None
    return _unix_entry(found, owner, b" ".join(words[1:]) or None, clock)


def _unix_entry(found: re.Match[bytes], owner: bytes | None, group: bytes | None, clock: Clock) -> Entry | None:
    kind = {b"-": Kind.FILE, b"d": Kind.FOLDER, b"D": Kind.FOLDER, b"l": Kind.LINK}.get(found["kind"], Kind.OTHER)
    size = _number(found["size"]) if kind is Kind.FILE else 0
    if size is None:
        return None
    name, target = found["name"], None
    if kind is Kind.LINK and b" -> " in name:
        name, _, target = name.partition(b" -> ")
    return Entry(
        name=name,
        kind=kind,
        size=size,
        stamp=_list_time(found["when"], clock),
        permissions=_bits(found["mode"]),
        owner=_text(owner),
        group=_text(group),
        target=target,
    )


def _dos(line: bytes, clock: Clock) -> Entry | None:
    found = _DOS.match(line)
    if found is None:
        return None
    stamp = _list_time(found["when"], clock)
    mark, name, target = (found["mark"] or b"").upper(), found["name"], None
    kind = Kind.FILE
    if mark:
        kind = Kind.FOLDER if mark == b"<DIR>" else Kind.LINK
    if kind is Kind.LINK and name.endswith(b"]") and b" [" in name:
        name, _, target = name[:-1].rpartition(b" [")
    size = _number(re.sub(rb"[,.]", b"", found["size"] or b"0")) if kind is Kind.FILE else 0
    if size is None:
        return None
    return Entry(name=name, kind=kind, size=size, stamp=stamp, target=target)


def _has_month(when: bytes) -> bool:
    """True where a date names a month that is known: without one nobody can tell where the name begins."""
    return bool(re.match(rb"\d{2,4}-", when)) or any(word.lower().strip(b".") in _MONTHS for word in _when_words(when))


def _when_words(when: bytes) -> list[bytes]:
    spaced = re.sub(rb"(\xe6\x9c\x88)(?=\d)", rb"\1 ", when.strip())
    return re.split(rb"\s+", spaced)


def _list_time(text: bytes, clock: Clock) -> Stamp | None:
    """A time of LIST, from the server's wall clock to UTC, with its precision; None for one that cannot be."""
    iso = re.fullmatch(
        rb"(\d{4})-(\d{2})-(\d{2})(?:[ T]\s*(\d{1,2}):(\d{2})(?::(\d{2})(?:\.\d+)?)?(?:\s([+-])(\d{2})(\d{2}))?)?",
        text.strip(),
    )
    if iso is not None:
        return _iso_time(iso, clock)
    if re.match(rb"\d{2}-\d{2}-", text):
        return _dos_time(re.split(rb"[\s:]+", text.strip()), clock)
    short = re.fullmatch(rb"(\d{2})-(\d{2}) (\d{2}):(\d{2})", text.strip())
    if short is not None:
        month, day, hour, minute = (int(part) for part in short.groups())
        return _lately(clock, month, day, hour, minute)
    one, two, last = _when_words(text)
    month_word, day_word = (two, one) if one.strip(b".").isdigit() else (one, two)
    month, day = _MONTHS[month_word.lower().strip(b".")], int(day_word.strip(b"."))
    if last.isdigit():
        return _stamp(clock, (int(last), month, day), (0, 0, 0), _DAY_NS)
    hour, minute = (int(part) for part in re.split(rb"[:.]", last))
    return _lately(clock, month, day, hour, minute)


def _iso_time(found: re.Match[bytes], clock: Clock) -> Stamp | None:
    year, month, day = (int(part) for part in found.groups()[:3])
    if found[4] is None:
        return _stamp(clock, (year, month, day), (0, 0, 0), _DAY_NS)
    zone = clock
    if found[7] is not None:
        # It says its own zone: nothing has to be known of the server's.
        ahead = int(found[8]) * 3600 + int(found[9]) * 60
        zone = Clock(clock.now_s, -ahead if found[7] == b"-" else ahead)
    at = (int(found[4]), int(found[5]), int(found[6] or 0))
    return _stamp(zone, (year, month, day), at, NS if found[6] is not None else 0)


def _lately(clock: Clock, month: int, day: int, hour: int, minute: int) -> Stamp | None:
    """A listing leaves the year out for what is at most some months old: the latest such day that is not to come. A day of
    grace, as the clock there may be ahead of what we believe."""
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
    """Seconds since 1970 of a UTC time; None where there is no such day or hour, or it is further off than files are."""
    if not (
        _FIRST_YEAR <= year <= _LAST_YEAR
        and 1 <= month <= 12
        and 1 <= day <= _days_in(year, month)
        and hour < 24
        and minute < 60
    ):
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


def _number(text: bytes | None) -> int | None:
    """A size in bytes; None where it is none, or one that no file has."""
    if text is None or not text.isdigit() or len(text) > 19:
        return None
    number = int(text)
    return number if number <= _MOST_BYTES else None


def _octal(text: bytes | None) -> int | None:
    # Some servers write Python's `0o644`.
    return int(text.removeprefix(b"0o"), 8) & 0o7777 if text and re.fullmatch(rb"(0o)?[0-7]{1,12}", text) else None


def _text(text: bytes | None) -> str | None:
    return text.decode("utf-8", "replace") if text else None
