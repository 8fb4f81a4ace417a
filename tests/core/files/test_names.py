"""Free names, and the temporary name a file lands under."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from nailer.core.files.names import free_name, is_part_name, part_name


@given(st.binary(min_size=1, max_size=255).filter(lambda raw: b"/" not in raw), st.integers(0, 5))
def test_a_free_name_is_free_and_fits(name: bytes, steps: int) -> None:
    taken = {name}
    for _ in range(steps):
        taken.add(free_name(name, taken))

    assert len(taken) == steps + 1
    assert all(len(one) <= 255 for one in taken)


def test_part_names_are_known_again_and_differ_by_item() -> None:
    assert is_part_name(part_name(3, 4))
    assert part_name(3, 4) != part_name(3, 5)
    assert is_part_name(part_name(3, 4, hidden=False))
    assert not is_part_name(b"nailer-notes.part")
