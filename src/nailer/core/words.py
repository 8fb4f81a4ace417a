"""Numbers and dates as people read them. Pages show the exact value when a person points at them."""

from __future__ import annotations

from datetime import UTC, datetime, tzinfo

from nailer.core.files.entry import NS, Stamp

_UNITS = ("kB", "MB", "GB", "TB", "PB")

_DAY_NS = 86_400 * NS


def size_text(size: int) -> str:
    """Bytes in decimal units with one digit after the point.

    >>> [size_text(n) for n in (0, 87, 8800, 999_949, 999_950, 48_300_000)]
    ['0 B', '87 B', '8.8 kB', '999.9 kB', '1.0 MB', '48.3 MB']
    """
    if size < 1000:
        return f"{size} B"
    value = float(size)
    for unit in _UNITS:
        value /= 1000
        if value < 999.95 or unit == _UNITS[-1]:
            return f"{value:.1f} {unit}"
    raise AssertionError("the last unit always returns")


def exact_size(size: int) -> str:
    """The size to the byte, with thin groups.

    >>> exact_size(48300012)
    '48 300 012 bytes'
    """
    return f"{size:,}".replace(",", " ") + (" byte" if size == 1 else " bytes")


def number_text(number: int) -> str:
    """A number that is read at a glance.

    >>> number_text(50128)
    '50 128'
    """
    return f"{number:,}".replace(",", " ")


def label_text(words: str) -> str:
    """Words that stand by themselves, e.g. beside a box to tick: with a capital letter, all else as it is.

    >>> label_text("view files"), label_text("FTP"), label_text("")
    ('View files', 'FTP', '')
    """
    return words[:1].upper() + words[1:]


def count_text(count: int, one: str, many: str | None = None) -> str:
    """A count with its noun.

    >>> count_text(1, "file"), count_text(12, "file"), count_text(2, "copy", "copies")
    ('1 file', '12 files', '2 copies')
    """
    return number_text(count) + " " + (one if count == 1 else many or one + "s")


def era_text(moment: datetime, now: datetime, zone: tzinfo) -> str:
    """The heading under which something of the past is looked for: `Today`, `This week`, `November`, `2025`.

    >>> from datetime import timedelta
    >>> now = datetime(2026, 5, 7, 12, tzinfo=UTC)
    >>> [era_text(now - timedelta(days=days), now, UTC) for days in (0, 2, 20, 200)]
    ['Today', 'This week', 'April', '2025']
    """
    day, today = aware(moment).astimezone(zone).date(), now.astimezone(zone).date()
    if day >= today:
        return "Today"
    if day.isocalendar()[:2] == today.isocalendar()[:2]:
        return "This week"
    return f"{day:%B}" if day.year == today.year else str(day.year)


def when_text(at: datetime, now: datetime, zone: tzinfo = UTC) -> str:
    """A moment as short as it can be told apart: `today 10:42`, `yesterday 09:15`, `12 Nov 16:03`, `9 Jan 2025`."""
    local, today = at.astimezone(zone), now.astimezone(zone)
    days = (today.date() - local.date()).days
    clock = local.strftime("%H:%M")
    if days == 0:
        return f"today {clock}"
    if days == 1:
        return f"yesterday {clock}"
    if local.year == today.year or 0 <= days < 180:
        return f"{local.day} {local:%b} {clock}"
    return f"{local.day} {local:%b} {local.year}"


def stamp_text(stamp: Stamp | None, now: datetime, zone: tzinfo = UTC) -> str:
    """A file's time as short text; empty where the side gave none. Of a time that is known to the day only the day is said.

    >>> stamp_text(Stamp(1_700_006_400 * NS, 86_400 * NS), datetime(2023, 11, 15, 12, tzinfo=UTC))
    '15 Nov 2023'
    """
    if stamp is None:
        return ""
    if stamp.precision_ns >= _DAY_NS:
        day = moment(stamp)  # a day is the server's: no zone moves it
        return f"{day.day} {day:%b} {day.year}"
    return when_text(moment(stamp), now, zone)


def exact_stamp(stamp: Stamp | None) -> str:
    """The time in full, in UTC, as precise as it is known."""
    if stamp is None:
        return "no time given"
    text = moment(stamp).strftime("%Y-%m-%d %H:%M:%S")
    if stamp.precision_ns >= _DAY_NS:
        return text[:10] + ", known to the day"
    if stamp.precision_ns >= 60_000_000_000:
        text = text[:-3]
    elif stamp.precision_ns < 1_000_000_000:
        text += f".{stamp.at_ns % 1_000_000_000:09d}".rstrip("0").rstrip(".")
    return text + " UTC"


def moment(stamp: Stamp) -> datetime:
    """A stamp as a datetime, held inside what a datetime can say: servers send absurd times."""
    bounded = min(max(stamp.at_s, -62_135_596_800.0), 253_402_300_799.0)
    return datetime.fromtimestamp(bounded, UTC)


def span_text(seconds: float) -> str:
    """A length of time for a person who waits.

    >>> [span_text(s) for s in (0.4, 6, 75, 3700, 200_000)]
    ['1 s', '6 s', '1 min 15 s', '1 h 1 min', '2 days']
    """
    whole = max(1, round(seconds))
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    if whole < 172_800:
        return f"{whole // 3600} h {whole % 3600 // 60} min"
    return f"{whole // 86_400} days"


def aware(moment: datetime) -> datetime:
    """A moment with its zone said: what the store gives is UTC and says none."""
    return moment if moment.tzinfo is not None else moment.replace(tzinfo=UTC)
