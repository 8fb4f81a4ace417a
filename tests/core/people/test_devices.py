"""Devices of sessions are said by browser and system, and never longer than a line."""

from __future__ import annotations

import pytest

from nailer.core.people.devices import device_words

BASE = "Mozilla/5.0 (%s) AppleWebKit/537.36 (KHTML, like Gecko) "


@pytest.mark.parametrize(
    ("agent", "words"),
    [
        (BASE % "Windows NT 10.0; Win64; x64" + "Chrome/143.0.0.0 Safari/537.36", "Chrome on Windows"),
        (BASE % "X11; Linux x86_64" + "HeadlessChrome/143.0.0.0 Safari/537.36", "Chrome on Linux"),
        (BASE % "Windows NT 10.0; Win64; x64" + "Chrome/143.0.0.0 Safari/537.36 Edg/143.0.0.0", "Edge on Windows"),
        (BASE % "Linux; Android 16" + "Chrome/143.0.0.0 Mobile Safari/537.36", "Chrome on Android"),
        (BASE % "iPhone; CPU iPhone OS 19_0 like Mac OS X" + "Version/19.0 Mobile Safari/604.1", "Safari on iPhone"),
        (BASE % "Macintosh; Intel Mac OS X 10_15_7" + "Version/19.0 Safari/605.1.15", "Safari on macOS"),
        ("Mozilla/5.0 (Android 16; Mobile; rv:140.0) Gecko/140.0 Firefox/140.0", "Firefox on Android"),
        ("curl/8.14", "curl/8.14"),
        ("x" * 500, "x" * 60),
    ],
)
def test_a_browser_is_said_by_name_and_system(agent: str, words: str) -> None:
    assert device_words(agent) == words
