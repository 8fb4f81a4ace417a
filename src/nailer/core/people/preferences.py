"""How Nailer looks and works for one person: what they chose, and what is usual where they chose nothing."""

from __future__ import annotations

import json
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field, fields, replace
from enum import StrEnum
from typing import Any
from zoneinfo import ZoneInfo

from nailer.core.zones import zone_named
from nailer.errors import InvalidInput


class FirstPage(StrEnum):
    """What opens after signing in."""

    SITES = "sites"
    LAST = "last"
    JOBS = "jobs"


class Density(StrEnum):
    ROOMY = "roomy"
    CLOSE = "close"


class DoubleClick(StrEnum):
    """What a double click on a file does; a folder opens."""

    LOOK = "look"
    EDIT = "edit"
    NOTHING = "nothing"


class Theme(StrEnum):
    DEVICE = "device"
    LIGHT = "light"
    DARK = "dark"


class Column(StrEnum):
    """Columns of the ledger that may be left out; name, sizes and joint never are."""

    TIMES = "times"
    KIND = "kind"
    PERMISSIONS = "permissions"


class Act(StrEnum):
    """What a key of the files view does, in the order in which keys are listed."""

    UPLOAD = "upload"
    DOWNLOAD = "download"
    COPY = "copy"
    EDIT = "edit"
    LOOK = "look"
    TRAY = "tray-put"
    RENAME = "rename"
    NEW_FOLDER = "new-folder"
    NEW_FILE = "new-file"
    REMOVE = "remove"
    FILTER = "filter"


ACT_WORDS = {
    Act.UPLOAD: "upload",
    Act.DOWNLOAD: "download",
    Act.COPY: "copy or move",
    Act.EDIT: "edit",
    Act.LOOK: "preview",
    Act.TRAY: "add to tray",
    Act.RENAME: "rename",
    Act.NEW_FOLDER: "new folder",
    Act.NEW_FILE: "new file",
    Act.REMOVE: "remove",
    Act.FILTER: "filter",
}
USUAL_KEYS = {
    Act.UPLOAD: "u",
    Act.DOWNLOAD: "d",
    Act.COPY: "c",
    Act.EDIT: "e",
    Act.LOOK: "v",
    Act.TRAY: "t",
    Act.RENAME: "r",
    Act.NEW_FOLDER: "n",
    Act.NEW_FILE: "N",
    Act.REMOVE: "Delete",
    Act.FILTER: "/",
}
_NAMED_KEYS = ("Delete", "Insert", *(f"F{number}" for number in (2, 4, 7, 8, 9)))
_LEAST_TEXT_PX, _MOST_TEXT_PX = 11, 24


@dataclass(frozen=True, slots=True)
class Preferences:
    """What a person chose. `zone` '' is this Nailer's own; `text_px` and `wraps` are how the editor shows text; `keys` are
    those that differ from the usual."""

    first_page: FirstPage = FirstPage.SITES
    density: Density = Density.ROOMY
    columns: frozenset[Column] = frozenset(Column)
    zone: str = ""
    double_click: DoubleClick = DoubleClick.LOOK
    theme: Theme = Theme.DEVICE
    text_px: int = 13
    wraps: bool = False
    keys: Mapping[Act, str] = field(default_factory=dict)

    @property
    def all_keys(self) -> dict[Act, str]:
        """The key of every act."""
        return USUAL_KEYS | dict(self.keys)

    @property
    def acts(self) -> dict[str, str]:
        """The act of every key, for the page."""
        return {key: act.value for act, key in self.all_keys.items()}

    @property
    def as_text(self) -> str:
        """As it is stored."""
        values = asdict(self) | {"columns": sorted(self.columns), "keys": dict(self.keys)}
        return json.dumps(values)

    @classmethod
    def of_text(cls, text: str | None) -> Preferences:
        """Out of what was stored. What cannot be read any more is as usual."""
        try:
            raw = json.loads(text) if text else {}
        except ValueError:
            raw = {}
        found = cls()
        for one in fields(cls):
            if isinstance(raw, dict) and one.name in raw:
                try:
                    found = replace(found, **{one.name: _READ[one.name](raw[one.name])})
                except (ValueError, TypeError, KeyError, InvalidInput):
                    continue
        return found


_READ: dict[str, Any] = {
    "first_page": FirstPage,
    "density": Density,
    "columns": lambda raw: frozenset(map(Column, raw)),
    "zone": lambda raw: zone_named(raw).key if raw else "",
    "double_click": DoubleClick,
    "theme": Theme,
    "text_px": int,
    "wraps": bool,
    "keys": lambda raw: {Act(act): str(key) for act, key in raw.items()},
}


def checked_keys(given: Mapping[str, str]) -> dict[Act, str]:
    """Keys as a person typed them, those that differ from the usual. Raises InvalidInput with the act's field where one is
    no key, or stands for two things.

    >>> checked_keys({"upload": "x"})
    {<Act.UPLOAD: 'upload'>: 'x'}
    """
    keys: dict[Act, str] = {}
    problems: dict[str, str] = {}
    for act in Act:
        key = given.get(act.value, "").strip() or USUAL_KEYS[act]
        named = next((one for one in _NAMED_KEYS if one.lower() == key.lower()), "")
        if not named and (len(key) != 1 or not key.isprintable() or key in " ?"):
            problems[f"key_{act}"] = "Type one character, or one of " + ", ".join(_NAMED_KEYS) + "."
        keys[act] = named or key
    taken: dict[str, Act] = {}
    for act, key in keys.items():
        if key in taken:
            problems[f"key_{act}"] = f"{key} is already used for “{ACT_WORDS[taken[key]]}”."
        taken.setdefault(key, act)
    if problems:
        raise InvalidInput("Some of these keys cannot be used.", fields=problems)
    return {act: key for act, key in keys.items() if key != USUAL_KEYS[act]}


def checked_text_px(size: int | None) -> int:
    """The size of the editor's text. Raises InvalidInput."""
    if size is None or not _LEAST_TEXT_PX <= size <= _MOST_TEXT_PX:
        raise InvalidInput(
            "Type the size as a whole number.",
            fields={"text_px": f"Choose a size from {_LEAST_TEXT_PX} to {_MOST_TEXT_PX} px."},
        )
    return size


def zone_of(preferences: Preferences, usual: ZoneInfo) -> ZoneInfo:
    """Whose days and hours a person reads."""
    return zone_named(preferences.zone) if preferences.zone else usual
