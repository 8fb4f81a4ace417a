"""Reading a letter: the account's details out of the text a host sent, whatever its labels are called.

A letter is read in four passes. (1) Labels: words of several languages that name a field, each with the value that
stands beside, below or in the column under it. (2) Context: a heading such as "E-mail" or "Database", or a label such as
"MySQL user", takes what follows out of the running. (3) Shapes: a server, a path, an address that no label named is
taken as a guess, and says so. (4) What is left and looks like a detail is listed as left aside, with the reason.

Nothing is stored here and nothing is logged; the caller forgets the text.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field, replace
from enum import StrEnum
from functools import lru_cache
from urllib.parse import unquote, urlsplit

from nailer.core.connecting.protocol import Protocol
from nailer.core.connecting.structured import laid_out

ODD = "\u200b\u200c\u200d\u2060\ufeff\u00a0\u00ad\u202f\u2009"
_QUOTES = "\"'`“”„«»‘’‹›"
_MOST_LETTERS = 40_000
_LONGEST_LINE = 1000
_ENDLESS = re.compile(r"\S{501,}")
_MOST_ASIDES = 200
_MOST_ACCOUNTS = 20


class Field(StrEnum):
    """What a part of a letter can be."""

    HOST = "host"
    USER = "user_name"
    PASSWORD = "password"  # the name of a field
    PORT = "port"
    PROTOCOL = "protocol"
    FOLDER = "start_there"
    WEB = "web_address"


@dataclass(frozen=True, slots=True)
class FieldFound:
    """A value for a field: where in the text it stands (None: nowhere), whether it is a guess, and why it was taken."""

    value: str = field(repr=False)
    why: str
    guessed: bool = False
    start: int | None = None
    end: int | None = None


@dataclass(frozen=True, slots=True)
class Aside:
    """Something that looks like a detail and was left aside, and the reason. `secret`: it is a password of its own."""

    start: int
    end: int
    why: str
    secret: bool = False


@dataclass(frozen=True, slots=True)
class LetterAccount:
    """One account of a letter."""

    fields: dict[Field, FieldFound]


@dataclass(frozen=True, slots=True)
class LetterReading:
    """What a text says. `accounts` has at least one, maybe empty. `notes` are sentences about invisible characters and
    choices. `blanks` are the places of invisible characters that were dropped or matter."""

    accounts: tuple[LetterAccount, ...]
    asides: tuple[Aside, ...]
    notes: tuple[str, ...]
    blanks: tuple[tuple[int, int], ...]


# Labels by field, in the languages hosts in western Europe write; longer ones first, so that "user name" beats "user".
_LABELS: tuple[tuple[Field, str], ...] = (
    (
        Field.PASSWORD,
        r"(?:(?:ftp|sftp|ssh|initial|your|access)[-_ ]?)?(?:pass\s?word|passwort|kennwort|mot de passe|contraseña|wachtwoord"
        r"|senha|parola chiave|lösenord|hasło|adgangskode|passord|pwd|pass)",
    ),
    (
        Field.PORT,
        r"(?:(?:ftp|sftp|ssh|ftps|server|tcp)[-_ /]?)?(?:port(?:e|a|nummer| number)?|puerto|poort|portti)",
    ),
    (
        Field.PROTOCOL,
        r"(?:connection type|protocol(?:e|lo|o)?|protokoll?|verbindungsart|verschlüsselung|encryption|transfer mode|type de connexion"
        r"|versleuteling)",
    ),
    (
        Field.FOLDER,
        r"(?:(?:start|web|home|root|upload|remote|document|target)[-_ ]?)?(?:document ?root|webroot|folder|directory|path|verzeichnis"
        r"|zielordner|ordner|pfad|répertoire|dossier|carpeta|directorio|cartella|map|mappe|katalog)(?: (?:there|web|distant|raíz|root))?"
        r"|(?:files|pages|website) (?:go|belong|goes) (?:in|into|to)|upload (?:them |your (?:pages|files|website) )?(?:in)?to",
    ),
    (
        Field.USER,
        r"(?:(?:ftp|sftp|ssh|web|system|main)[-_ ]?)?(?:user[-_ ]?(?:name|id)?|login(?:[-_ ]?name)?|benutzer(?:name|kennung)?|nutzername"
        r"|zugangskennung|account(?:[-_ ]?name)?|nom d[’']utilisateur|utilisateur|identifiant|usuario|nombre de usuario|gebruiker(?:snaam)?"
        r"|inlognaam|utente|nome utente|användarnamn|brukernavn|brugernavn|użytkownik|sign[-_ ]?in(?: name)?)",
    ),
    (
        Field.HOST,
        r"(?:(?:ftp|sftp|ssh|ftps|web|file)(?:[/ _-](?:ftp|sftp|ssh|ftps))*[-_ ]?)?(?:server(?:name|adresse| name| address)?|host(?:[-_ ]?name)?"
        r"|rechner|serveur|hôte|hote|adresse du serveur|servidor|serveradres|nom d[’']hôte)|(?:s?ftp|ssh)(?:[-_ ]?(?:address|adresse|zugang|access))",
    ),
    (
        Field.WEB,
        r"(?:web[-_ ]?(?:site|address|adresse|seite)|internet[-_ ]?(?:address|adresse)|domain(?: ?name)?|domaine|dominio|domein|site ?web"
        r"|sitio web|url|homepage)",
    ),
)
_ANY_LABEL = re.compile(
    "|".join(f"(?P<f{number}>{pattern})" for number, (_, pattern) in enumerate(_LABELS)), re.IGNORECASE
)
# Once a mark stands between label and value, all else belongs to the value: a password may begin with any sign.
_LINK = re.compile(
    r"[ \t]*(?:\([^)\n]{0,40}\)[ \t]*)?(?:\.{3,}[ \t]*:?|:|=|->|→|–|\||\t|[ \t]{2,}|(?=[ \t]*[\"“„«`]))\s*"
)
_SAID_LINK = re.compile(r"\s+(?:is|are|ist|lautet|est|es|è|är|er|jest)\s*:?\s+", re.IGNORECASE)
_WEAK_LINK = re.compile(r"\s+(?!and\b|und\b|et\b|y\b|or\b|oder\b|en\b)", re.IGNORECASE)

_DOMAIN = r"(?:[a-z0-9](?:[a-z0-9-]{0,61}[a-z0-9])?\.)+[a-z]{2,24}"
_HOST = re.compile(rf"(?<![@\w./-])(?:{_DOMAIN}|\d{{1,3}}(?:\.\d{{1,3}}){{3}})(?![\w@-])", re.IGNORECASE)
_URL = re.compile(r"\b(?:sftp|ssh|ftps?|ftpes|https?)://[^\s<>\"”»]+", re.IGNORECASE)
_MAIL = re.compile(rf"[\w.+-]+@{_DOMAIN}", re.IGNORECASE)
_PATH = re.compile(r"(?<![\w:/.])(?:~|\.)?/[\w.@~+-]+(?:/[\w.@~+-]+)*/?|(?<![\w/])[\w.-]+(?:/[\w.-]+)*/(?=[\s.,;)]|$)")
_FOLDER_NAMES = ("htdocs", "public_html", "httpdocs", "www", "web", "html", "public", "wwwroot", "site", "webspace")
_NUMBER = re.compile(r"(?<![\w.,-])\d{1,5}(?![\w.,-]*\w)")

# What a heading or the words of a label take out of the running.
_CONTEXTS: tuple[tuple[str, str], ...] = (
    ("a name server", r"\bname ?-?servers?\b|\bdns\b|\bnameserver|\bserveurs? de noms?\b|\bns\d\b"),
    (
        "mail, not files",
        r"\be-?mail\b|\bimap\b|\bsmtp\b|\bpop3\b|\bwebmail\b|\bpostfach\b|\bposteingang|\bpostausgang|\bmailbox\b|\bcourrier\b|\bcorreo\b",
    ),
    (
        "a database",
        r"\bmysql\b|\bdatabases?\b|\bdatenbank\w*|\bmariadb\b|\bbase de donn|\bbase de datos\b|\bpostgres\w*|\bdb[- ]",
    ),
    (
        "the hosting provider's customer area",
        r"\bcustomer (?:pages?|area|centre|center|portal|menu|login)\b|\bcontrol ?panel\b|\bclient area\b|\bkunden(?:bereich|men[uü]|center|login|konto)\w*"
        r"|\bespace client\b|\bpanel de control\b|\b[a-z]*panel\b|\bdashboard\b|\bklantenpaneel\b|\badministration\b|\bmy\.[a-z]",
    ),
    (
        "a contact",
        r"\bsupport\b|\bquestions?\b|\bhelp ?desk\b|\bfragen\b|\bphone\b|\btelefon\b|\bcontact\b|\bhotline\b|\baide\b|\bayuda\b|\bhulp\b",
    ),
    (
        "your customer number",
        r"\bcustomer (?:number|no|id)\b|\bkunden(?:nummer|nr)\b|\binvoice\b|\brechnung\w*|\bn° de client\b|\bcontract\b|\bvertrag\w*",
    ),
)
_CONTEXT = tuple((why, re.compile(pattern, re.IGNORECASE)) for why, pattern in _CONTEXTS)
_FILES = re.compile(
    r"\b(?:s?ftps?|ssh|file ?(?:transfer|access|upload)|webspace|web ?space|dateien|fichiers|archivos|bestanden)\b",
    re.IGNORECASE,
)
_TRAILING = ".,;:!?)]}" + _QUOTES


def read(text: str) -> LetterReading:
    """What a letter or an address says.

    >>> found = read("FTP server: ftp.mosslane.example\\nLogin: seedlib\\nUpload to /www").accounts[0].fields
    >>> found[Field.HOST].value, found[Field.USER].value, found[Field.FOLDER].value, found[Field.PORT].value
    ('ftp.mosslane.example', 'seedlib', '/www', '21')
    """
    text = without_endless_words(text[:_MOST_LETTERS])
    if (data := laid_out(text)) is not None:
        return _Letter(data.text, text, data.plain).read()
    if (address := _as_address(text)) is not None:
        return address
    return _Letter(text).read()


def without_endless_words(text: str) -> str:
    """The text with blanks, one for one, for words longer than any detail of a host: rules of hyphens, encoded pictures.

    The shapes are looked for within words, which costs the square of a word's length.

    >>> without_endless_words("Login: seedlib\\n" + "-" * 600).rstrip()
    'Login: seedlib'
    """
    return _ENDLESS.sub(lambda found: " " * len(found[0]), text)


def read_address(text: str) -> dict[Field, FieldFound]:
    """The parts of one address (RFC 3986), or of `user@host:/path`. A web address gives only its host, and itself.

    >>> {what.value: str(found.value) for what, found in read_address("sftp://maren@skerry.example:2222/htdocs").items()}
    {'host': 'skerry.example', 'protocol': 'sftp', 'port': '2222', 'user_name': 'maren', 'start_there': '/htdocs'}
    """
    copied = re.fullmatch(rf"(?P<user>[^@\s/:]+)@(?P<host>{_DOMAIN}|[\d.]+):(?P<path>[~/]\S*)?", text, re.IGNORECASE)
    if copied:
        text = f"ssh://{copied['user']}@{copied['host']}{copied['path'] or ''}"
    elif "://" not in text:
        text = f"//{text}"
    try:
        parts = urlsplit(text)
        port = parts.port
    except ValueError:
        return {}
    if not parts.hostname:
        return {}
    found = {Field.HOST: FieldFound(parts.hostname, "from the address")}
    scheme = parts.scheme.lower()
    if scheme in ("http", "https"):
        base = f"{scheme}://{parts.netloc.rpartition('@')[2]}{parts.path.rpartition('/')[0]}/"
        return found | {Field.WEB: FieldFound(base, "the web address you pasted")}
    protocol = _SCHEMES.get(scheme)
    if scheme == "ftp":
        found[Field.PROTOCOL] = FieldFound(
            Protocol.FTP_TLS, "the address says FTP; Nailer tries encryption first", True
        )
    elif protocol is not None:
        found[Field.PROTOCOL] = FieldFound(protocol, "from the address")
    if port is not None:
        found[Field.PORT] = FieldFound(str(port), "from the address")
    if parts.username:
        found[Field.USER] = FieldFound(unquote(parts.username), "from the address")
    if parts.password:
        found[Field.PASSWORD] = FieldFound(
            unquote(parts.password), "from the address; stored encrypted, not in the stored address"
        )
    if parts.path not in ("", "/"):
        found[Field.FOLDER] = FieldFound(unquote(parts.path), "from the address")
    return found


_SCHEMES = {
    "sftp": Protocol.SFTP,
    "ssh": Protocol.SFTP,
    "ftps": Protocol.FTP_IMPLICIT,
    "ftpes": Protocol.FTP_TLS,
    "ftp": Protocol.FTP_TLS,
}


def _as_address(text: str) -> LetterReading | None:
    """The reading of a text that is one address and nothing else."""
    bare = text.strip().strip(ODD).strip(_QUOTES)
    if not bare or re.search(r"\s", bare) or not re.search(r"[.:/@]|^localhost$", bare):
        return None
    found = read_address(bare)
    if not found:
        return None
    start = text.index(bare)
    for what, one in found.items():
        at = bare.find(one.value) if what is not Field.PROTOCOL else -1
        if at >= 0:
            found[what] = replace(one, start=start + at, end=start + at + len(one.value))
    notes = () if bare == text.strip() else ("Invisible characters around the address were removed.",)
    return LetterReading((LetterAccount(_completed(found, "")),), (), notes, ())


@dataclass(slots=True)
class _Line:
    """A line of a letter: where it starts, its text, and what its context says it is about ('' for files)."""

    start: int
    text: str
    context: str


class _Letter:
    """One reading under way."""

    def __init__(self, text: str, original: str = "", plain: Callable[[str], str] = str) -> None:
        """`text` is what is read; values are taken out of the `original`, which is as long, and made `plain`."""
        self._text = text
        self._original, self._plain = original or text, plain
        self._lines = list(_lines(text))
        self._accounts: list[dict[Field, FieldFound]] = [{}]
        self._asides: list[Aside] = []
        self._notes: list[str] = []
        self._blanks: list[tuple[int, int]] = []

    def read(self) -> LetterReading:
        """Go through the letter: tables first, then labels, then whatever looks like a value by itself."""
        self._read_tables()
        for number, line in enumerate(self._lines):
            self._read_line(number, line)
        self._read_addresses()
        for account in self._accounts:
            self._guess(account)
        accounts = [one for one in self._accounts if Field.HOST in one or Field.USER in one] or [{}]
        self._share(accounts)
        self._leave_aside(accounts)
        done = tuple(LetterAccount(_completed(one, self._text)) for one in accounts)
        if len(done) > 1:
            self._notes.append(
                f"The letter holds {len(done)} accounts; the first is shown. Select another above the fields."
            )
        asides = sorted(self._asides, key=lambda one: one.start)
        return LetterReading(done, tuple(asides), tuple(dict.fromkeys(self._notes)), tuple(self._blanks))

    def _read_tables(self) -> None:
        """A row of labels above rows of values."""
        for number, line in enumerate(self._lines[:-1]):
            heads = _cells(line.text)
            kinds = [_whole_label(text) for _, text in heads]
            if len(heads) < 2 or sum(kind is not None for kind in kinds) < max(2, len(heads) - 1):
                continue
            for row in self._lines[number + 1 :]:
                cells = _cells(row.text)
                if len(cells) != len(heads):
                    break
                for kind, (at, value) in zip(kinds, cells, strict=True):
                    if kind is not None:
                        self._take(kind, value, row.start + at, heads[kinds.index(kind)][1], row.context, exact=True)
                row.context = row.context or "read"
            line.context = "read"

    def _read_line(self, number: int, line: _Line) -> None:
        if line.context == "read":
            return
        labels = [one for one in _ANY_LABEL.finditer(line.text) if _stands_alone(line.text, one)]
        for place, label in enumerate(labels):
            what = _LABELS[int((label.lastgroup or "f0")[1:])][0]
            end = labels[place + 1].start() if place + 1 < len(labels) else len(line.text)
            link = _SAID_LINK.match(line.text, label.end())
            said = link is not None
            link = link or _LINK.match(line.text, label.end())
            strong = link is not None
            link = link or _WEAK_LINK.match(line.text, label.end())
            label_words = line.text[max(0, label.start() - 24) : label.end()]
            # A domain stands last in many letters, under whatever heading came before.
            context = _context_of(label_words) or ("" if what is Field.WEB else line.context)
            if link is not None and line.text[link.end() : end].strip():
                shown = line.text[: label.end()].strip() if strong and not place else label[0]
                self._take(
                    what, line.text[link.end() : end], line.start + link.end(), shown, context, exact=strong, said=said
                )
                continue
            below = self._below(number) if not line.text[label.end() :].strip(" :|=") else None
            if below is not None and not line.text[: label.start()].strip(" *-•"):
                self._take(what, below.text, below.start, label[0], context or below.context, exact=True)

    def _below(self, number: int) -> _Line | None:
        """The next line that holds anything, where it is a bare value."""
        for line in self._lines[number + 1 : number + 3]:
            if line.text.strip():
                found = _ANY_LABEL.match(line.text.strip())
                return None if found and _LINK.match(line.text.strip(), found.end()) else line
        return None

    def _take(
        self, what: Field, region: str, at: int, label: str, context: str, *, exact: bool, said: bool = False
    ) -> None:
        """Take a value for a field out of the region behind its label. `said`: it stands in a sentence."""
        found = _value_in(what, region, exact=exact, said=said)
        if found is None:
            return
        start, end = at + found[0], at + found[1]
        if context and context != "read":
            self._put_aside(start, end, context, secret=what is Field.PASSWORD)
            return
        value = self._cleaned(what, start, end)
        if not value:
            return
        account = self._accounts[-1]
        known = account.get(what)
        if known is not None and known.value != value:
            if what in (Field.HOST, Field.USER) and (Field.USER in account or what is Field.HOST):
                if what is Field.HOST and Field.USER not in account:
                    self._put_aside(start, end, "a second server; the first one named is taken")
                    return
                if len(self._accounts) == _MOST_ACCOUNTS:
                    self._notes.append(
                        f"The letter contains more than {_MOST_ACCOUNTS} accounts. The others were ignored."
                    )
                    return
                self._accounts.append({})
                account = self._accounts[-1]
            elif what in (Field.WEB, Field.FOLDER, Field.PORT, Field.PROTOCOL):
                return
        shown = " ".join(label.split())[-40:]
        account.setdefault(what, FieldFound(value, f"beside “{shown}”", False, start, end))

    def _cleaned(self, what: Field, start: int, end: int) -> str:
        """The value without what was copied along unseen. A password is left as it is, and reported."""
        raw = self._plain(self._original[start:end])
        after = re.match(rf"[ \t{ODD}]+(?=\r?\n|$)", self._text[end:])
        odd = [one for one in raw if one in ODD]
        if what is Field.PASSWORD:
            if after:
                self._blanks.append((end, end + after.end()))
                self._notes.append("There is a space after the password in the letter. It was not copied.")
            if odd:
                self._notes.append(
                    "The password contains invisible characters. They were kept. If the sign-in fails, remove them first."
                )
            return raw
        if after:
            self._blanks.append((end, end + after.end()))
            self._notes.append(f"A space after the {_SAID[what]} was removed.")
        if odd:
            self._notes.append(f"Invisible characters in the {_SAID[what]} were removed.")
        value = raw.translate({ord(one): None for one in ODD}).strip()
        if what is Field.HOST:
            value = re.sub(r"^\w+://", "", value).split("/")[0].lower()
        elif what is Field.FOLDER:
            value = value if value.startswith(("/", "~")) else f"/{value.removeprefix('./')}"
            value = value.rstrip("/") or "/"
        elif what is Field.WEB:
            value = value if "://" in value else f"https://{value.lower()}"
            value = value.rstrip("/") + "/"
        elif what is Field.PROTOCOL:
            return _protocol_of(value) or ""
        return value

    def _read_addresses(self) -> None:
        """Addresses with a scheme of file transfer anywhere in the letter hold everything at once."""
        for found in _URL.finditer(self._text):
            shown = found[0].rstrip(_TRAILING)
            scheme = shown.partition(":")[0].lower()
            if scheme in ("http", "https"):
                continue
            parts = read_address(shown)
            account = self._accounts[0]
            for what, one in parts.items():
                at = shown.find(one.value)
                place = (found.start() + at, found.start() + at + len(one.value)) if at >= 0 else (None, None)
                account.setdefault(
                    what, replace(one, why="from the address in the letter", start=place[0], end=place[1])
                )

    def _guess(self, account: dict[Field, FieldFound]) -> None:
        """What no label named, by its shape."""
        if Field.HOST not in account and (host := self._likely_host()) is not None:
            account[Field.HOST] = host
        if Field.FOLDER not in account and (folder := self._likely_folder()) is not None:
            account[Field.FOLDER] = folder
        if Field.WEB not in account and (web := self._likely_web(account)) is not None:
            account[Field.WEB] = web

    def _likely_host(self) -> FieldFound | None:
        ranked: list[tuple[int, re.Match[str]]] = []
        for line, found in self._shapes(_HOST):
            score = 4 * bool(re.match(r"(?:s?ftp|ssh)\d*[.-]", found[0], re.IGNORECASE))
            score += 2 * bool(_FILES.search(line.text)) + bool(
                re.match(r"(?:srv|server|host|web|www)\d*[.-]", found[0])
            )
            ranked.append((score, found))
        best = max(ranked, key=lambda one: one[0], default=None)
        if best is None or (best[0] == 0 and len(ranked) > 1):
            return None
        why = "the only server named" if len(ranked) == 1 else "its name looks like a file server"
        return FieldFound(best[1][0].lower(), f"guessed: {why}", True, best[1].start(), best[1].end())

    def _likely_folder(self) -> FieldFound | None:
        for line, found in self._shapes(_PATH):
            words = line.text.lower()
            shown = found[0].rstrip(_TRAILING)
            telling = any(name in shown.lower() for name in _FOLDER_NAMES) or re.search(
                r"domain|web|site|upload|pages", words
            )
            if telling and "//" not in line.text[max(0, found.start() - line.start - 8) : found.end() - line.start]:
                value = shown if shown.startswith(("/", "~")) else f"/{shown}"
                end = found.start() + len(shown)
                return FieldFound(value.rstrip("/"), "guessed: a folder the letter names", True, found.start(), end)
        return None

    def _likely_web(self, account: dict[Field, FieldFound]) -> FieldFound | None:
        host = account[Field.HOST].value if Field.HOST in account else ""
        for line, found in self._shapes(_URL):
            if found[0].lower().startswith("http") and not line.context:
                return FieldFound(
                    found[0].rstrip(_TRAILING).rstrip("/") + "/",
                    "guessed: a web address in the letter",
                    True,
                    found.start(),
                    found.end(),
                )
        for _, found in self._shapes(_HOST):
            name = found[0].lower()
            if name != host and not re.match(r"(?:s?ftp|ssh|mail|imap|smtp|ns\d)", name):
                return FieldFound(f"https://{name}/", "guessed from the letter", True, found.start(), found.end())
        bare = re.sub(r"^(?:s?ftp|ssh|www)\d*\.", "", host)
        if bare != host and re.fullmatch(_DOMAIN, bare):
            return FieldFound(f"https://{bare}/", "guessed from the server's name", True)
        return None

    def _shapes(self, shape: re.Pattern[str]) -> Iterator[tuple[_Line, re.Match[str]]]:
        """Everything of a shape in lines that are not about something else, with places in the whole text."""
        for line in self._lines:
            if line.context and line.context != "read":
                continue
            for found in shape.finditer(self._text, line.start, line.start + len(line.text)):
                around = self._text[max(line.start, found.start() - 40) : found.end()]
                inside_mail = any(
                    one.start() <= found.start() < one.end()
                    for one in _MAIL.finditer(self._text, line.start, found.end() + 40)
                )
                if not inside_mail and not _context_of(around) and not self._is_taken(found.start()):
                    yield line, found

    def _is_taken(self, at: int) -> bool:
        return any(
            one.start is not None and one.end is not None and one.start <= at < one.end
            for account in self._accounts
            for one in account.values()
        )

    def _share(self, accounts: list[dict[Field, FieldFound]]) -> None:
        """Several accounts at one host: what only one of them says holds for all."""
        for what in (Field.HOST, Field.PORT, Field.PROTOCOL):
            said = next((one[what] for one in accounts if what in one), None)
            if said is not None:
                for account in accounts:
                    account.setdefault(what, replace(said, why=f"{said.why}, as for the other account"))

    def _leave_aside(self, accounts: list[dict[Field, FieldFound]]) -> None:
        """What looks like a detail and was not used, with the reason."""
        taken = [(one.start, one.end) for account in accounts for one in account.values() if one.start is not None]
        begins = [one.start for one in self._lines]
        for shape, usual in ((_MAIL, "a mail address"), (_URL, "another address"), (_HOST, "another name")):
            for found in shape.finditer(self._text):
                start, end = found.start(), found.start() + len(found[0].rstrip(_TRAILING))
                if any(at is not None and to is not None and start < to and at < end for at, to in taken):
                    continue
                line = self._lines[bisect_right(begins, start) - 1]
                said = _context_of(line.text) or (line.context if line.context != "read" else "")
                self._put_aside(start, end, usual if shape is _MAIL else said or usual)
        for line in self._lines:
            if _CONTEXT[-1][1].search(line.text) or re.search(r"\bnumber\b|\bnummer\b", line.text, re.IGNORECASE):
                for found in re.finditer(r"(?<![\w.])\d{4,}(?![\w.]*\w)", line.text):
                    start, end = line.start + found.start(), line.start + found.end()
                    if not any(at is not None and to is not None and start < to and at < end for at, to in taken):
                        self._put_aside(start, end, "your customer number")

    def _put_aside(self, start: int, end: int, why: str, *, secret: bool = False) -> None:
        free = not any(one.start < end and start < one.end for one in self._asides)
        if free and len(self._asides) < _MOST_ASIDES:
            self._asides.append(Aside(start, end, why, secret))


_SAID = {
    Field.HOST: "server",
    Field.USER: "user name",
    Field.PASSWORD: "password",
    Field.PORT: "port",
    Field.PROTOCOL: "protocol",
    Field.FOLDER: "start folder",
    Field.WEB: "web address",
}


def _lines(text: str) -> Iterator[_Line]:
    """The lines with what each is about: its own words first, else the heading it stands under."""
    start, heading = 0, ""
    blank_before = True
    for line in _pieces(text):
        bare = line.rstrip("\r\n")
        own = _context_of(bare)
        if not bare.strip():
            blank_before = True
        elif _is_heading(bare):
            heading = "" if _FILES.search(bare) else own
        elif blank_before and heading and _FILES.search(bare) and not own:
            heading = ""
        if bare.strip():
            blank_before = False
        yield _Line(start, bare, own if own and not _FILES.search(bare) else heading)
        start += len(line)


def _pieces(text: str) -> Iterator[str]:
    """The lines with their ends; one that is as long as a page comes in pieces, cut at blanks."""
    for line in text.splitlines(keepends=True):
        at = 0
        while len(line) - at > _LONGEST_LINE:
            blank = line.rfind(" ", at, at + _LONGEST_LINE)
            cut = blank + 1 if blank > at else at + _LONGEST_LINE
            yield line[at:cut]
            at = cut
        yield line[at:]


def _is_heading(text: str) -> bool:
    """A short line without a value: what stands below belongs to it."""
    bare = text.strip(" \t#*=-:•")
    if not bare or len(bare) > 60 or _HOST.search(bare) or _MAIL.search(bare):
        return False
    if re.search(r"[:=\t]\s*\S", text.strip(" \t#*=-•")):
        return False
    return (bool(_context_of(bare)) or bool(_FILES.search(bare))) and _whole_label(bare) is None


@lru_cache(maxsize=1024)  # a line is asked about once for each thing in it
def _context_of(text: str) -> str:
    for why, pattern in _CONTEXT:
        if pattern.search(text):
            return why
    return ""


def _cells(text: str) -> list[tuple[int, str]]:
    """The cells of a row by tabs, bars or wide gaps, each with its place."""
    if "\t" not in text and "|" not in text and not re.search(r"\S {3,}\S", text):
        return []
    return [(one.start(), one[0].rstrip()) for one in re.finditer(r"[^\s|][^\t|]*?(?=\t|\s*\||\s{3,}|$)", text)]


def _whole_label(text: str) -> Field | None:
    """The field a text names where it is nothing but a label."""
    bare = text.strip(" \t:*")
    found = _ANY_LABEL.fullmatch(bare)
    return _LABELS[int((found.lastgroup or "f0")[1:])][0] if found else None


def _stands_alone(line: str, label: re.Match[str]) -> bool:
    """A label is whole words, and no part of an address or a path."""
    before, after = line[: label.start()], line[label.end() :]
    if before and (before[-1].isalnum() or before[-1] in "./@_"):
        return False
    return not (after and (after[0].isalnum() or after[0] in "./@_" or after.startswith("://")))


def _value_in(what: Field, region: str, *, exact: bool, said: bool) -> tuple[int, int] | None:
    """Where in the region behind a label the value stands."""
    if what in (Field.HOST, Field.WEB):
        found = _URL.search(region) or _HOST.search(region)
        return _span(found) if found else None
    if what is Field.PORT:
        number = _NUMBER.search(region[:40])
        return number.span() if number and 1 <= int(number[0]) <= 65535 else None
    if what is Field.FOLDER:
        path = _PATH.search(region)
        if path:
            return _span(path)
        word = re.match(rf"\W*((?:{'|'.join(_FOLDER_NAMES)})[\w/.-]*)", region, re.IGNORECASE)
        return (word.start(1), word.start(1) + len(word[1].rstrip(_TRAILING))) if word else None
    if what is Field.PROTOCOL:
        return (0, len(region)) if _protocol_of(region) else None
    return _word_in(what, region, exact=exact, said=said)


def _word_in(what: Field, region: str, *, exact: bool, said: bool) -> tuple[int, int] | None:
    """A user name or a password: one word, up to a wide gap; quotes round it are not a part of it."""
    found = re.match(rf"[ \t]*(?P<open>[{_QUOTES}]?)(?P<word>[^\s]+)", region)
    if found is None:
        return None
    start, end = found.span("word")
    word = found["word"]
    if found["open"]:
        closed = re.search(rf"[{_QUOTES}]", word)
        end = start + closed.start() if closed else end
    elif said or not exact or (what is Field.USER and word[-1] in ",;)"):
        end = start + len(word.rstrip(_TRAILING))
    elif word[-1] == "." and re.search(r"\s\S", region[:start].strip() or " "):
        end -= 1
    if not exact and not (found["open"] or re.search(r"[\d@_.-]", region[start:end])):
        return None  # a word of prose, such as "user and password"
    return (start, end) if end > start else None


def _span(found: re.Match[str]) -> tuple[int, int]:
    return found.start(), found.start() + len(found[0].rstrip(_TRAILING))


def _protocol_of(text: str) -> Protocol | None:
    """The safest protocol a text names; FTP alone is taken as FTP with encryption, which is tried first."""
    if re.search(r"\bsftp\b|\bssh\b", text, re.IGNORECASE):
        return Protocol.SFTP
    if re.search(r"\bimplicit|\bimplizit|\bimplicite", text, re.IGNORECASE):
        return Protocol.FTP_IMPLICIT
    if re.search(r"\bftps\b|\bftpes\b|\btls\b|\bssl\b|\bexpli[cz]it|\bftp\b", text, re.IGNORECASE):
        return Protocol.FTP_TLS
    return None


def _completed(found: dict[Field, FieldFound], text: str) -> dict[Field, FieldFound]:
    """With protocol and port where the letter leaves them open, each with its reason."""
    port = found[Field.PORT].value if Field.PORT in found else ""
    if Field.PROTOCOL not in found:
        protocol, why = _likely_protocol(found, text, port)
        found[Field.PROTOCOL] = FieldFound(protocol, why, True)
    protocol = Protocol(found[Field.PROTOCOL].value)
    if not port:
        found[Field.PORT] = FieldFound(str(protocol.port), f"not given: {protocol.port} for {protocol.word}", True)
    return {what: found[what] for what in Field if what in found}


def _likely_protocol(found: dict[Field, FieldFound], text: str, port: str) -> tuple[Protocol, str]:
    if port == "22" or re.search(r"\bssh[-_ ]?port|\bsftp[-_ ]?port", text, re.IGNORECASE):
        return Protocol.SFTP, "guessed: an SSH port is given"
    if port == "990":
        return Protocol.FTP_IMPLICIT, "guessed: 990 is the port of FTP with implicit TLS"
    host = found[Field.HOST].value if Field.HOST in found else ""
    named = _protocol_of(f"{text} {host.partition('.')[0]}")
    if named is Protocol.SFTP:
        return named, "guessed: the letter mentions SFTP or SSH"
    if named is not None or port == "21":
        return named or Protocol.FTP_TLS, "guessed: the letter mentions FTP; Nailer tries encryption first"
    return Protocol.SFTP, "guessed: the letter names no protocol; SFTP is the safest and most common"
