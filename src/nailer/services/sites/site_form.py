"""The form of a site: from what a person typed to a site and its secrets, and back.

Every problem is reported beside its field, all at once. Blanks and invisible characters round names are taken off; a
password is never changed unless the person presses the button that says so.
"""

from __future__ import annotations

import re
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import urlsplit

from nailer.core.connecting.diagnosis import ODD_IN_SECRETS
from nailer.core.connecting.letter import Field, read_address
from nailer.core.connecting.passwords import PasswordKept
from nailer.core.connecting.protocol import Protocol
from nailer.core.files.charset import UTF8, known
from nailer.core.files.names import MAX_NAME_BYTES
from nailer.core.files.permissions import octal, of_octal
from nailer.core.files.sitepath import DocumentRoot, SitePath
from nailer.core.numbers import amount_in, number_in
from nailer.errors import InvalidInput
from nailer.services.sites.connect import key_problem
from nailer.store.sites import Secrets, Site

COLOURS = ("blue", "violet", "green", "slate", "rust", "gold", "teal", "rose")
MOST_ROOTS = 8
_ODD = "\u200b\u200c\u200d\u2060\ufeff\u00a0\u00ad \t\r\n"
_MIB = 1024 * 1024

# What an address says whatever the field says: these fields are never empty.
_OF_ADDRESS = frozenset({"host", "protocol", "port"})

Form = dict[str, str]
Problems = dict[str, str]


@dataclass(frozen=True, slots=True)
class Given:
    """A site as typed. `secrets` are what the form gave and the stored ones for what it left empty; `changed` is False
    where it gave none."""

    site: Site
    secrets: Secrets
    changed: bool

    @property
    def to_store(self) -> Secrets:
        """The secrets as they may be stored: of a site that is connected to once none, else the password only if so said."""
        if self.site.fleeting:
            return Secrets()
        return self.secrets if self.site.password_kept is PasswordKept.STORED else replace(self.secrets, password=None)


def site_from_form(form: Form, roots: list[str], stored: Site | None = None, before: Secrets | None = None) -> Given:
    """What the form says, with `before` for secrets that were left empty. Raises InvalidInput with all problems."""
    problems: Problems = {}
    form = _taken_apart(form)
    text = {key: value.strip(_ODD) for key, value in form.items()}
    protocol = _protocol(text, problems)
    names = _names(text, problems)
    start_there, from_home = _start_there(text.get("start_there", ""), problems)
    document_roots = _document_roots(text, start_there, problems)
    # Only at its beginning: a stored site does not vanish at the next start because a form says so.
    fleeting = text.get("store") == "no"
    if stored is not None and stored.id:
        if fleeting and not stored.fleeting:
            problems["store"] = "A stored site stays stored. Remove it on its own page instead."
        fleeting = stored.fleeting
    site = Site(
        id=stored.id if stored else 0,
        **names,
        protocol=protocol,
        port=_port(text, protocol, problems),
        start_here=_start_here(text.get("start_here", ""), names["name"], roots, problems),
        start_there=start_there,
        from_home=from_home,
        document_roots=document_roots,
        guarded=_guarded(form.get("guarded", ""), problems),
        group_id=number_in(text.get("group_id", "")),
        colour=text["colour"] if text.get("colour") in COLOURS else "slate",
        note=form.get("note", "")[:5000],
        password_kept=_kept(text),
        key_file=text.get("key_file", "")[:1000],
        agent=text.get("agent") == "yes",
        old_allowed=text.get("old_allowed") == "yes",
        passive="passive" not in text or text["passive"] == "yes",
        charset=_charset(text, problems),
        connections_most=_number(text, "connections_most", 4, 1, 20, problems),
        proxy_kind=text["proxy_kind"] if text.get("proxy_kind") in ("socks5", "http") else "",
        proxy_host=text.get("proxy_host", "")[:255],
        proxy_port=_number(text, "proxy_port", 0, 0, 65535, problems),
        proxy_user=text.get("proxy_user", "")[:255],
        **_clock(text, problems),
        file_permissions=_permissions(text, "file_permissions", problems),
        in_place=text.get("in_place") == "yes",
        reads_back=text.get("reads_back") == "yes",
        folder_permissions=_permissions(text, "folder_permissions", problems),
        package_bytes=_number(text, "package_mib", 0, 0, 10**9, problems) * _MIB or None,
        credential_id=number_in(text.get("credential_id", "")),
        fleeting=fleeting,
    )
    if site.proxy_kind and (not site.proxy_host or not site.proxy_port):
        problems["proxy_host"] = "A proxy needs a server and a port."
    given = _secrets(form, site, stored, before or Secrets(), problems)
    if problems:
        raise InvalidInput("Some fields need correction.", fields=problems)
    return replace(given, site=site if stored is None else _with_unasked(site, stored, "group_id" in text))


def _with_unasked(site: Site, stored: Site, has_group: bool) -> Site:
    """What no form asks for stays as it is stored; so does the group where this form does not ask for it."""
    return replace(
        site,
        credential_id=site.credential_id or stored.credential_id,
        position=stored.position,
        opened_at=stored.opened_at,
        fingerprint=stored.fingerprint,
        guards_proposed=stored.guards_proposed,
        group_id=site.group_id if has_group else stored.group_id,
    )


def folder_for(name: str) -> str:
    """The name of a folder here for a site.

    >>> folder_for("Moss Lane Seed Library"), folder_for("…")
    ('moss-lane-seed-library', 'site')
    """
    return re.sub(r"[^a-z0-9.]+", "-", name.lower()).strip("-.")[:60] or "site"


def _taken_apart(form: Form) -> Form:
    """The form with a whole address in its server field taken apart: what the address says wins over what a field says by
    itself, and fills what is empty."""
    host = form.get("host", "").strip(_ODD)
    if not any(sign in host for sign in "/@") and "://" not in host:
        return form
    found = read_address(host)
    if Field.HOST not in found:
        return form
    parts = {what.value: str(one.value) for what, one in found.items() if what is not Field.WEB}
    filled = {key: value for key, value in parts.items() if key in _OF_ADDRESS or not form.get(key, "").strip(_ODD)}
    if Field.PROTOCOL in found and Field.PORT not in found:
        filled["port"] = str(Protocol(parts["protocol"]).port)
    return form | filled


def checked(site: Site, roots: list[str]) -> Site:
    """A site that came in from elsewhere, held to the same rules as one that is typed. Raises InvalidInput with all
    problems."""
    form = form_of(site)
    if len(site.document_roots) > MOST_ROOTS:
        raise InvalidInput(f"A site has at most {MOST_ROOTS} web addresses.")
    # Who signs in may be said later, as the password is.
    typed = site_from_form(form | {"user_name": site.user_name or "nobody"}, roots, stored=site).site
    # A form is text: what it cannot say exactly stays as it came, byte for byte.
    return replace(
        typed,
        user_name=site.user_name,
        start_here=site.start_here,
        start_there=site.start_there,
        guarded=site.guarded,
        document_roots=tuple(
            replace(one, address=said.address)
            for one, said in zip(site.document_roots, typed.document_roots, strict=True)
        ),
        package_bytes=site.package_bytes,
    )


def form_of(site: Site) -> Form:
    """A site as its form shows it; secrets are never in it."""
    form = {
        "name": site.name,
        "host": site.host,
        "protocol": site.protocol.value,
        "port": str(site.port),
        "user_name": site.user_name,
        "password_kept": site.password_kept.value,
        "key_file": site.key_file,
        "agent": "yes" if site.agent else "",
        "old_allowed": "yes" if site.old_allowed else "",
        "passive": "yes" if site.passive else "",
        "in_place": "yes" if site.in_place else "",
        "reads_back": "yes" if site.reads_back else "",
        "charset": site.charset,
        "connections_most": str(site.connections_most),
        "proxy_kind": site.proxy_kind,
        "proxy_host": site.proxy_host,
        "proxy_port": str(site.proxy_port or ""),
        "proxy_user": site.proxy_user,
        "clock_how": site.clock_how,
        "clock_offset_s": "" if site.clock_offset_s is None else str(site.clock_offset_s),
        "clock_offset_h": "" if site.clock_offset_s is None else f"{site.clock_offset_s / 3600:g}",
        "file_permissions": "" if site.file_permissions is None else octal(site.file_permissions),
        "folder_permissions": "" if site.folder_permissions is None else octal(site.folder_permissions),
        "package_mib": "" if site.package_bytes is None else str(site.package_bytes // _MIB),
        "start_here": _typed(site.start_here).lstrip("/"),
        "start_there": _typed(site.start_there).removeprefix("/" if site.from_home else ""),
        "guarded": "\n".join(_typed(folder) for folder in site.guarded),
        "group_id": str(site.group_id or ""),
        "colour": site.colour,
        "note": site.note,
    }
    for number, root in enumerate(site.document_roots):
        form[f"web_address_{number}"] = root.address
        form[f"web_folder_{number}"] = _typed(root.folder)
    return form


def _typed(path: SitePath) -> str:
    return path.raw.decode("utf-8", "replace")


def _names(text: Form, problems: Problems) -> dict[str, Any]:
    name, host, user = text.get("name", ""), text.get("host", "").lower(), text.get("user_name", "")
    name = name or host
    for key, value, most in (("host", host, 255), ("user_name", user, 255), ("name", name, 120)):
        if not value and key != "name":
            problems[key] = "This field is required." if key == "host" else "A user name is required to sign in."
        elif len(value) > most:
            problems[key] = f"Use at most {most} characters."
        elif any(not one.isprintable() for one in value):
            problems[key] = "It contains an invisible control character. Type the text by hand instead of pasting it."
    if host and any(sign in host for sign in "/@ :") and not _is_address(host):
        problems["host"] = "Only the server's name, without sftp:// and without a path. Paste an address above instead."
    return {"name": name, "host": host, "user_name": user}


def _is_address(host: str) -> bool:
    return host.count(":") > 1 and all(one in "0123456789abcdef:." for one in host)


def _protocol(text: Form, problems: Problems) -> Protocol:
    try:
        return Protocol(text.get("protocol") or Protocol.SFTP)
    except ValueError:
        problems["protocol"] = "Nailer does not know this protocol."
        return Protocol.SFTP


def _port(text: Form, protocol: Protocol, problems: Problems) -> int:
    typed = text.get("port", "") or str(protocol.port)
    port = number_in(typed, least=1, most=65535)
    if port is None:
        problems["port"] = f"A port is a number from 1 to 65535; {protocol.word} usually has {protocol.port}."
    return port or protocol.port


def _number(text: Form, key: str, usual: int, least: int, most: int, problems: Problems) -> int:
    typed = text.get(key, "")
    if not typed:
        return usual
    number = number_in(typed, least=least, most=most)
    if number is None:
        problems[key] = f"Type a number from {least} to {most}."
        return usual
    return number


def _charset(text: Form, problems: Problems) -> str:
    charset = text.get("charset", "") or UTF8
    if not known(charset):
        problems["charset"] = "Nailer does not know this character set. Choose one from the list."
        return UTF8
    return charset


def _kept(text: Form) -> PasswordKept:
    wanted = text.get("password_kept", "")
    return PasswordKept(wanted) if wanted in set(PasswordKept) else PasswordKept.STORED


def _clock(text: Form, problems: Problems) -> dict[str, Any]:
    """Measured, or set by hand in hours; what a trial has just measured comes in seconds."""
    how = "set" if text.get("clock_how") == "set" else "measured"
    typed = text.get("clock_offset_h" if how == "set" else "clock_offset_s", "")
    if not typed:
        return {"clock_how": how, "clock_offset_s": 0 if how == "set" else None}
    unit_s = 3600 if how == "set" else 1
    ahead = amount_in(typed.removeprefix("-"), most=26 * 3600 / unit_s)
    if ahead is None:
        problems["clock_offset_h"] = "Type hours, such as 2 or -5.5."
        ahead = 0.0
    return {"clock_how": how, "clock_offset_s": round(ahead * unit_s) * (-1 if typed.startswith("-") else 1)}


def _permissions(text: Form, key: str, problems: Problems) -> int | None:
    typed = text.get(key, "")
    if not typed:
        return None
    try:
        return of_octal(typed)
    except InvalidInput:
        problems[key] = "Type three or four octal digits, such as 644."
        return None


def _start_here(text: str, name: str, roots: list[str], problems: Problems) -> SitePath:
    """The folder here; where none is said, one by the site's name under the first allowed root, made when something lands
    in it. Without any root there is none."""
    if not text.strip("/"):
        return SitePath((roots[0].encode(), folder_for(name).encode())) if roots else SitePath()
    try:
        path = SitePath.parse(text.encode())
    except InvalidInput as error:
        problems["start_here"] = error.what
        return SitePath()
    if not roots:
        problems["start_here"] = (
            "Nailer may not use any folder on its machine yet. Set NAILER_ROOTS (see docs/settings.md)."
        )
    elif path.is_root or path.names[0].decode(errors="replace") not in roots:
        problems["start_here"] = f"The path must begin with an allowed folder: {', '.join(roots)}."
    return path


def _start_there(text: str, problems: Problems) -> tuple[SitePath, bool]:
    """The start folder, and whether it is told from the account's home: nothing, `htdocs` and `~/htdocs` are."""
    from_home = not text.startswith("/")
    bare = text.removeprefix("~") if text == "~" or text.startswith("~/") else text
    try:
        path = SitePath.parse(bare.encode())
    except InvalidInput as error:
        problems["start_there"] = error.what
        return SitePath(), False
    if any(ord(letter) < 32 or ord(letter) == 127 for letter in text):
        problems["start_there"] = "It holds a line break or another control character. Type it by hand."
    elif any(len(name) > MAX_NAME_BYTES for name in path.names):
        problems["start_there"] = f"A folder name can have at most {MAX_NAME_BYTES} bytes."
    return path, from_home


def _document_roots(text: Form, start: SitePath, problems: Problems) -> tuple[DocumentRoot, ...]:
    found = []
    for number in range(MOST_ROOTS):
        address, folder = text.get(f"web_address_{number}", ""), text.get(f"web_folder_{number}", "")
        if address:
            root = _document_root(address, folder, start, number, problems)
            found += [root] if root else []
        elif folder:
            problems[f"web_address_{number}"] = "Type the web address that shows this folder."
    return tuple(found)


def _document_root(address: str, folder: str, start: SitePath, number: int, problems: Problems) -> DocumentRoot | None:
    if "://" not in address:
        address = f"https://{address}"
    try:
        parts = urlsplit(address)
        usable = parts.scheme in ("http", "https") and bool(parts.hostname) and parts.port is not False
    except ValueError:
        usable = False
    if not usable:
        problems[f"web_address_{number}"] = "A web address looks like https://skerryferries.example/."
        return None
    try:
        root = SitePath.parse(folder.encode()) if folder else start
    except InvalidInput as error:
        problems[f"web_folder_{number}"] = error.what
        return None
    return DocumentRoot(root, address.rstrip("/") + "/")


def _guarded(text: str, problems: Problems) -> tuple[SitePath, ...]:
    try:
        return tuple(SitePath.parse(line.strip().encode()) for line in text.splitlines() if line.strip())
    except InvalidInput as error:
        problems["guarded"] = error.what
        return ()


def _secrets(form: Form, site: Site, stored: Site | None, before: Secrets, problems: Problems) -> Given:
    """The secrets of the form; what it leaves empty stays as it was."""
    given: dict[str, str | None] = {}
    password = form.get("password", "")
    if form.get("trim_password") == "yes":
        given["password"] = (password or before.password or "").strip(ODD_IN_SECRETS) or None
    elif password:
        given["password"] = password
    if any(letter in password for letter in "\r\n\0"):
        problems["password"] = "The password contains a line break. Did you copy more than the password?"
    key = form.get("private_key", "").strip()
    if key:
        given["private_key"] = key.replace("\r\n", "\n") + "\n"
    for kind in ("passphrase", "one_time_secret", "proxy_password"):
        if form.get(kind, ""):
            given[kind] = form[kind]
    for kind in ("private_key", "one_time_secret"):
        if form.get(f"forget_{kind}") == "yes":
            given[kind] = None
    secrets = replace(before, **given)
    if key and (problem := key_problem(given["private_key"] or "", secrets.passphrase)):
        problems["passphrase" if "passphrase" in problem else "private_key"] = problem
    asked = (
        site.password_kept is not PasswordKept.STORED or site.key_file or site.agent or site.credential_id is not None
    )
    if stored is None and not asked and not (secrets.password or secrets.private_key):
        problems["password"] = "A password or a private key is needed to sign in."
    if site.password_kept is not PasswordKept.STORED:
        secrets = replace(secrets, password=given.get("password"))
    return Given(site, secrets, bool(given) or site.password_kept is not PasswordKept.STORED)
