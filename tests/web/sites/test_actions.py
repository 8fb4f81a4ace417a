"""The go-to box finds an action by what people call it."""

from __future__ import annotations

from tests.web.conftest import Visitor

# What somebody types, and the part of the address that the first of the actions must lead to.
WORDS = {
    "backup": "recovery",
    "restore": "changes",
    "undo": "changes",
    "delete": "files",
    "upload": "files",
    "download": "files",
    "rename": "files",
    "move": "files",
    "edit": "files",
    "chmod": "files",
    "broken": "checks",
    "blank": "checks/broken",
    "white": "checks/broken",
    "500": "checks/broken",
    "404": "checks",
    "missing": "checks",
    "links": "checks",
    "debug": "checks/broken",
    "not working": "checks/broken",
    "version": "packages",
    "update": "packages",
    "upgrade": "packages",
    "plugin": "packages",
    "theme": "packages",
    "install": "packages",
    "copy": "copies",
    "snapshot": "copies",
    "test restore": "copies",
    "certificate": "checks",
    "ssl": "checks",
    "https": "checks",
    "dns": "checks",
    "domain": "checks",
    "quota": "checks/room",
    "storage": "checks/room",
    "space": "checks/room",
    "full": "checks/room",
    "unused": "checks/alone",
    "orphans": "checks/alone",
    "cache": "checks/apart",
    "visitors": "checks/apart",
    "publish": "sync",
    "deploy": "sync",
    "compare": "sync",
    "mirror": "sync",
    "differences": "sync",
    "search": "search",
    "grep": "search",
    "text": "search",
    "history": "changes",
    "revert": "changes",
    "trash": "changes",
    "recover": "changes",
    "rollback": "recovery",
    "hacked": "recovery",
    "emergency": "recovery",
    "rights": "permissions",
    "755": "permissions",
    "writable": "permissions",
    "connection": "connection",
    "disconnect": "connection",
    "protocol": "connection",
    "proxy": "settings",
    "port": "settings",
    "password": "settings",
    "quota edit": "settings",
    "cron": "/timers",
    "schedule": "/timers",
    "nightly": "/timers",
    "ignore": "/sieves",
    "exclude": "/sieves",
    "unsaved": "/drafts",
    "queue": "/jobs",
    "bandwidth": "/jobs",
    "speed": "/jobs",
    "failed": "/jobs",
    "passkey": "/account",
    "2fa": "/account",
    "dark": "/account/preferences",
    "shortcuts": "/account/preferences",
    "token": "/account/tokens",
    "pipeline": "/account/tokens",
    "new site": "/sites/add",
    "sftp": "/sites/add",
    "invite": "/people",
    "colleague": "/people",
    "users": "/people",
    "audit": "/log",
    "fingerprint": "/identities",
    "known_hosts": "/identities",
    "export": "/sites/export",
    "import": "/sites/import",
}


def test_every_word_of_the_trade_finds_its_action(maren: Visitor) -> None:
    site = maren.add_site()
    number = site.rsplit("/", 1)[1]
    assert len(WORDS) >= 80

    lost = {}
    for word, wanted in WORDS.items():
        found = maren.get(f"/finder?q={word}&site={number}").text
        address = wanted if wanted.startswith("/") else f"{site}/{wanted}"
        if f'href="{address}' not in found:
            lost[word] = wanted

    assert lost == {}


def test_without_an_open_site_the_actions_of_the_sites_are_found_too(maren: Visitor) -> None:
    site = maren.add_site()

    assert f'href="{site}/recovery"' in maren.get("/finder?q=backup").text
