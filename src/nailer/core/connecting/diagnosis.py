"""Why a connection did not come about, as a sentence, and what to change, as buttons.

Every fix changes fields of the site's form and nothing else; it is applied only when the person presses it. Variants of
a user name are offered and never tried unasked: hosts lock accounts after a few refusals.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass

from nailer.core.connecting.protocol import Greeting, Protocol, Speaker, wanted_speaker
from nailer.errors import Unreached

ODD_IN_SECRETS = "\u200b\u200c\u200d\u2060\ufeff\u00a0\u00ad\u202f \t"

# Where hosts put the files of a website, the most usual first.
_USUAL_FOLDERS = (
    "htdocs",
    "public_html",
    "httpdocs",
    "www",
    "web",
    "html",
    "wwwroot",
    "public",
    "webspace",
    "site",
    "pages",
)


@dataclass(frozen=True, slots=True)
class Fix:
    """A button: its label, and the fields it sets."""

    label: str
    changes: tuple[tuple[str, str], ...]


@dataclass(frozen=True, slots=True)
class Diagnosis:
    """A reading of what went wrong, and what can be done about it."""

    sentence: str
    fixes: tuple[Fix, ...] = ()


def to(protocol: Protocol, port: int | None = None) -> Fix:
    """The fix that changes the protocol, and the port with it."""
    port = protocol.port if port is None else port
    return Fix(f"Use {protocol.word} on port {port}", (("protocol", protocol.value), ("port", str(port))))


def of_unreached(
    why: Unreached, host: str, port: int, others: Mapping[int, Greeting], names: Iterable[str] = ()
) -> Diagnosis:
    """Nobody answered. `others` are the servers that answer on other usual ports, `names` other names of the host that
    do exist.

    >>> of_unreached(Unreached.REFUSED, "a.example", 22, {21: Greeting(Speaker.FTP, "220 hi")}).fixes[0].label
    'Use FTP, explicit TLS on port 21'
    """
    if why is Unreached.NO_NAME:
        fixes = tuple(Fix(f"Use {name}", (("host", name),)) for name in names)
        rest = "A similar name exists." if fixes else "Check the name for typing errors."
        return Diagnosis(f"The server {host} was not found. {rest}", fixes)
    if why is Unreached.PROXY:
        return Diagnosis(
            "The proxy blocks the connection, not the server.",
            (Fix("Connect without the proxy", (("proxy_kind", ""),)),),
        )
    found = tuple(fix for other, greeting in others.items() if (fix := _fix_for(greeting.speaker, other)) is not None)
    verb = "is closed" if why is Unreached.REFUSED else "does not answer"
    if found:
        said = ", ".join(
            f"port {other} speaks {one.speaker}" for other, one in others.items() if _fix_for(one.speaker, other)
        )
        return Diagnosis(f"Port {port} {verb}, but {said}.", found)
    return Diagnosis(f"Port {port} of {host} {verb}, and the other usual ports do not answer either.")


def of_speaker(protocol: Protocol, port: int, greeting: Greeting) -> Diagnosis | None:
    """The server speaks another protocol than the one asked for; None where it speaks the right one.

    >>> of_speaker(Protocol.SFTP, 21, Greeting(Speaker.FTP, "220 ready")).sentence
    'Port 21 uses FTP, but you chose SFTP.'
    """
    speaker = greeting.speaker
    asked = protocol.word
    if speaker is Speaker.SILENT:
        return Diagnosis(f"Port {port} accepts connections but sends nothing, with or without TLS. Check the port.")
    fix = _fix_for(speaker, port)
    if speaker is wanted_speaker(protocol):
        return None
    spoken = "FTP inside TLS (implicit)" if speaker is Speaker.TLS else str(speaker)
    if fix is None:
        return Diagnosis(f"Port {port} is used by {spoken}, not by a file server. Check server and port.")
    return Diagnosis(f"Port {port} uses {spoken}, but you chose {asked}.", (fix,))


def of_refusal(
    user: str, host: str, password: str | None, *, has_key: bool, web_domain: str = "", said: str = ""
) -> Diagnosis:
    """The server does not accept the user or the password. Likely slips, the likeliest first; none where it `said`
    that the account
    is locked, as another try would only keep it so.

    >>> [fix.label for fix in of_refusal("Seedlib", "ftp.mosslane.example", "x ", has_key=False).fixes]
    ['Remove the space from the password', 'Try seedlib', 'Try Seedlib@mosslane.example']
    """
    if re.search(r"lock|disabled|suspend|blocked|banned|gesperrt|expired", said, re.IGNORECASE):
        return Diagnosis(
            "The server says that this account is locked. Ask your hosting provider to unlock it. More "
            "attempts would keep it locked."
        )
    fixes: list[Fix] = []
    sentence = "The server rejected the user name or the password."
    if password is not None and password.strip(ODD_IN_SECRETS) != password:
        sentence = "The password begins or ends with a space or an invisible character. That is the most likely cause."
        fixes.append(Fix("Remove the space from the password", (("trim_password", "yes"),)))
    elif has_key and password is None:
        sentence = (
            "The server does not accept this user with this key. Check that its public key is stored with your "
            "hosting provider."
        )
    if user != user.lower():
        fixes.append(Fix(f"Try {user.lower()}", (("user_name", user.lower()),)))
    domain = web_domain or ".".join(host.split(".")[-2:])
    if "@" in user:
        bare = user.partition("@")[0]
        fixes.append(Fix(f"Try {bare}", (("user_name", bare),)))
    elif "." in domain and not domain.replace(".", "").isdigit():
        fixes.append(Fix(f"Try {user}@{domain}", (("user_name", f"{user}@{domain}"),)))
    return Diagnosis(sentence, tuple(fixes))


def of_no_encryption(host: str, offers: Mapping[int, Greeting]) -> Diagnosis:
    """FTP without TLS on the port that was tried. What is safer comes first, plain last and by choice."""
    safer = []
    for port, greeting in offers.items():
        if greeting.speaker is Speaker.SSH:
            safer.append(to(Protocol.SFTP, port))
        elif greeting.speaker is Speaker.TLS:
            safer.append(to(Protocol.FTP_IMPLICIT, port))
    plain = Fix("Connect without encryption", (("protocol", Protocol.FTP.value),))
    if safer:
        return Diagnosis(f"{host} offers no TLS on this port, but it offers a safer protocol.", (*safer, plain))
    sentence = (
        f"{host} offers no encryption. The password was not sent, because anyone on the network path could read it."
    )
    return Diagnosis(sentence, (plain,))


def of_encryption_demanded(port: int) -> Diagnosis:
    """The server lets nobody in over a plain line: TLS on the same port.

    >>> of_encryption_demanded(21).fixes[0].label
    'Use FTP, explicit TLS on port 21'
    """
    sentence = "The server requires encryption before signing in. User name and password may be correct."
    return Diagnosis(sentence, (to(Protocol.FTP_TLS, port),))


def of_weak(wanted: tuple[str, ...]) -> Diagnosis:
    """Only old algorithms on offer."""
    named = ", ".join(wanted[:4]) or "outdated, unsafe algorithms"
    sentence = (
        f"The server supports only {named}. Ask your hosting provider to update it. Until then you can allow "
        "them for this site."
    )
    return Diagnosis(sentence, (Fix("Allow old algorithms for this site", (("old_allowed", "yes"),)),))


def of_cut_hello() -> Diagnosis:
    """The right protocol answers, and the line is cut before the server's key was seen."""
    sentence = (
        "The server uses SSH but closes the connection before it shows its key. It probably supports only outdated "
        "algorithms."
    )
    return Diagnosis(sentence, of_weak(()).fixes)


def of_other_name(host: str, names: Iterable[str], same_address: Iterable[str]) -> Diagnosis | None:
    """A certificate for other names: where one leads to the same address it is the server's right name."""
    same = set(same_address)
    fixes = tuple(
        Fix(f"Use {name} as the server", (("host", name),)) for name in names if name in same and name != host
    )
    if not fixes:
        return None
    return Diagnosis("The certificate is for another name of the same server. Use that name.", fixes[:3])


def of_folder(wanted: str, likely: Iterable[str]) -> Diagnosis:
    """The start folder is not there.

    >>> of_folder("/www", ["/htdocs"]).sentence
    '/www is missing. There is /htdocs.'
    """
    found = list(likely)[:4]
    fixes = tuple(Fix(f"Start in {path}", (("start_there", path),)) for path in (*found, "/") if path != wanted)
    there = f" There is {' and '.join(found)}." if found else ""
    return Diagnosis(f"{wanted} is missing.{there}", fixes)


def of_data_channel(*, passive: bool) -> Diagnosis:
    """The sign-in works and no listing comes: the second connection of FTP is blocked."""
    if passive:
        fix = Fix("Use active mode", (("passive", ""),))
        return Diagnosis(
            "The sign-in works, but the data connection fails: a firewall probably blocks the server's ports.", (fix,)
        )
    fix = Fix("Use passive mode", (("passive", "yes"),))
    return Diagnosis("The sign-in works, but the server cannot connect back to Nailer.", (fix,))


def likely_start_folders(names: Iterable[str], domain: str = "") -> list[str]:
    """Folders of an account's root where a website usually lies, the likeliest first; one named as the domain leads.

    >>> likely_start_folders(["mail", "www", "mosslane.example", "htdocs"], "www.mosslane.example")
    ['/mosslane.example', '/htdocs', '/www']
    """
    there = list(names)
    bare = domain.removeprefix("www.")
    own = [name for name in there if bare and name.lower().removeprefix("www.") == bare]
    usual = [name for wanted in _USUAL_FOLDERS for name in there if name.lower() == wanted]
    return [f"/{name}" for name in dict.fromkeys([*own, *usual])]


def like_names(host: str) -> list[str]:
    """Names much like a server's, for looking whether one of them exists.

    >>> like_names("www.ftp.mosslane.example")
    ['ftp.mosslane.example', 'ftp.ftp.mosslane.example']
    >>> like_names("mosslane.example")
    ['ftp.mosslane.example', 'www.mosslane.example']
    """
    head, _, rest = host.partition(".")
    found = []
    if head in ("www", "ftp", "sftp", "ssh", "web") and "." in rest:
        found.append(rest)
    else:
        rest = host
    found += [f"{word}.{rest}" for word in ("ftp", "www")]
    return [name for name in dict.fromkeys(found) if name != host][:2]


def _fix_for(speaker: Speaker, port: int) -> Fix | None:
    if speaker is Speaker.SSH:
        return to(Protocol.SFTP, port)
    if speaker is Speaker.TLS:
        return to(Protocol.FTP_IMPLICIT, port)
    return to(Protocol.FTP_TLS, port) if speaker is Speaker.FTP else None
