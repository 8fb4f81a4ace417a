"""What kind of thing a file is, by its name's ending and, where that says nothing, by its first bytes."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum

HEAD_BYTES = 64


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
    word: str
    names: re.Pattern[bytes]
    folders: re.Pattern[bytes] | None = None


def _sort(word: str, names: bytes, folders: bytes | None = None) -> _Sort:
    return _Sort(word, re.compile(names, re.I), re.compile(folders, re.I) if folders else None)


# The first that fits counts: an old copy of a page is an old copy.
_SORTS = {
    FileKind.OLD: _sort("old copy", rb".+(~|\.(bak|old|orig|save|swp|tmp|part))"),
    FileKind.SECRET: _sort(
        "key or environment file",
        rb"\.env(\..+)?|.+\.(pem|key|ppk|p12|pfx)|id_(rsa|dsa|ecdsa|ed25519)|\.htpasswd",
    ),
    FileKind.VERSIONS: _sort(
        "version-control folder", rb"\.(git(ignore|attributes|modules|keep)|hgignore)", rb"\.(git|hg|svn|bzr)|CVS"
    ),
    FileKind.LITTER: _sort(
        "litter of systems and editors",
        rb"thumbs\.db|\.ds_store|desktop\.ini|\._.+|\.nfs[0-9a-f]+|.+\.lnk|\.directory",
        rb"__macosx|\.idea|\.vscode|node_modules|__pycache__|\.trash.*",
    ),
    FileKind.DATABASE: _sort("database or its dump", rb".+\.(sql|sql\.(gz|xz|zst)|sqlite3?|db|dump|mdb)"),
    FileKind.LOG: _sort("log", rb".+\.log(\.\d+)?(\.(gz|xz|zst))?|error_log|access_log"),
    FileKind.LAYERED: _sort(
        "layered picture or layout",
        rb".+\.(psd|psb|ai|indd|idml|xcf|kra|sketch|afdesign|afphoto|afpub|blend|raw|cr2|cr3|nef|arw|dng|cdr)",
    ),
    FileKind.PICTURE: _sort("picture", rb".+\.(jpe?g|png|gif|webp|avif|svg|ico|bmp|tiff?|heic)"),
    FileKind.PAGE: _sort("page", rb".+\.(x?html?|shtml|php\d?|phtml|asp|aspx|jsp|tpl)"),
    FileKind.STYLE: _sort("style", rb".+\.(css|scss|sass|less)"),
    FileKind.SCRIPT: _sort("script", rb".+\.(m?js|cjs|ts|py|pl|cgi|sh|rb|lua)"),
    FileKind.FONT: _sort("font", rb".+\.(woff2?|ttf|otf|eot)"),
    FileKind.SOUND: _sort("sound or film", rb".+\.(mp3|m4a|ogg|oga|opus|wav|flac|mp4|m4v|webm|mov|avi|mkv)"),
    FileKind.DOCUMENT: _sort("document", rb".+\.(pdf|docx?|odt|rtf|xlsx?|ods|pptx?|odp|epub|txt|md)"),
    FileKind.DATA: _sort("data", rb".+\.(json|xml|ya?ml|csv|tsv|ini|toml|geojson|rss|webmanifest)"),
    FileKind.ARCHIVE: _sort("archive", rb".+\.(zip|tar|tgz|tar\.(gz|xz|zst|bz2)|gz|xz|zst|bz2|7z|rar)"),
}
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


def kind_by_name(name: bytes) -> FileKind | None:
    """A file's kind by its name; None where that says nothing.

    >>> kind_by_name(b"Winter.PSD"), kind_by_name(b"index.html.bak"), kind_by_name(b"README")
    (<FileKind.LAYERED: 'layered'>, <FileKind.OLD: 'old'>, None)
    """
    return next((kind for kind, sort in _SORTS.items() if sort.names.fullmatch(name)), None)


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


def kind_of_folder(name: bytes) -> FileKind | None:
    """The kind of a folder that is one thing as a whole.

    >>> kind_of_folder(b".git"), kind_of_folder(b"img")
    (<FileKind.VERSIONS: 'versions'>, None)
    """
    return next((kind for kind, sort in _SORTS.items() if sort.folders and sort.folders.fullmatch(name)), None)
