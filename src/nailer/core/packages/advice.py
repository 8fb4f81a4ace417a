"""Where a change of a package's file should live, so that the next version does not replace it."""

from __future__ import annotations

_STYLES = (b".css", b".scss", b".less")
_PROGRAMS = (b".php", b".phtml", b".js", b".mjs", b".py", b".pl", b".cgi", b".sh")
_SETTINGS = (b".json", b".ini", b".yml", b".yaml", b".toml", b".conf", b".xml")
_MEDIA = (b".png", b".jpg", b".jpeg", b".svg", b".webp", b".gif", b".woff2", b".mp4")


def where_to_change(name: bytes) -> str:
    """The place for a change like this one, in a sentence.

    >>> where_to_change(b"harbour.css")
    'Such a change lives longer in a style file of your own that pages load after this one.'
    """
    lower = name.lower()
    if lower.endswith(_STYLES):
        return "Such a change lives longer in a style file of your own that pages load after this one."
    if lower.endswith(_PROGRAMS):
        return "Such a change lives longer in an add-on of your own that the package calls, or in a copy under another name."
    if lower.endswith(_SETTINGS):
        return "Such a change lives longer in the site's own settings, outside the package."
    if lower.endswith(_MEDIA):
        return "Such a file lives longer in a folder of the site's own, outside the package."
    return "Such a change lives longer in a file of your own, outside the package."
