"""Sites out and in: Nailer's own documented JSON (docs/exchange.md), and OpenSSH's client configuration.

No secret ever leaves: a site that comes in has to be given its password or key anew, or shares a stored sign-in.
"""

from __future__ import annotations

import json
import os
from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, Final, Literal

from pydantic import AliasChoices, BaseModel, ConfigDict, Field, ValidationError

from nailer.core.connecting.passwords import PasswordKept
from nailer.core.connecting.protocol import Protocol
from nailer.core.connecting.ssh_config import ConfiguredHost, read_config
from nailer.core.files.charset import UTF8
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.errors import InvalidInput
from nailer.services.sites.site_form import checked
from nailer.store.sites import Site, SiteGroup

FORMAT: Final = "nailer-sites"
_MOST_SITES = 5000


class _Model(BaseModel):
    model_config = ConfigDict(extra="forbid")


class SentRoot(_Model):
    """A folder there and the web address that shows it. Paths are percent-encoded, so that every byte survives."""

    folder: str
    address: str


def _permissions(name: str, earlier: str) -> Any:
    """A field of permissions; a file that an earlier Nailer wrote has it under its `earlier` name."""
    return Field(default=None, ge=0, le=0o7777, validation_alias=AliasChoices(name, earlier))


class SentSite(_Model):
    """A site on its way. Field for field as on the settings page; docs/exchange.md explains each."""

    name: str = Field(min_length=1, max_length=120)
    group: list[str] = Field(default_factory=list, max_length=20)
    protocol: Protocol = Protocol.SFTP
    host: str = Field(min_length=1, max_length=255, pattern=r"^[^\s/@]+$")
    port: int = Field(ge=1, le=65535)
    user_name: str = Field(default="", max_length=255)
    start_here: str = "/"
    start_there: str = "/"
    document_roots: list[SentRoot] = Field(default_factory=list, max_length=50)
    guarded: list[str] = Field(default_factory=list, max_length=200)
    colour: str = Field(default="slate", max_length=20)
    note: str = Field(default="", max_length=5000)
    password_kept: PasswordKept = PasswordKept.STORED
    key_file: str = Field(default="", max_length=1000)
    agent: bool = False
    old_allowed: bool = False
    passive: bool = True
    charset: str = Field(default=UTF8, max_length=20)
    connections_most: int = Field(default=4, ge=1, le=20)
    proxy_kind: Literal["", "socks5", "http"] = ""
    proxy_host: str = Field(default="", max_length=255)
    proxy_port: int = Field(default=0, ge=0, le=65535)
    proxy_user: str = Field(default="", max_length=255)
    clock_offset_s: int | None = Field(default=None, ge=-100_000, le=100_000)
    clock_how: Literal["measured", "set"] = "measured"
    file_permissions: int | None = _permissions("file_permissions", "file_access")
    folder_permissions: int | None = _permissions("folder_permissions", "folder_access")
    package_bytes: int | None = Field(default=None, ge=0)
    fingerprint: str = Field(default="", max_length=120, pattern=r"^[\x21-\x7e]*$")


class SentSites(_Model):
    """A whole file."""

    format: Literal["nailer-sites"]
    version: Literal[1]
    sites: list[SentSite] = Field(max_length=_MOST_SITES)


def write_sites(sites: list[Site], groups: list[SiteGroup], fingerprints: Mapping[tuple[str, int], str]) -> str:
    """Sites as the text of a file, without anything secret. `fingerprints` are those that are trusted, by server."""
    names = group_paths(groups)
    told = [
        replace(site, fingerprint=fingerprints.get((site.host, site.port), site.fingerprint), key_file="")
        for site in sites
        if not site.fleeting
    ]
    sent = [_sent(site, names.get(site.group_id or 0, [])) for site in told]
    return SentSites(format=FORMAT, version=1, sites=sent).model_dump_json(indent=2) + "\n"


@dataclass(frozen=True, slots=True)
class FoundSites:
    """What a file holds: sites, each with the names of its groups from the top down, and why others cannot be taken in."""

    sites: tuple[tuple[Site, list[str]], ...]
    left: tuple[str, ...]


def read_sites(text: str, roots: list[str]) -> FoundSites:
    """Sites out of a text of either form, held to the rules of the settings page.

    A site whose folder here lies under none of the labels in `roots` gets one of its own name under the first. None comes
    in with a key file: it could name any file of this machine. Raises InvalidInput, which says where the text cannot be
    read.
    """
    sites: list[tuple[Site, list[str]]] = []
    left: list[str] = []
    for site, group in _read(text):
        try:
            sites.append((checked(_with_own_folder(site, roots), roots), group))
        except InvalidInput as error:
            said = " ".join(f"{name}: {what}" for name, what in error.fields.items()) or error.what
            left.append(f"“{site.name[:60]}” cannot be imported. {said}")
    if left and not sites:
        raise InvalidInput(left[0])
    return FoundSites(tuple(sites), tuple(left))


def _with_own_folder(site: Site, roots: list[str]) -> Site:
    if not roots or (site.start_here.names and site.start_here.names[0] in {os.fsencode(root) for root in roots}):
        return site
    own = site.name.encode()[:200].replace(b"/", b"-")
    return replace(site, start_here=SitePath((os.fsencode(roots[0]), own)))


def _read(text: str) -> list[tuple[Site, list[str]]]:
    if not text.strip():
        raise InvalidInput("Choose a file or paste its text first.")
    if text.lstrip()[:1] not in "{[":
        hosts = read_config(text)
        if not hosts:
            raise InvalidInput("This is neither a Nailer export nor an OpenSSH client configuration.")
        return [(_of_config(one), []) for one in hosts]
    try:
        sent = SentSites.model_validate(json.loads(text))
    except json.JSONDecodeError as error:
        raise InvalidInput(f"The file is incomplete or damaged: {error.msg} in line {error.lineno}.") from error
    except ValidationError as error:
        first = error.errors()[0]
        where = " / ".join(str(part) for part in first["loc"])
        raise InvalidInput(f"The file cannot be used: {where}: {first['msg']}.") from error
    except (RecursionError, ValueError) as error:
        raise InvalidInput(
            "The file is not a valid Nailer export: a number is too large or the data is nested too deeply."
        ) from error
    return [(_site(one), one.group) for one in sent.sites]


def group_paths(groups: list[SiteGroup]) -> dict[int, list[str]]:
    """Each group's names from the top down, by its id."""
    by_id = {group.id: group for group in groups}
    paths: dict[int, list[str]] = {}
    for group in groups:
        names: list[str] = []
        above: SiteGroup | None = group
        while above is not None and len(names) < 50:
            names.insert(0, above.name)
            above = by_id.get(above.parent_id or 0)
        paths[group.id] = names
    return paths


def _sent(site: Site, group: list[str]) -> SentSite:
    plain = {name: getattr(site, name) for name in SentSite.model_fields if hasattr(site, name)}
    plain |= {
        "group": group,
        "start_here": site.start_here.token,
        "start_there": site.start_there.token,
        "document_roots": [SentRoot(folder=root.folder.token, address=root.address) for root in site.document_roots],
        "guarded": [folder.token for folder in site.guarded],
    }
    return SentSite(**plain)


def _site(sent: SentSite) -> Site:
    plain = sent.model_dump(
        exclude={"group", "start_here", "start_there", "document_roots", "guarded", "key_file", "note"}
    )
    return Site(
        id=0,
        start_here=SitePath.of_token(sent.start_here),
        start_there=SitePath.of_token(sent.start_there),
        document_roots=tuple(DocumentRoot(SitePath.of_token(one.folder), one.address) for one in sent.document_roots),
        guarded=tuple(SitePath.of_token(one) for one in sent.guarded),
        note=_with_key_file(sent.note, sent.key_file),
        **plain,
    )


def _with_key_file(note: str, key_file: str) -> str:
    """What a file says of its machine is not taken over: it could name any file of this one."""
    return (
        f"{note}\nIt signed in with the key file {key_file}. Choose one in the settings.".strip() if key_file else note
    )


def _of_config(found: ConfiguredHost) -> Site:
    lacks = f" Not imported: {', '.join(found.unread)}." if found.unread else ""
    return Site(
        id=0,
        name=found.alias,
        host=found.host.lower(),
        port=found.port or Protocol.SFTP.port,
        user_name=found.user,
        start_here=SitePath(),
        start_there=SitePath(),
        agent=True,
        note=_with_key_file(f"From an OpenSSH configuration.{lacks}", found.key_file),
    )
