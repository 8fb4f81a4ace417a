"""Every address of the application in one place. Paths travel as percent-encoded tokens, so no byte of a name is lost."""

from __future__ import annotations

import json
from hashlib import blake2b
from pathlib import Path
from urllib.parse import quote, urlencode

from nailer.core.compare.ledger import View
from nailer.core.files.entry import SideName
from nailer.core.files.sitepath import SitePath
from nailer.services.sites import Site, SiteGroup

SITES = "/sites"
ADD = "/sites/add"
IDENTITIES = "/identities"
JOBS = "/jobs"
DRAFTS = "/drafts"
TIMERS = "/timers"
SIEVES = "/sieves"
SIGN_IN = "/sign-in"
SIGN_OUT = "/sign-out"
SECOND = "/sign-in/second"
IMPORT = "/sites/import"
EXPORT = "/sites/export"
LATELY = "/sites/lately/forget"
ARRANGE = "/sites/arrange"
GROUPS = "/groups"
KNOWN_HOSTS = "/identities/known_hosts"
JOBS_TABLE = "/jobs.csv"
TRIAL_TRUST = "/tries/trust"
INVITED = "/invited/"
PEOPLE = "/people"
OWN_ACCOUNT = "/account"
CONFIRM = "/account/confirm"
TOKENS = "/account/tokens"
PREFERENCES = "/account/preferences"
LOG = "/log"
API = "/api/"
LOG_TABLE = "/log.csv"
HELP = "/help"
FIRST_ACCOUNT = "/first-account"
MANIFEST = "/manifest.webmanifest"
WORKER = "/worker.js"
OFFLINE = "/offline"

_STATIC = Path(__file__).parents[1] / "static"


def asset_version(built: Path) -> str:
    """A short hash over all scripts, styles and fonts in `built`: what is changed is fetched anew, what is not never."""
    digest = blake2b(digest_size=5)
    for file in sorted(built.iterdir()):
        digest.update(file.name.encode() + b"\0" + file.read_bytes())
    return digest.hexdigest()


ASSETS = f"/static/{asset_version(_STATIC / 'vendor')}"
_SCRIPTS: dict[str, list[str]] = json.loads((_STATIC / "vendor" / "built.json").read_bytes())["scripts"]


def asset(name: str) -> str:
    """A style, script, font or picture; its address changes with what ships with Nailer."""
    return f"{ASSETS}/{name}"


def scripts(template: str) -> tuple[str, list[str]]:
    """The script of a page by the folder of its template, and the parts that it shares with others."""
    wing = template.partition("/")[0]
    name = f"{wing}.js" if f"{wing}.js" in _SCRIPTS else "shell.js"
    return asset(f"vendor/{name}"), [asset(f"vendor/{part}") for part in _SCRIPTS[name]]


def files(site: Site, here: SitePath | None = None, there: SitePath | None = None, **more: str) -> str:
    """The files view of a site, by default at its start folders."""
    return f"/sites/{site.id}/files?" + _query(here or site.start_here, there or site.start_there, more)


def folder(site_id: int, side: SideName, path: SitePath, **more: str) -> str:
    """The files view at a folder of one side; the other side goes to where the site's pairs lead."""
    tail = "".join(f"&{key}={quote(str(value), safe='/')}" for key, value in more.items() if value)
    return f"/sites/{site_id}/files?{side}={path.token}{tail}"


def ledger(site: Site, here: SitePath, there: SitePath, **more: str) -> str:
    """The rows of the files view."""
    return f"/sites/{site.id}/ledger?" + _query(here, there, more)


def tree(site: Site, here: SitePath, there: SitePath) -> str:
    """The folders beside the files view."""
    return f"/sites/{site.id}/tree?" + _query(here, there, {})


def fetch(site: Site, side: SideName, path: SitePath) -> str:
    """One file, to the person's own computer."""
    return f"/sites/{site.id}/fetch?side={side}&path={path.token}"


def permissions(site_id: int, side: SideName, folder: SitePath, **more: str) -> str:
    """The page that sets the permissions of many names."""
    tail = "".join(f"&{key}={value}" for key, value in more.items() if value)
    return f"/sites/{site_id}/permissions?side={side}&path={folder.token}{tail}"


def edit(site_id: int, side: SideName, path: SitePath) -> str:
    """A file in the editor."""
    return f"/sites/{site_id}/edit?side={side}&path={path.token}"


def look_raw(site: Site, side: SideName, path: SitePath) -> str:
    """The bytes of a picture, a sound, a film or a PDF, for showing."""
    return f"/sites/{site.id}/look/raw?side={side}&path={path.token}"


def site(site_id: int, *rest: str) -> str:
    """A page of a site."""
    return "/".join((f"/sites/{site_id}", *rest))


# The page of the handbook about what somebody stands in front of: the first that the address holds.
_HELPED_BY = (
    ("/packages", "new-version"),
    ("/recovery", "something-is-broken"),
    ("/checks/broken", "something-is-broken"),
    ("/checks", "pictures-missing"),
    ("/sync", "in-sync"),
    ("/timers", "in-sync"),
    ("/sieves", "in-sync"),
    ("/sites/add", "new-customer"),
    ("/settings", "new-customer"),
    ("/connection", "something-is-broken"),
    ("/people", "colleague"),
    ("/tokens", "pipeline"),
    ("/files", "change-and-back"),
    ("/changes", "change-and-back"),
    ("/edit", "change-and-back"),
)


def help_for(path: str) -> str:
    """The page of the handbook for a page of Nailer, or its contents.

    >>> help_for("/sites/3/packages"), help_for("/jobs")
    ('/help/new-version', '/help')
    """
    return next((f"{HELP}/{page}" for part, page in _HELPED_BY if part in path), HELP)


def sync(site_id: int, pair_id: int | None = None) -> str:
    """The sync view of a site, by default of the pair of its start folders."""
    return f"/sites/{site_id}/sync" + (f"?pair={pair_id}" if pair_id is not None else "")


def run(site_id: int, run_id: int) -> str:
    """What became of a run of a pair."""
    return f"/sites/{site_id}/sync/runs/{run_id}"


def search(site_id: int, side: SideName, folder: SitePath | None = None, **more: str) -> str:
    """The search of a side, by default below its start folder."""
    where = {"in_token": folder.token} if folder is not None else {}
    return f"/sites/{site_id}/search?" + urlencode({"side": side, **where, **more})


def person(account_id: int) -> str:
    """The page of one person."""
    return f"{PEOPLE}/{account_id}"


def job(job_id: int, *rest: str) -> str:
    """A page of a job."""
    return "/".join((f"/jobs/{job_id}", *rest))


def plan(job_id: int, *rest: str) -> str:
    """A part of a plan that is being read."""
    return "/".join((f"/plans/{job_id}", *rest))


def group(group_id: int, *rest: str) -> str:
    """What is done with a group of sites."""
    return "/".join((f"{GROUPS}/{group_id}", *rest))


def view_query(view: View) -> dict[str, str]:
    """The parts of a view that differ from the usual, for addresses."""
    parts = {}
    if view.joint:
        parts["joint"] = view.joint
    if view.text:
        parts["text"] = view.text
    if view.sort != "name":
        parts["sort"] = str(view.sort)
    if view.descending:
        parts["down"] = "1"
    if view.hidden:
        parts["hidden"] = "1"
    return parts


def group_titles(groups: list[SiteGroup]) -> list[tuple[int, str]]:
    """Groups with their whole names (`Island clients / Staging`), each after its parent."""
    by_parent: dict[int | None, list[SiteGroup]] = {}
    for group in groups:
        by_parent.setdefault(group.parent_id, []).append(group)
    titles: list[tuple[int, str]] = []

    def _add(parent: int | None, above: str) -> None:
        for group in by_parent.get(parent, ()):
            title = f"{above} / {group.name}" if above else group.name
            titles.append((group.id, title))
            _add(group.id, title)

    _add(None, "")
    return titles


def _query(here: SitePath, there: SitePath, more: dict[str, str]) -> str:
    parts = [f"here={here.token}", f"there={there.token}"]
    parts += [f"{key}={quote(str(value), safe='')}" for key, value in more.items() if value]
    return "&".join(parts)
