"""The joint decides the first button."""

from __future__ import annotations

import pytest

from nailer.core.compare.advised import Advised, Suggestion, suggested
from nailer.core.compare.joint import Joint

UP, DOWN, MERGE, COMPARE = Advised.UPLOAD, Advised.DOWNLOAD, Advised.MERGE, Advised.COMPARE


@pytest.mark.parametrize(
    ("joint", "text", "other"),
    [
        (Joint.BOTH_CHANGED, Suggestion(MERGE, (UP, DOWN)), Suggestion(None, (UP, DOWN))),
        (Joint.NEWER_HERE, Suggestion(UP, (COMPARE,)), Suggestion(UP)),
        (Joint.ONLY_HERE, Suggestion(UP), Suggestion(UP)),
        (Joint.NEWER_THERE, Suggestion(DOWN, (COMPARE,)), Suggestion(DOWN)),
        (Joint.ONLY_THERE, Suggestion(DOWN), Suggestion(DOWN)),
        (Joint.SAME, Suggestion(None), Suggestion(None)),
        (Joint.NOT_READ, Suggestion(None), Suggestion(None)),
    ],
)
def test_one_name(joint: Joint, text: Suggestion, other: Suggestion) -> None:
    assert suggested([joint], is_text=True) == text
    assert suggested([joint], is_text=False) == other


@pytest.mark.parametrize(
    ("joints", "expected"),
    [
        ([Joint.NEWER_HERE, Joint.ONLY_HERE, Joint.BOTH_CHANGED], Suggestion(UP)),
        ([Joint.NEWER_THERE, Joint.ONLY_THERE, Joint.NEWER_HERE], Suggestion(DOWN)),
        ([Joint.NEWER_THERE, Joint.NEWER_HERE], Suggestion(None, (UP, DOWN))),
        ([Joint.SAME, Joint.ONLY_THERE], Suggestion(DOWN)),
        ([Joint.SAME, Joint.SAME], Suggestion(None)),
        ([Joint.BOTH_CHANGED, Joint.BOTH_CHANGED], Suggestion(None, (UP, DOWN))),
    ],
)
def test_several_names_go_where_more_of_them_go(joints: list[Joint], expected: Suggestion) -> None:
    assert suggested(joints, is_text=False) == expected


def test_no_way_is_lost() -> None:
    for joint in Joint:
        found = suggested([joint], is_text=True)
        assert {found.first, *found.others, *found.rest} >= {UP, DOWN}
