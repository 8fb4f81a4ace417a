"""What a server can do, in words."""

from __future__ import annotations

from nailer.core.connecting.abilities import Abilities, in_words


def test_abilities_are_said_with_what_they_mean() -> None:
    said = {one.what: one for one in in_words(Abilities(permissions=True, times=False))}

    assert said["Permissions"].can is True
    assert "time of the upload" in said["Times"].meaning
    assert said["Free space"].meaning == "not tested yet"
