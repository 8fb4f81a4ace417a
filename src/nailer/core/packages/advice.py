"""Where a change of a package's file should live, so that the next version does not replace it."""

from __future__ import annotations

_STYLES = (b".css", b".scss", b".less")
_PROGRAMS = (b".php", b".phtml", b".js", b".mjs", b".py", b".pl", b".cgi", b".sh")
_SETTINGS = (b".json", b".ini", b".yml", b".yaml", b".toml", b".conf", b".xml")
_MEDIA = (b".png", b".jpg", b".jpeg", b".svg", b".webp", b".gif", b".woff2", b".mp4")


def where_to_change(name: bytes) -> str:
    """The place for a change like this one, in a sentence.

    >>> where_to_change(b"harbour.css")
    'To keep such a change, put it in a separate style sheet that pages load after this one.'
    """
    lower = name.lower()
    if lower.endswith(_STYLES):
        return "To keep such a change, put it in a separate style sheet that pages load after this one."
    if lower.endswith(_PROGRAMS):
        return "To keep such a change, put it in an add-on of your own, or in a copy of the package with another name."
    if lower.endswith(_SETTINGS):
        return "To keep such a change, put it in the site's settings, outside the package."
    if lower.endswith(_MEDIA):
        return "To keep such a file, put it in a folder outside the package."
    return "To keep such a change, put it in a file of your own outside the package."
