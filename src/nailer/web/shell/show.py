"""What templates see: finished values, made from the core's. Sizes and dates short for reading, exact on hover."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, tzinfo

from nailer.core.compare.joint import JOINT_WORDS, Joint
from nailer.core.compare.ledger import Inside, LedgerRow, ending_of
from nailer.core.files import permissions as permission_rules
from nailer.core.files.entry import Entry, Kind
from nailer.core.files.sitepath import is_strange, name_token, shown_name
from nailer.core.words import count_text, exact_size, exact_stamp, size_text, stamp_text
from nailer.services.plans import Change

_ICONS = {
    "html": "filetype-html",
    "htm": "filetype-html",
    "css": "filetype-css",
    "js": "filetype-js",
    "json": "filetype-json",
    "php": "filetype-php",
    "py": "filetype-py",
    "svg": "filetype-svg",
    "xml": "filetype-xml",
    "md": "filetype-md",
    "txt": "file-earmark-text",
    "zip": "file-earmark-zip",
    "gz": "file-earmark-zip",
    "pdf": "file-earmark-pdf",
    "png": "file-earmark-image",
    "jpg": "file-earmark-image",
    "jpeg": "file-earmark-image",
    "webp": "file-earmark-image",
    "gif": "file-earmark-image",
    "cgi": "file-earmark-code",
    "pl": "file-earmark-code",
    "sh": "file-earmark-code",
    "woff2": "file-earmark-font",
}


@dataclass(frozen=True, slots=True)
class ShownSide:
    """One side's cell of a row. Empty texts where the side does not have the name."""

    size: str = ""
    exact_size: str = ""
    time: str = ""
    exact_time: str = ""


@dataclass(frozen=True, slots=True)
class ShownLedgerRow:
    token: str
    name: str
    href: str
    strange: bool
    icon: str
    is_folder: bool
    opens: bool
    link: str
    here: ShownSide
    there: ShownSide
    joint: Joint
    joint_word: str
    reason: str
    octal: str
    rwx: str
    trouble: str
    owner: str
    held: str
    kept: str
    held_inside: str
    kind: str
    back: int
    in_tray: bool
    package: str


def shown_row(
    row: LedgerRow,
    now: datetime,
    zone: tzinfo,
    href: str = "",
    lately: Change | None = None,
    *,
    in_tray: bool = False,
    package: str = "",
) -> ShownLedgerRow:
    """A row of the ledger as the template prints it; `href` opens it, where it opens as a folder. `lately` is a change of it
    that can be taken back, `package` the version that it declares."""
    entry = row.entry
    standing = row.standing
    word = JOINT_WORDS[standing.joint] + (", guessed" if standing.guess and standing.differs else "")
    permissions = entry.permissions if entry.kind is not Kind.LINK else None
    return ShownLedgerRow(
        token=name_token(row.name),
        name=shown_name(row.name),
        href=href,
        strange=is_strange(row.name),
        icon=icon(entry),
        is_folder=row.is_folder,
        opens=row.opens_as_folder,
        link=shown_name(entry.target) if entry.target is not None else "",
        here=shown_side(row.here, row.inside_here, now, zone),
        there=shown_side(row.there, row.inside_there, now, zone),
        joint=standing.joint,
        joint_word=word,
        reason=standing.reason,
        octal=permission_rules.octal(permissions) if permissions is not None else "",
        rwx=permission_rules.rwx(permissions) if permissions is not None else "",
        trouble=permission_rules.trouble(entry) or "",
        owner=entry.owner or "",
        held=row.held,
        kept=row.kept,
        held_inside=_held_inside(row),
        kind=kind_word(entry),
        back=lately.id if lately is not None else 0,
        in_tray=in_tray,
        package=package,
    )


def _held_inside(row: LedgerRow) -> str:
    """`2 here stay behind`: what sieves hold back in a folder, so that its counts are those of what is compared."""
    parts = [
        f"{inside.held} {side}"
        for inside, side in ((row.inside_here, "here"), (row.inside_there, "there"))
        if inside is not None and inside.held
    ]
    return " and ".join(parts)


def kind_word(entry: Entry) -> str:
    """A name's kind for reading: `folder`, `link`, or a file's ending."""
    if entry.is_folder:
        return "folder"
    if entry.kind is Kind.LINK:
        return "link"
    return ending_of(entry.name).upper() if entry.is_file else "special"


def shown_side(entry: Entry | None, inside: Inside | None, now: datetime, zone: tzinfo) -> ShownSide:
    """One side of a row as the page shows it."""
    if entry is None:
        return ShownSide()
    if entry.is_folder:
        text = inside_text(inside) if inside else "folder"
        return ShownSide(size=text, exact_time=exact_stamp(entry.stamp))
    if not entry.is_file:
        return ShownSide(size=entry.kind.value)
    return ShownSide(
        size_text(entry.size), exact_size(entry.size), stamp_text(entry.stamp, now, zone), exact_stamp(entry.stamp)
    )


def inside_text(inside: Inside) -> str:
    """`31 files`, `1 folder`, `2 folders, 3 files`, `empty`; only the count of names where there are very many."""
    if inside.files + inside.folders > 999:
        return f"{inside.files + inside.folders:,}".replace(",", " ")
    parts = []
    if inside.folders:
        parts.append(count_text(inside.folders, "folder"))
    if inside.files:
        parts.append(count_text(inside.files, "file"))
    return ", ".join(parts) or "empty"


def icon(entry: Entry) -> str:
    """The name of the icon that stands before a name."""
    if entry.kind is Kind.FOLDER:
        return "folder-fill"
    if entry.kind is Kind.LINK:
        return "link-45deg"
    if entry.kind is Kind.OTHER:
        return "question-square"
    ending = entry.name.rpartition(b".")[2].decode("ascii", "ignore").lower()
    return _ICONS.get(ending, "file-earmark")
