"""The small templates a new file may begin with."""

from __future__ import annotations

_PAGE = """<!doctype html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{title}</title>
</head>
<body>
<h1>{title}</h1>
</body>
</html>
"""
_STYLE = """body {
  margin: 0 auto;
  max-width: 60rem;
  font: 1rem/1.5 system-ui, sans-serif;
}
"""
_SCRIPT = """#!/bin/sh
echo "Content-Type: text/plain"
echo
date
"""


def new_text(name: str, template: str) -> str:
    """The text a new file begins with: `page`, `style`, `script`, or nothing.

    >>> new_text("winter-fares.html", "page").splitlines()[5]
    '<title>Winter fares</title>'
    """
    if template == "page":
        words = name.rpartition(".")[0].replace("-", " ").replace("_", " ").strip() or name
        title = (words[:1].upper() + words[1:]).replace("&", "&amp;").replace("<", "&lt;")
        return _PAGE.format(title=title)
    return {"style": _STYLE, "script": _SCRIPT}.get(template, "")
