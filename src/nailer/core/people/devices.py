"""What a browser calls itself, in words that its person knows it by."""

from __future__ import annotations

import re

# The first that matches counts: a browser that is built on another names that one, too.
_BROWSERS = (("Edg", "Edge"), ("OPR", "Opera"), ("Firefox", "Firefox"), ("Chrome", "Chrome"), ("Safari", "Safari"))
_SYSTEMS = (
    ("Android", "Android"),
    ("iPhone", "iPhone"),
    ("iPad", "iPad"),
    ("Windows", "Windows"),
    ("Mac OS X", "macOS"),
    ("CrOS", "ChromeOS"),
    ("Linux", "Linux"),
)


def device_words(user_agent: str) -> str:
    """A User-Agent (RFC 9110, 10.1.5) as a browser and a system; its beginning where neither is known.

    >>> device_words("Mozilla/5.0 (X11; Linux x86_64; rv:140.0) Gecko/20100101 Firefox/140.0")
    'Firefox on Linux'
    >>> device_words("nightly-upload/2"), device_words("")
    ('nightly-upload/2', 'Unknown device')
    """
    browser = next((name for mark, name in _BROWSERS if re.search(rf"\b(?:Headless)?{mark}(?:iOS)?/", user_agent)), "")
    system = next((name for mark, name in _SYSTEMS if mark in user_agent), "")
    if browser and system:
        return f"{browser} on {system}"
    return browser or system or user_agent[:60] or "Unknown device"
