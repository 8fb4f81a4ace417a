"""What kind of thing a file is, by its name's ending and, where that says nothing, by its first bytes."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from functools import lru_cache

HEAD_BYTES = 64
_REMEMBERED = 4096  # a name is asked for by one condition after another, a folder's by every file in it


class FileKind(StrEnum):
    """Kinds that people mean when they say what is to stay behind."""

    PAGE = "page"
    STYLE = "style"
    SCRIPT = "script"
    PICTURE = "picture"
    LAYERED = "layered"
    FONT = "font"
    SOUND = "sound"
    DOCUMENT = "document"
    DATA = "data"
    ARCHIVE = "archive"
    DATABASE = "database"
    SECRET = "secret"
    VERSIONS = "versions"
    LITTER = "litter"
    OLD = "old"
    LOG = "log"


@dataclass(frozen=True, slots=True)
class _Sort:
    """What a kind is called, and the names of files and of whole folders that are of it, as expressions."""

    word: str
    names: bytes
    folders: bytes | None = None


# The first that fits counts: an old copy of a page is an old copy.
_SORTS = {
    FileKind.OLD: _Sort("old copy", rb".+(~|\.(bak|old|orig|save|swp|tmp|part))"),
    FileKind.SECRET: _Sort(
        "key or environment file",
        rb"\.env(\..+)?|.+\.(pem|key|ppk|p12|pfx)|id_(rsa|dsa|ecdsa|ed25519)|\.htpasswd",
    ),
    FileKind.VERSIONS: _Sort(
        "version-control folder", rb"\.(git(ignore|attributes|modules|keep)|hgignore)", rb"\.(git|hg|svn|bzr)|CVS"
    ),
    FileKind.LITTER: _Sort(
        "system and editor leftovers",
        rb"thumbs\.db|\.ds_store|desktop\.ini|\._.+|\.nfs[0-9a-f]+|.+\.lnk|\.directory",
        rb"__macosx|\.idea|\.vscode|node_modules|__pycache__|\.trash.*",
    ),
    FileKind.DATABASE: _Sort("database or its dump", rb".+\.(sql|sql\.(gz|xz|zst)|sqlite3?|db|dump|mdb)"),
    FileKind.LOG: _Sort("log", rb".+\.log(\.\d+)?(\.(gz|xz|zst))?|error_log|access_log"),
    FileKind.LAYERED: _Sort(
        "layered image or layout",
        rb".+\.(psd|psb|ai|indd|idml|xcf|kra|sketch|afdesign|afphoto|afpub|blend|raw|cr2|cr3|nef|arw|dng|cdr)",
    ),
    FileKind.PICTURE: _Sort("picture", rb".+\.(jpe?g|png|gif|webp|avif|svg|ico|bmp|tiff?|heic)"),
    FileKind.PAGE: _Sort("page", rb".+\.(x?html?|shtml|php\d?|phtml|asp|aspx|jsp|tpl)"),
    FileKind.STYLE: _Sort("style", rb".+\.(css|scss|sass|less)"),
    FileKind.SCRIPT: _Sort("script", rb".+\.(m?js|cjs|ts|py|pl|cgi|sh|rb|lua)"),
    FileKind.FONT: _Sort("font", rb".+\.(woff2?|ttf|otf|eot)"),
    FileKind.SOUND: _Sort("audio or video", rb".+\.(mp3|m4a|ogg|oga|opus|wav|flac|mp4|m4v|webm|mov|avi|mkv)"),
    FileKind.DOCUMENT: _Sort("document", rb".+\.(pdf|docx?|odt|rtf|xlsx?|ods|pptx?|odp|epub|txt|md)"),
    FileKind.DATA: _Sort("data", rb".+\.(json|xml|ya?ml|csv|tsv|ini|toml|geojson|rss|webmanifest)"),
    FileKind.ARCHIVE: _Sort("archive", rb".+\.(zip|tar|tgz|tar\.(gz|xz|zst|bz2)|gz|xz|zst|bz2|7z|rar)"),
}


def _one_of(expressions: Mapping[FileKind, bytes | None]) -> re.Pattern[bytes]:
    """One expression for all kinds: a group for each, named by it. Names by the ten thousand are asked for."""
    groups = [b"(?P<%s>%s)" % (kind.value.encode(), one) for kind, one in expressions.items() if one is not None]
    return re.compile(b"|".join(groups), re.I)


_OF_FILES = _one_of({kind: sort.names for kind, sort in _SORTS.items()})
_OF_FOLDERS = _one_of({kind: sort.folders for kind, sort in _SORTS.items()})
KIND_WORDS = {kind: sort.word for kind, sort in _SORTS.items()}

# First bytes, as the formats' own descriptions give them.
_SIGNATURES = (
    (b"8BPS", FileKind.LAYERED),
    (b"gimp xcf", FileKind.LAYERED),
    (b"BLENDER", FileKind.LAYERED),
    (b"\x89PNG\r\n\x1a\n", FileKind.PICTURE),
    (b"\xff\xd8\xff", FileKind.PICTURE),
    (b"GIF8", FileKind.PICTURE),
    (b"II*\0", FileKind.PICTURE),
    (b"MM\0*", FileKind.PICTURE),
    (b"%PDF-", FileKind.DOCUMENT),
    (b"PK\x03\x04", FileKind.ARCHIVE),
    (b"\x1f\x8b", FileKind.ARCHIVE),
    (b"\xfd7zXZ\0", FileKind.ARCHIVE),
    (b"\x28\xb5\x2f\xfd", FileKind.ARCHIVE),
    (b"7z\xbc\xaf\x27\x1c", FileKind.ARCHIVE),
    (b"Rar!", FileKind.ARCHIVE),
    (b"BZh", FileKind.ARCHIVE),
    (b"SQLite format 3\0", FileKind.DATABASE),
    (b"-----BEGIN ", FileKind.SECRET),
    (b"OggS", FileKind.SOUND),
    (b"ID3", FileKind.SOUND),
    (b"fLaC", FileKind.SOUND),
    (b"wOF2", FileKind.FONT),
    (b"wOFF", FileKind.FONT),
    (b"#!", FileKind.SCRIPT),
    (b"<!doctype html", FileKind.PAGE),
    (b"<html", FileKind.PAGE),
)


def _kind(found: re.Match[bytes] | None) -> FileKind | None:
    return FileKind(found.lastgroup) if found is not None and found.lastgroup else None


@lru_cache(_REMEMBERED)
def kind_by_name(name: bytes) -> FileKind | None:
    """A file's kind by its name; None where that says nothing.

    >>> kind_by_name(b"Winter.PSD"), kind_by_name(b"index.html.bak"), kind_by_name(b"README")
    (<FileKind.LAYERED: 'layered'>, <FileKind.OLD: 'old'>, None)
    """
    return _kind(_OF_FILES.fullmatch(name))


def kind_by_head(head: bytes) -> FileKind | None:
    """A file's kind by its first bytes; None where they say nothing.

    >>> kind_by_head(b"8BPS and so on"), kind_by_head(b"Dear Maren,")
    (<FileKind.LAYERED: 'layered'>, None)
    """
    start = head[:HEAD_BYTES].lstrip(b"\xef\xbb\xbf \t\r\n")
    if start[:4] == b"RIFF":
        return FileKind.PICTURE if start[8:12] == b"WEBP" else FileKind.SOUND
    if start[4:8] == b"ftyp":
        return FileKind.SOUND
    return next((kind for mark, kind in _SIGNATURES if start.lower().startswith(mark.lower())), None)


@lru_cache(_REMEMBERED)
def kind_of_folder(name: bytes) -> FileKind | None:
    """The kind of a folder that is one thing as a whole.

    >>> kind_of_folder(b".git"), kind_of_folder(b"img")
    (<FileKind.VERSIONS: 'versions'>, None)
    """
    return _kind(_OF_FOLDERS.fullmatch(name))
