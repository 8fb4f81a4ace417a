"""What comes in with requests, checked at the edge by Pydantic: paths as tokens, picked names, forms."""

from __future__ import annotations

from typing import Annotated, Any, Literal
from urllib.parse import parse_qsl

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, StringConstraints, ValidationError
from starlette.requests import Request

from nailer.core.check.scripts import Repair
from nailer.core.compare.joint import Compare
from nailer.core.compare.ledger import SortBy, View
from nailer.core.files.entry import NS, SideName, Stamp
from nailer.core.files.permissions import PermissionsWish
from nailer.core.files.search import parse_size
from nailer.core.files.sitepath import SitePath, checked_name, name_of_token
from nailer.core.jobs.schedule import Schedule, checked_schedule
from nailer.core.jobs.timers import Clashes, Mail, Missed
from nailer.core.numbers import MOST, number_in
from nailer.core.packages.replacing import Fate, Take
from nailer.core.pairs.wishes import Direction, Doing, Removals, SyncWish
from nailer.core.plans.plan import Answers, Choice
from nailer.core.plans.sieve import CountedAs, RuleGroup, Sieve, Test, checked_pattern, rule_of
from nailer.errors import InvalidInput
from nailer.services.plans import Dropped, Unpacked

_FORM_BYTES = 256 * 1024
_MOST_NAMES = 200_000


class QueryValues:
    """The query of a request, bytes-safe: `%E9` in a path stays that byte."""

    def __init__(self, request: Request) -> None:
        raw = request.scope["query_string"].decode("latin-1")
        self._values = dict(parse_qsl(raw, keep_blank_values=True, errors="surrogateescape"))

    def text(self, name: str, default: str = "") -> str:
        """A value as text."""
        value: str = self._values.get(name, default)
        return value.encode("utf-8", "replace").decode()

    def path(self, name: str) -> SitePath | None:
        """A path, or None where the query has none by that name. Raises InvalidInput."""
        value, token = self._values.get(name), self._values.get(f"{name}_token")
        if value is None:
            # A form cannot send raw bytes, so it sends the path's token.
            return SitePath.of_token(token) if token is not None else None
        return SitePath.parse(value.encode("utf-8", "surrogateescape"))

    def need_path(self, name: str) -> SitePath:
        """A path that the address must hold. Raises InvalidInput."""
        path = self.path(name)
        if path is None:
            raise InvalidInput(f"The address lacks the path '{name}'.")
        return path

    def number(self, name: str, default: int, *, least: int = 0, most: int = 2**62) -> int:
        """A number within its bounds; the default where it is none."""
        number = number_in(self.text(name, str(default)))
        if number is None:
            raise InvalidInput(f"'{name}' must be a number.")
        return min(max(number, least), most)

    def side(self, default: str = "") -> SideName:
        """The side that the address names. Raises InvalidInput."""
        try:
            return SideName(self.text("side", default))
        except ValueError as error:
            raise InvalidInput("A side is 'here' or 'there'.") from error

    def view(self) -> View:
        """How the ledger is sorted and filtered."""
        sort = self.text("sort", "name")
        return View(
            joint=self.text("joint"),
            text=self.text("text"),
            sort=SortBy(sort) if sort in set(SortBy) else SortBy.NAME,
            descending=self.text("down") == "1",
            hidden=self.text("hidden") == "1",
        )


def _path(token: str) -> str:
    SitePath.of_token(token)
    return token


def _name(token: str) -> str:
    name_of_token(token)
    return token


PathToken = Annotated[str, StringConstraints(max_length=16_384), AfterValidator(_path)]
NameToken = Annotated[str, StringConstraints(max_length=1024), AfterValidator(_name)]
Number = Annotated[int, Field(ge=0, le=MOST)]


class _Body(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Picked(_Body):
    """Names picked in a folder pair."""

    here: PathToken
    there: PathToken
    names: list[NameToken] = Field(max_length=_MOST_NAMES)

    @property
    def here_path(self) -> SitePath:
        """The folder here."""
        return SitePath.of_token(self.here)

    @property
    def there_path(self) -> SitePath:
        """The folder there."""
        return SitePath.of_token(self.there)

    @property
    def raw_names(self) -> list[bytes]:
        """The picked names, byte for byte."""
        return [name_of_token(token) for token in self.names]

    @property
    def raw_name(self) -> bytes:
        """Raises InvalidInput unless exactly one name is picked."""
        if len(self.names) != 1:
            raise InvalidInput("Select one file.")
        return self.raw_names[0]


class TransferWish(Picked):
    to_side: SideName
    resend_same: bool = False
    despite_sieves: bool = False


class LookWish(Picked):
    """One file that is to be looked at."""

    side: SideName


class RemoveWish(Picked):
    side: SideName


class FoundWish(_Body):
    """Paths that a search found on one side, and the two folders that stand for each other."""

    here: PathToken
    there: PathToken
    side: SideName
    paths: list[PathToken] = Field(min_length=1, max_length=_MOST_NAMES)

    @property
    def here_path(self) -> SitePath:
        """The folder here."""
        return SitePath.of_token(self.here)

    @property
    def there_path(self) -> SitePath:
        """The folder there."""
        return SitePath.of_token(self.there)

    @property
    def found(self) -> list[SitePath]:
        """The picked paths, byte for byte."""
        return [SitePath.of_token(token) for token in self.paths]


class CopyWish(Picked):
    """Where picked names are to be copied or moved. `site` 0 is the site itself; `to` is a path as typed."""

    side: SideName
    to: str = Field(min_length=1, max_length=4096)
    move: bool = False
    site: Number = 0


class UnpackWish(_Body):
    """An archive that lies unpacked, and where it is to go. `without_top` None: Nailer decides by what is there."""

    to_side: SideName
    folder: PathToken
    name: str = Field(max_length=500)
    token: str = Field(pattern=r"^[0-9a-f]{16}$")
    names: list[NameToken] = Field(max_length=_MOST_NAMES)
    only_folder: NameToken | None = None
    files: Number = 0
    left: list[str] = Field(default_factory=list, max_length=_MOST_NAMES)
    without_top: bool | None = None

    @property
    def unpacked(self) -> Unpacked:
        """What the archive was found to hold."""
        only = name_of_token(self.only_folder) if self.only_folder is not None else None
        names = tuple(name_of_token(name) for name in self.names)
        return Unpacked(self.token, names, only, self.files, tuple(self.left))


class UnpackThereWish(Picked):
    """One archive on the server. `staged` is where it lies unpacked already, when its other reading is asked for."""

    staged: PathToken | None = None
    files: Number = 0
    links: Number = 0
    without_top: bool | None = None


class PackWish(Picked):
    """Picked names that are to be packed into one archive beside them, here."""

    name: str = Field(max_length=1000)


class TypedText(_Body):
    """What is in the editor, with the editor's own state for undoing."""

    text: str = Field(max_length=4_000_000)
    history: str | None = Field(None, max_length=8_000_000)
    based_on: str = Field("", max_length=64)


class SaveWish(TypedText):
    """`based_on` is the version that the page's text began as; `base` is that text, which a page sends once it is told that
    the file was saved from elsewhere meanwhile."""

    based_on: str = Field(min_length=1, max_length=64)
    base: str | None = Field(None, max_length=4_000_000)
    despite_errors: bool = False


class StoreAsWish(_Body):
    """How a file is to be stored from its next save on."""

    encoding: Literal["utf-8", "cp1252", "iso8859-1"]
    mark: bool = False
    line_end: Literal["\n", "\r\n"]


class NewFileWish(_Body):
    side: SideName
    folder: PathToken
    name: str = Field(max_length=1000)
    template: Literal["", "page", "style", "script"] = ""


class ManyPermissionsWish(_Body):
    """What many names are to get; an empty expression leaves files, or folders, as they are."""

    files: str = Field("", max_length=200)
    folders: str = Field("", max_length=200)
    by_purpose: bool = False
    only_risky: bool = False

    @property
    def wish(self) -> PermissionsWish:
        """Which permissions are wished for."""
        return PermissionsWish(self.files.strip(), self.folders.strip(), self.by_purpose)


class OnePermissionsWish(_Body):
    side: SideName
    path: PathToken
    octal: str = Field(pattern=r"^[0-7]{3,4}$")


class SyncWishForm(_Body):
    """How a pair is to be brought into sync."""

    direction: Direction = Direction.LEVEL
    removals: Removals = Removals.ASK

    @property
    def wish(self) -> SyncWish:
        """What is wished for the pair."""
        return SyncWish(self.direction, self.removals)


class ReadWish(SyncWishForm):
    compare: Compare = Compare.SIZE_AND_TIME


class ChooseWish(_Body):
    """A decision on rows of a plan: on some by their numbers, or on all that a filter shows. `doing` is what will be done,
    `newer` for the newer side of each, or empty for what was proposed."""

    numbers: list[Number] = Field(default_factory=list, max_length=_MOST_NAMES)
    everything: bool = False
    group: str = Field("", max_length=20)
    text: str = Field("", max_length=300)
    doing: Literal["", "newer"] | Doing = ""


class MergedWish(_Body):
    text: str = Field(max_length=4_000_000)


class SyncOutWish(_Body):
    """`number` is that of the decision that the page shows."""

    number: int = Field(ge=0, le=2**31)
    typed: str = Field("", max_length=1000)
    guarded_confirmed: bool = False


class PairWays(_Body):
    """How a pair is kept: which sieves it has picked, and whether saves here go up by themselves."""

    sieves: list[Number] = Field(default_factory=list, max_length=1000)
    sends: bool = False
    send_after_s: int = Field(5, ge=1, le=86_400)


class SieveWish(_Body):
    """A sieve as it is built on the page. `rule` is nested conditions as JSON values."""

    name: str = Field(max_length=120)
    rule: dict[str, Any]
    always: list[str] = Field(default_factory=list, max_length=200)
    stays: bool = True
    unseen: bool = False
    everywhere: bool = False
    pair: Number = 0

    @property
    def sieve(self) -> Sieve:
        """Raises InvalidInput, saying what cannot be used."""
        rule = rule_of(_with_bytes(self.rule))
        group = rule if isinstance(rule, RuleGroup) else RuleGroup(CountedAs.ANY, (rule,))
        name = " ".join(self.name.split())
        if not name:
            raise InvalidInput("Give the sieve a name.")
        always = tuple(checked_pattern(one) for one in self.always)
        return Sieve(name, group, always, stays=self.stays, unseen=self.unseen, everywhere=self.everywhere)


def _with_bytes(rule: Any, depth: int = 0) -> Any:
    """Nested conditions with sizes as typed (`8 MB`) turned into bytes. Raises InvalidInput."""
    if not isinstance(rule, dict) or depth > 8:
        return rule
    if isinstance(rule.get("parts"), list):
        return rule | {"parts": [_with_bytes(one, depth + 1) for one in rule["parts"]]}
    if rule.get("test") in (Test.LARGER, Test.SMALLER):
        return rule | {"value": str(parse_size(str(rule.get("value", ""))) or 0)}
    return rule


class OrderWish(_Body):
    sieves: list[Number] = Field(max_length=1000)


class IgnoreWish(_Body):
    text: str = Field(max_length=200_000)


class TimerWish(SyncWishForm):
    """A timer as a person says it: of a pair, or of what a job carries. `spec` goes with `every`."""

    pair: Number = 0
    job: Number = 0
    name: str = Field(max_length=120)
    compare: Compare = Compare.SIZE_AND_TIME
    every: str = Field(max_length=20)
    spec: str = Field(max_length=120)
    zone: str = Field(max_length=60)
    mail: Mail = Mail.TROUBLE
    missed: Missed = Missed.ONCE
    clashes: Clashes = Clashes.STOP

    @property
    def schedule(self) -> Schedule:
        """Raises InvalidInput. Reads the zone's file: not for the event loop."""
        return checked_schedule(self.every, self.spec, self.zone)


class SiteReadWish(_Body):
    """A site is to be read; `account`: all of the account from its home; `others`: with links that lead to other sites."""

    account: bool = False
    others: bool = False


class MendWish(_Body):
    """A button of a card of findings; `first` is the number of the card's first finding."""

    sort: str
    mend: str
    first: int | None = None


class IgnoreFindings(_Body):
    findings: list[int] = Field(max_length=1000)
    why: str = Field(max_length=1000)


class FirstPageWish(_Body):
    """A page of either side that is to be what its folder's address serves."""

    path: PathToken
    side: SideName = SideName.THERE


class VerifiedCopyWish(_Body):
    """A folder there of which a verified copy is taken."""

    path: PathToken


class VersionWish(_Body):
    """Which package gets another version (`path`), or which folder a new package (`into`)."""

    path: PathToken = ""
    into: PathToken = ""

    @property
    def path_there(self) -> SitePath | None:
        """The package."""
        return SitePath.of_token(self.path) if self.path else None

    @property
    def into_there(self) -> SitePath | None:
        """The folder."""
        return SitePath.of_token(self.into) if self.into else None


class VersionHereWish(VersionWish):
    """A version that lies here, in a folder or an archive."""

    here: PathToken


class VersionElsewhereWish(VersionWish):
    """A version that lies on another site."""

    site: Number
    there: str = Field(max_length=4000)


class PackageWish(_Body):
    """A package there."""

    path: PathToken


class ChoiceWish(_Body):
    """What is done with a name below a package; without one, with all names of some fates."""

    below: PathToken = ""
    fates: list[Fate] = Field(default_factory=list, max_length=20)
    take: Take


class InPlaceWish(_Body):
    """Whether files are replaced one by one."""

    wanted: bool


class JoinedWish(MergedWish):
    """A text that was joined, and the name below the package that gets it."""

    below: PathToken


class TypedWish(_Body):
    """A word that is typed to confirm."""

    typed: str = Field("", max_length=1000)


class RestoreWish(_Body):
    """A name below the top of a copy that is to come back; '' for all of it."""

    below: str = Field("", max_length=20_000)


class RestoreToWish(_Body):
    """Where a copy is to be laid down: a folder here, or of another site."""

    site: Number | None = None
    folder: str = Field(min_length=1, max_length=4000)


class CopyTimeWish(_Body):
    """A folder there that is to be copied each day, and how many of the copies stay."""

    path: PathToken
    at: str = Field(max_length=5)
    daily: int = Field(7, ge=0, le=366)
    weekly: int = Field(4, ge=0, le=520)
    monthly: int = Field(12, ge=0, le=240)


class HoursWish(_Body):
    """How long something stays."""

    hours: int = Field(ge=1, le=100_000)


class ScratchWish(HoursWish):
    """A folder for trying something on the live server."""

    why: str = Field("", max_length=300)


class SetAsideWish(_Body):
    """A package that is to have another name for a while."""

    path: PathToken
    why: str = Field("", max_length=300)


class PackageSearchWish(_Body):
    """What breaks a page is to be searched for among packages: the page, and what makes it well."""

    address: str = Field(max_length=2000)
    must: str = Field("", max_length=200)
    must_not: str = Field("", max_length=200)
    paths: list[PathToken] = Field(max_length=1000)


class PageWish(_Body):
    """A page there."""

    path: PathToken


class SmallerWish(_Body):
    """A smaller copy of a picture: its width in pixels, and how much of its quality is kept."""

    path: PathToken
    width: int = Field(ge=1, le=20_000)
    quality: int = Field(ge=20, le=95)


class SavingsWish(_Body):
    """What could go. `fetch`: a copy of it is fetched first."""

    paths: list[PathToken] = Field(max_length=5000)
    fetch: bool = False


class RepairWish(_Body):
    path: PathToken
    repair: Repair


class OwnFileWish(_Body):
    """A file there that is to be edited with a program of one's own. `sends`: each save goes up by itself."""

    path: PathToken
    sends: bool = False


class LeaveOutWish(_Body):
    """What is left out of a plan; with `as_sieve` it stays behind from now on, too."""

    what: Literal["private", "hurting"]
    as_sieve: bool = False


class DroppedFile(_Body):
    """A file a browser offers. `below` are the names from the drop's top; `modified_ms` since 1970, as browsers say."""

    below: list[str] = Field(min_length=1, max_length=200)
    size: Number
    modified_ms: int | None = None


class DropWish(_Body):
    to_side: SideName
    folder: PathToken
    files: list[DroppedFile] = Field(max_length=_MOST_NAMES)

    @property
    def dropped(self) -> list[Dropped]:
        """Raises InvalidInput where a name cannot be used."""
        return [
            Dropped(
                tuple(_checked_part(part) for part in file.below),
                file.size,
                _stamp(file.modified_ms),
            )
            for file in self.files
        ]


def _stamp(since_1970_ms: int | None) -> Stamp | None:
    """A browser's time of a file; one that no file system can hold is not known."""
    ns = None if since_1970_ms is None else since_1970_ms * 1_000_000
    return Stamp(ns, NS) if ns is not None and -(2**63) <= ns < 2**63 else None


class CarryOutWish(_Body):
    choice: Choice = Choice.REPLACE
    clashes: Choice | None = None
    rows: dict[Number, Choice] = Field(default_factory=dict, max_length=1000)
    guarded_confirmed: bool = False
    typed: str = Field("", max_length=1000)

    @property
    def answers(self) -> Answers:
        """What was decided of files that are there already."""
        return Answers(self.choice, self.clashes, self.rows)


class NewFolderWish(_Body):
    side: SideName
    folder: PathToken
    name: str = Field(max_length=1000)


class PinWish(_Body):
    here: PathToken
    there: PathToken
    pinned: bool


class PathWish(_Body):
    side: SideName
    path: PathToken


class TrayTransferWish(_Body):
    to_side: SideName


class KeepWish(PathWish):
    until: str = Field("", max_length=10)
    why: str = Field("", max_length=1000)


class RenameWish(_Body):
    side: SideName
    path: PathToken
    name: str = Field(max_length=1000)


def _checked_part(part: str) -> bytes:
    return checked_name(part.encode("utf-8", "surrogateescape"))


def typed_name(text: str) -> bytes:
    """A name as a person types it: blanks round it are a slip. Raises InvalidInput."""
    name = text.strip()
    if any(ord(letter) < 32 or ord(letter) == 127 for letter in name):
        raise InvalidInput("A name cannot contain line breaks or other control characters.")
    return _checked_part(name)


async def read_form(request: Request) -> dict[str, str]:
    """A plain form, bounded in size; several values of one name keep the last. Raises InvalidInput."""
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > _FORM_BYTES:
            raise InvalidInput("The upload is too large.")
    try:
        pairs = parse_qsl(body.decode("utf-8"), keep_blank_values=True, max_num_fields=200)
    except (UnicodeDecodeError, ValueError) as error:
        raise InvalidInput("The request could not be read.") from error
    return dict(pairs)


def reason_of(error: ValidationError) -> str:
    """A validation error as a sentence."""
    first = error.errors()[0]
    where = ".".join(str(part) for part in first["loc"])
    return f"{where or 'What was sent'}: {first['msg']}"
