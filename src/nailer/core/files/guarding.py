"""Which folders of an account the host owns, by their names and owners: proposed as guarded when a site is opened first."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence

from nailer.core.files.entry import Entry
from nailer.core.files.sitepath import SitePath

# Names by which hosts keep what a site's keeper seldom means to touch.
_OWNED = frozenset(
    b"mail .mail maildir .maildir mails mailboxes logs log .logs access-logs access_logs ssl .ssl certs certificates"
    b" cert private keys .ssh stats statistics webstats usage etc conf .config priv restore backups .backups backup dumps"
    b" databases mysql var .trash".split()
)


def proposed_guards(top: SitePath, entries: Iterable[Entry], published: Sequence[SitePath]) -> list[SitePath]:
    """The folders directly in an account that are better guarded. What is published, or holds what is, never is.

    By name, or by owner: a folder that somebody else owns than most of the account is the host's.
    """
    folders = [one for one in entries if one.is_folder]
    owners = Counter(one.owned_by for one in folders if one.owned_by)
    usual = owners.most_common(1)[0][0] if owners else ""
    found = []
    for one in folders:
        path = top.child(one.name)
        if any(root.below(path) is not None or path.below(root) is not None for root in published):
            continue
        owner = one.owned_by
        is_foreign = owner is not None and owner != usual and owners[owner] < owners[usual]
        if one.name.lower() in _OWNED or is_foreign:
            found.append(path)
    return sorted(found)
