"""What the joint of picked names suggests: one act first, and what stands beside it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from enum import StrEnum

from nailer.core.compare.joint import Joint


class Advised(StrEnum):
    UPLOAD = "upload"
    DOWNLOAD = "download"
    MERGE = "merge"
    COMPARE = "compare"


@dataclass(frozen=True, slots=True)
class Suggestion:
    """`first` is None where nothing is plainly right. `others` stand below it, `rest` among the lesser acts."""

    first: Advised | None
    others: tuple[Advised, ...] = ()

    @property
    def rest(self) -> tuple[Advised, ...]:
        """The ways that neither of them takes."""
        return tuple(one for one in (Advised.UPLOAD, Advised.DOWNLOAD) if one not in (self.first, *self.others))


_UP = (Joint.NEWER_HERE, Joint.ONLY_HERE)
_DOWN = (Joint.NEWER_THERE, Joint.ONLY_THERE)


def suggested(joints: Sequence[Joint], *, is_text: bool) -> Suggestion:
    """What picked names of these joints suggest. `is_text`: one file is picked, and both its sides are texts.

    >>> suggested([Joint.NEWER_HERE], is_text=True)
    Suggestion(first=<Advised.UPLOAD: 'upload'>, others=(<Advised.COMPARE: 'compare'>,))
    >>> suggested([Joint.SAME, Joint.SAME], is_text=False).first is None
    True
    """
    up, down = sum(one in _UP for one in joints), sum(one in _DOWN for one in joints)
    both = (Advised.UPLOAD, Advised.DOWNLOAD)
    if up == down:
        clashes = Joint.BOTH_CHANGED in joints or up > 0
        if clashes and is_text:
            return Suggestion(Advised.MERGE, both)
        return Suggestion(None, both if clashes else ())
    first = Advised.UPLOAD if up > down else Advised.DOWNLOAD
    differs = is_text and joints[0] in (Joint.NEWER_HERE, Joint.NEWER_THERE)
    return Suggestion(first, (Advised.COMPARE,) if differs else ())
