"""Names in templates are those of the code: a template that nobody shows in a test must not fail before a person."""

from __future__ import annotations

import enum
import importlib
import pkgutil
import re
from pathlib import Path

import nailer

TEMPLATES = Path(nailer.__file__).parent / "web" / "templates"


def every_enum() -> dict[str, set[str]]:
    """The members of every enumeration, by its name; of one name all together."""
    found: dict[str, set[str]] = {}
    for module in pkgutil.walk_packages(nailer.__path__, "nailer."):
        if ".migrations" in module.name:
            continue
        for name, value in vars(importlib.import_module(module.name)).items():
            if isinstance(value, type) and issubclass(value, enum.Enum):
                found.setdefault(name, set()).update(value.__members__)
    return found


def test_templates_name_members_that_there_are() -> None:
    enums = every_enum()
    enums["State"] = enums["ReplacementState"] | enums["CopyState"] | enums["SearchState"] | enums["JobState"]
    used = {
        (str(file.relative_to(TEMPLATES)), name, member)
        for file in TEMPLATES.rglob("*.html")
        for name, member in re.findall(r"\b([A-Z]\w+)\.([A-Z][A-Z_]+)\b", file.read_text())
    }
    assert len(used) > 20
    assert [one for one in used if one[2] not in enums.get(one[1], set())] == []
