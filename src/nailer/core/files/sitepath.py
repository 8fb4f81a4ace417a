"""Paths on either side, bytes-safe; how they are shown, how they travel in addresses, and their place on the web.

A path is absolute within its side: `/` is the root of the account there, and the list of allowed roots here. Names are
bytes, because servers hold names that are no text. Two other forms exist: the *token* (percent-encoded ASCII, for
addresses, forms and scripts; loses nothing) and the *shown* form (for reading; may lose the difference between two
strange names).
"""

from __future__ import annotations

import unicodedata
from collections.abc import Sequence
from dataclasses import dataclass
from urllib.parse import quote_from_bytes, unquote_to_bytes, urlsplit

from nailer.errors import InvalidInput

_SAFE_IN_TOKEN = "/~"  # with quote's own: letters, digits, _ . -
_MAX_NAME_BYTES = 255


@dataclass(frozen=True, slots=True, order=True)
class SitePath:
    """An absolute path: its names from the root down. The root is the empty tuple.

    >>> str(SitePath.parse(b"/htdocs//skins/./harbour/"))
    '/htdocs/skins/harbour'
    >>> SitePath.parse(b"/a/../b")
    Traceback (most recent call last):
    ...
    nailer.errors.InvalidInput: A path may not contain '..'.
    """

    names: tuple[bytes, ...] = ()

    @classmethod
    def parse(cls, raw: bytes) -> SitePath:
        """A path from its bytes. Doubled slashes and single dots vanish. Raises InvalidInput on `..` and NUL."""
        names = tuple(name for name in raw.split(b"/") if name not in (b"", b"."))
        if b".." in names:
            raise InvalidInput("A path may not contain '..'.")
        if b"\0" in raw:
            raise InvalidInput("A path may not contain a NUL character.")
        return cls(names)

    @classmethod
    def of_token(cls, token: str) -> SitePath:
        """The path that a token stands for. Raises InvalidInput as `parse`."""
        return cls.parse(bytes_of_token(token))

    @property
    def raw(self) -> bytes:
        """The path as servers take it: names joined by slashes, one before the first."""
        return b"/" + b"/".join(self.names)

    @property
    def token(self) -> str:
        """The path for an address: percent-encoded, so that every byte survives (RFC 3986)."""
        return quote_from_bytes(self.raw, safe=_SAFE_IN_TOKEN)

    @property
    def shown(self) -> str:
        """The path as people read it: bytes that are no UTF-8 and control characters are made visible."""
        return "/" + "/".join(shown_name(name) for name in self.names)

    @property
    def name(self) -> bytes:
        """The last name; empty for the root."""
        return self.names[-1] if self.names else b""

    @property
    def parent(self) -> SitePath:
        """The folder above; the root's is the root."""
        return SitePath(self.names[:-1])

    @property
    def is_root(self) -> bool:
        """True for the top of a side."""
        return not self.names

    def child(self, name: bytes) -> SitePath:
        """The path of a name in this folder. Raises InvalidInput where the name holds a slash or is empty."""
        return SitePath((*self.names, checked_name(name)))

    def join(self, below: tuple[bytes, ...]) -> SitePath:
        """The path of names below this folder."""
        return SitePath((*self.names, *below))

    def below(self, above: SitePath) -> tuple[bytes, ...] | None:
        """The names from `above` down to this path, or None where it does not lie under it.

        >>> SitePath((b"a", b"b")).below(SitePath((b"a",)))
        (b'b',)
        """
        count = len(above.names)
        return self.names[count:] if self.names[:count] == above.names else None

    def ancestors(self) -> list[SitePath]:
        """The root, then each folder down to this path itself."""
        return [SitePath(self.names[:count]) for count in range(len(self.names) + 1)]

    def __str__(self) -> str:
        return self.shown


def common_folder(folders: Sequence[SitePath]) -> SitePath:
    """The deepest folder that all of these are, or lie in.

    >>> str(common_folder([SitePath.parse(b"/a/b/c"), SitePath.parse(b"/a/b")]))
    '/a/b'
    """
    names = []
    for level in zip(*(folder.names for folder in folders), strict=False):
        if len(set(level)) > 1:
            break
        names.append(level[0])
    return SitePath(tuple(names))


def checked_name(name: bytes) -> bytes:
    """`name` where it can be a single name in a folder. Raises InvalidInput with the reason where it cannot."""
    if name in (b"", b".", b".."):
        raise InvalidInput("A name may not be empty, '.' or '..'.")
    if b"/" in name or b"\0" in name:
        raise InvalidInput("A name may not contain a slash or a NUL character.")
    if len(name) > _MAX_NAME_BYTES:
        raise InvalidInput(f"A name may not be longer than {_MAX_NAME_BYTES} bytes.")
    return name


def name_token(name: bytes) -> str:
    """A single name as percent-encoded ASCII, slashes included.

    >>> name_token(b"caf\\xe9 menu.html")
    'caf%E9%20menu.html'
    """
    return quote_from_bytes(name, safe="~")


def bytes_of_token(token: str) -> bytes:
    """The bytes behind a token. What is no character of its own there stands for the byte that it came as (PEP 383)."""
    try:
        return unquote_to_bytes(token.encode("utf-8", "surrogateescape"))
    except UnicodeEncodeError as error:
        raise InvalidInput("The path contains an incomplete UTF-8 character.") from error


def name_of_token(token: str) -> bytes:
    """The name behind a token. Raises InvalidInput where it cannot be a name."""
    return checked_name(bytes_of_token(token))


# Direction marks and zero-width characters can make one name look like another.
_HIDDEN = {*range(0x200B, 0x2010), *range(0x202A, 0x202F), *range(0x2060, 0x2070), 0xFEFF, 0xAD, 0x2028, 0x2029}


def shown_name(name: bytes) -> str:
    """A name for reading: control characters as their pictures, bytes that are no UTF-8 and hidden characters as ‹hex›.

    >>> shown_name(b"two\\nlines"), shown_name(b"caf\\xe9"), shown_name("Skerry – fares.html".encode())
    ('two␊lines', 'caf‹E9›', 'Skerry – fares.html')
    """
    if name.isascii() and (text := name.decode("ascii")).isprintable():
        return text
    return "".join(_shown_character(one) for one in name.decode("utf-8", "surrogateescape"))


def spelled(name: bytes) -> str:
    """A name without what many systems do not tell apart: capitals, and how letters are composed.

    >>> spelled(b"Pier.HTML") == spelled(b"pier.html")
    True
    """
    return unicodedata.normalize("NFC", name.decode("utf-8", "surrogateescape")).casefold()


def _shown_character(one: str) -> str:
    code = ord(one)
    if code < 0x20:
        return chr(0x2400 + code)
    if code == 0x7F:
        return "␡"
    if 0xDC80 <= code <= 0xDCFF:
        return f"‹{code - 0xDC00:02X}›"
    if code in _HIDDEN or 0x80 <= code < 0xA0:
        return f"‹{code:04X}›"
    return one


def is_strange(name: bytes) -> bool:
    """True where the shown form differs from what is stored, so that a page can point it out."""
    return shown_name(name).encode("utf-8", "surrogateescape") != name


def is_hidden(name: bytes) -> bool:
    """True for names that begin with a dot, which listings leave out by custom."""
    return name.startswith(b".")


def pair_root(here: SitePath, there: SitePath) -> tuple[SitePath, SitePath]:
    """The highest two folders that are still the same place on both sides: equal names at the end are taken off.

    >>> pair_root(SitePath.parse(b"/studio/skerry/htdocs"), SitePath.parse(b"/htdocs"))
    (SitePath(names=(b'studio', b'skerry')), SitePath(names=()))
    """
    common = 0
    for one, other in zip(reversed(here.names), reversed(there.names), strict=False):
        if one != other:
            break
        common += 1
    return SitePath(here.names[: len(here.names) - common]), SitePath(there.names[: len(there.names) - common])


@dataclass(frozen=True, slots=True)
class DocumentRoot:
    """A folder there and the web address it answers at, e.g. `/htdocs` and `https://skerryferries.example/`."""

    folder: SitePath
    address: str


def address_of(path: SitePath, roots: tuple[DocumentRoot, ...], *, is_folder: bool = False) -> str | None:
    """The public address of a path (RFC 3986, percent-encoded); None where it lies outside every document root.

    The deepest document root wins.

    >>> roots = (DocumentRoot(SitePath.parse(b"/htdocs"), "https://skerryferries.example/"),)
    >>> address_of(SitePath.parse("/htdocs/über uns.html".encode()), roots)
    'https://skerryferries.example/%C3%BCber%20uns.html'
    """
    best: tuple[int, str] | None = None
    for root in roots:
        below = path.below(root.folder)
        if below is not None and (best is None or len(root.folder.names) > best[0]):
            tail = "/".join(quote_from_bytes(name, safe="~!$&'()*+,;=:@") for name in below)
            slash = "/" if is_folder and tail else ""
            best = (len(root.folder.names), root.address.rstrip("/") + "/" + tail + slash)
    return best[1] if best else None


def path_of(address: str, roots: tuple[DocumentRoot, ...]) -> SitePath | None:
    """The path that a public address serves, the reverse of `address_of`; None where no document root matches."""
    asked = urlsplit(address)
    best: tuple[int, SitePath] | None = None
    for root in roots:
        own = urlsplit(root.address)
        base = own.path.rstrip("/")
        inside = asked.path == base or asked.path.startswith(base + "/")
        if asked.netloc.lower() == own.netloc.lower() and inside and (best is None or len(base) > best[0]):
            tail = unquote_to_bytes(asked.path[len(base) :])
            best = (len(base), root.folder.join(SitePath.parse(tail).names))
    return best[1] if best else None


def without_scheme(address: str) -> str:
    """An address as it is read aloud: `skerryferries.example/fares.html`."""
    return address.split("://", 1)[-1]
