"""What the go-to box finds beside sites and folders: each action with the words that people call it by."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from nailer.core.people.rights import Person, Right
from nailer.services.sites import Site
from nailer.web.shell import urls


@dataclass(frozen=True, slots=True)
class NamedAction:
    """An action by its label and its address; `also` are other words for it. For a site the address is the part behind the
    site's own, and `right` what it needs: None is for administrators."""

    label: str
    address: str
    also: str
    right: Right | None = Right.LOOK

    def is_called(self, wanted: str) -> bool:
        """True if each typed word begins a word of the label or another name for it; `wanted` in lower case."""
        known = f"{self.label} {self.also}".casefold().split()
        return all(any(one.startswith(word) for one in known) for word in wanted.split())


_OF_ALL = (
    NamedAction("All sites", urls.SITES, "customers clients list overview servers accounts home"),
    NamedAction(
        "Jobs", urls.JOBS, "transfers queue progress running uploads downloads speed limit bandwidth pause resume"
    ),
    NamedAction("Jobs that need you", f"{urls.JOBS}?show=needs-you", "failed errors problems stuck retry"),
    NamedAction("Timers", urls.TIMERS, "schedule automatic nightly cron daily recurring"),
    NamedAction("Sieves", urls.SIEVES, "ignore exclude filter skip patterns hidden"),
    NamedAction("Drafts", urls.DRAFTS, "unsaved edits open files"),
    NamedAction(
        "Your account", urls.OWN_ACCOUNT, "profile password email passkey two-factor 2fa sessions sign-out logout"
    ),
    NamedAction(
        "Preferences", urls.PREFERENCES, "settings theme dark light language time zone keys shortcuts columns display"
    ),
    NamedAction("API tokens", urls.TOKENS, "programs automation scripts pipeline ci access key"),
)
_OF_ADMINISTRATORS = (
    NamedAction("Add a site", urls.ADD, "new create connect server ftp sftp account customer letter"),
    NamedAction("Server identities", urls.IDENTITIES, "host keys fingerprint known_hosts trust certificate tls ssh"),
    NamedAction("Import sites", urls.IMPORT, "load transfer move migrate"),
    NamedAction("Export all sites", urls.EXPORT, "backup save list migrate download"),
    NamedAction("People", urls.PEOPLE, "users colleagues team invite permissions roles administrators members"),
    NamedAction("Activity log", urls.LOG, "history audit who events"),
)
_OF_A_SITE = (
    NamedAction("Files", "files", "upload download browse folder rename move delete permissions chmod edit"),
    NamedAction("Sync", "sync", "publish deploy fetch compare mirror differences synchronise update level", Right.SYNC),
    NamedAction("Search files", "search", "find text grep replace large old"),
    NamedAction(
        "Changes", "changes", "undo history restore versions take back revert deleted recover kept copies trash"
    ),
    NamedAction(
        "Checks", "checks", "scan broken links 404 missing certificate ssl https address domain dns findings errors"
    ),
    NamedAction("Disk space", "checks/room", "quota storage full size large free clean usage"),
    NamedAction("Diagnose a page", "checks/broken", "broken blank white error 500 404 debug log not working"),
    NamedAction("Compare here and live", "checks/apart", "preview differences cache visitors both sides"),
    NamedAction("Unused files", "checks/alone", "orphans clean delete references"),
    NamedAction("Packages", "packages", "version update upgrade plugin add-on theme skin install replace"),
    NamedAction("Recovery", "recovery", "restore backup undo broken emergency rescue rollback hacked"),
    NamedAction("Verified copies", "copies", "backup copy snapshot archive test restore"),
    NamedAction(
        "Permissions",
        "permissions?side=there&path=/",
        "chmod access rights mode owner 644 755 writable",
        Right.PERMISSIONS,
    ),
    NamedAction(
        "Connection", "connection", "server log disconnect status identity protocol commands", Right.CONNECTION
    ),
    NamedAction(
        "Settings", "settings", "password host port user key proxy folder address quota edit guarded", Right.SETTINGS
    ),
    NamedAction("Remove", "remove", "delete forget site", None),
)


def found_actions(wanted: str, who: Person | None, sites: list[Site]) -> Iterator[tuple[str, str]]:
    """Labels and addresses of what is called so, as far as a person may do it; `sites` are those that are asked about."""
    is_admin = who is None or who.is_admin
    for one in (*_OF_ALL, *(_OF_ADMINISTRATORS if is_admin else ())):
        if one.is_called(wanted):
            yield one.label, one.address
    if not wanted:
        return
    for site in sites:
        for one in _OF_A_SITE:
            may = who is None or (who.may(one.right, site.id) if one.right else who.is_admin)
            if may and one.is_called(wanted):
                yield f"{one.label} of {site.name}", urls.site(site.id) + "/" + one.address
