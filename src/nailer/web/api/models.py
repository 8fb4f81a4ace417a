"""What the API takes and gives. Paths are percent-encoded, so that every byte of a name survives; times are UTC."""

from __future__ import annotations

from datetime import UTC, datetime
from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

from nailer.core.compare.joint import Compare
from nailer.core.files.entry import Entry, Kind, SideName, Stamp
from nailer.core.files.sitepath import SitePath, name_of_token, name_token
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import ItemState, JobState
from nailer.core.pairs.wishes import Direction, Removals
from nailer.core.people.rights import Right
from nailer.core.plans.plan import Action, Choice, Summary, Verdict
from nailer.core.plans.sieve import Sieve
from nailer.services.pairs import Pair, SyncPlan, Timer
from nailer.services.plans import Change, Item, Job
from nailer.services.sites import Site
from nailer.web.shell.forms import NameToken, PathToken

_PATH = Field(examples=["/htdocs/news"], description="percent-encoded; a name may have any byte but / and NUL")


class _Given(BaseModel):
    model_config = ConfigDict(extra="forbid")


class SiteOut(BaseModel):
    """A site as far as the token reaches. `start_here` and `start_there` are the top of that."""

    id: int
    name: str
    host: str
    start_here: str
    start_there: str
    addresses: list[str]
    rights: list[Right]

    @classmethod
    def of(cls, site: Site, rights: list[Right]) -> SiteOut:
        """A site of ours as a program gets it."""
        return cls(
            id=site.id,
            name=site.name,
            host=site.host,
            start_here=site.start_here.token,
            start_there=site.start_there.token,
            addresses=[one.address for one in site.document_roots],
            rights=rights,
        )


class EntryOut(BaseModel):
    """One name of a listing. `size` in bytes; `modified_at` None: the server does not say."""

    name: str = Field(description="percent-encoded")
    kind: Kind
    size: int | None
    modified_at: datetime | None
    permissions: str | None = Field(None, examples=["644"])
    access: str | None = Field(None, examples=["644"], description="the earlier name of `permissions`", deprecated=True)

    @classmethod
    def of(cls, entry: Entry) -> EntryOut:
        """An entry of ours as a program gets it."""
        permissions = None if entry.permissions is None else f"{entry.permissions & 0o7777:03o}"
        return cls(
            name=name_token(entry.name),
            kind=entry.kind,
            size=entry.size if entry.is_file else None,
            modified_at=_moment(entry.stamp) if entry.stamp is not None else None,
            permissions=permissions,
            access=permissions,
        )


class PlanIn(_Given):
    """What is to be transferred: names of one folder to the folder on the other side, or removed from their side. `carry` is
    the earlier word for `transfer`."""

    model_config = ConfigDict(
        extra="forbid",
        json_schema_extra={
            "examples": [
                {
                    "does": "transfer",
                    "to_side": "there",
                    "here": "/studio/skerry/htdocs",
                    "there": "/htdocs",
                    "names": ["news"],
                }
            ]
        },
    )
    does: Annotated[str, Field(pattern="^(transfer|carry|remove)$")] = "transfer"
    to_side: SideName = Field(SideName.THERE, description="the side that is changed")
    here: PathToken
    there: PathToken
    names: list[NameToken] = Field(min_length=1, max_length=200_000)
    resend_same: bool = False


class SummaryOut(BaseModel):
    """The counts of a plan, in files unless named otherwise."""

    new: int
    replaced: int
    replaced_newer: int
    same: int
    left: int
    removed: int
    folders: int
    bytes_to_transfer: int
    bytes_to_carry: int = Field(description="the earlier name of `bytes_to_transfer`", deprecated=True)
    both_changed: int

    @classmethod
    def of(cls, summary: Summary) -> SummaryOut:
        """The counts of a plan of ours."""
        counts = {name: getattr(summary, name) for name in cls.model_fields if name != "bytes_to_carry"}
        return cls(**counts, bytes_to_carry=summary.bytes_to_transfer)


class PlanOut(BaseModel):
    """A plan that can be read, and is carried out only when that is asked for. `guarded` are guarded folders it touches;
    `must_type` is a word that carrying it out needs."""

    id: int
    site: int
    does: JobKind
    to_side: SideName
    title: str
    summary: SummaryOut
    guarded: list[str]
    must_type: str = ""


class ItemOut(BaseModel):
    """One step of a plan or a job."""

    number: int
    action: Action
    verdict: Verdict
    source: str
    target: str
    size: int
    reason: str
    state: ItemState
    error: str | None

    @classmethod
    def of(cls, item: Item) -> ItemOut:
        """A step of ours as a program gets it."""
        return cls(
            number=item.position,
            action=item.action,
            verdict=item.verdict,
            source=item.source.token,
            target=item.target.token,
            size=item.entry.size,
            reason=item.reason,
            state=item.state,
            error=item.error_text,
        )


class CarryOutIn(_Given):
    """How a plan is carried out: what becomes of what is there already, and the words that it needs."""

    choice: Choice = Choice.REPLACE
    both_changed: Choice | None = None
    typed: str = Field("", max_length=1000)
    opens_guarded: bool = False


class JobOut(BaseModel):
    """A job as it stands. `share` is from 0 to 1."""

    id: int
    site: int
    site_name: str
    person: str
    title: str
    does: JobKind
    to_side: SideName
    state: JobState
    share: float
    files: int
    files_done: int
    files_failed: int
    files_left: int
    bytes: int
    bytes_done: int
    trouble: str | None
    ended_at: datetime | None

    @classmethod
    def of(cls, job: Job) -> JobOut:
        """A job of ours as a program gets it."""
        tally = job.tally
        return cls(
            id=job.id,
            site=job.site_id,
            site_name=job.site_name,
            person=job.account_name,
            title=job.title,
            does=job.kind,
            to_side=job.to_side,
            state=job.state,
            share=round(tally.share, 4),
            files=tally.planned.files,
            files_done=tally.done.files,
            files_failed=tally.failed.files,
            files_left=tally.left.files,
            bytes=tally.planned.size,
            bytes_done=tally.done.size + tally.under_way_bytes,
            trouble=job.trouble,
            ended_at=job.ended_at,
        )


class ChangeOut(BaseModel):
    """Something that Nailer changed on a side, and whether it can be taken back."""

    id: int
    at: datetime
    side: SideName
    path: str
    what: str
    person: str | None
    job: int | None
    can_be_taken_back: bool

    @classmethod
    def of(cls, change: Change) -> ChangeOut:
        """A change of ours as a program gets it."""
        return cls(
            id=change.id,
            at=change.at,
            side=change.side,
            path=change.path.token,
            what=change.what,
            person=change.account_name,
            job=change.job_id,
            can_be_taken_back=change.can_be_taken_back,
        )


class PairOut(BaseModel):
    """A pair of folders that can be brought into sync."""

    id: int
    site: int
    name: str
    here: str
    there: str

    @classmethod
    def of(cls, pair: Pair) -> PairOut:
        """A pair of ours as a program gets it."""
        return cls(id=pair.id, site=pair.site_id, name=pair.name, here=pair.here.token, there=pair.there.token)


class SyncIn(_Given):
    """How a pair is to be brought into sync."""

    direction: Direction = Direction.LEVEL
    removals: Removals = Removals.KEEP
    compare: Compare = Compare.SIZE_AND_TIME


class SyncOut(BaseModel):
    """A sync as it is planned: how many files go which way, and what only a person decides. Carrying it out leaves that."""

    token: str
    pair: int
    sent_there: int
    sent_here: int
    removed_there: int
    removed_here: int
    undecided: int
    not_read: int
    must_type: str
    warnings: list[str]

    @classmethod
    def of(cls, plan: SyncPlan, undecided: int) -> SyncOut:
        """A sync plan of ours as a program gets it."""
        flow = plan.flow
        return cls(
            token=plan.token,
            pair=plan.pair.id,
            sent_there=flow.up,
            sent_here=flow.down,
            removed_there=flow.removed_there,
            removed_here=flow.removed_here,
            undecided=undecided,
            not_read=plan.not_read,
            must_type=plan.word_to_type if plan.removes_much else "",
            warnings=plan.warnings,
        )


class RunOut(BaseModel):
    """A sync that is carried out: the jobs on either side."""

    run: int
    jobs: list[int]


class EditIn(_Given):
    """A text file that is to be edited."""

    side: SideName = SideName.THERE
    path: PathToken


class EditOut(BaseModel):
    """A file as it is edited: its text, or what was typed and not saved yet. `based_on` goes back with the save."""

    draft: int
    text: str
    based_on: str


class SaveIn(_Given):
    """What is to be saved. `despite_errors`: also where the text has mistakes that break pages."""

    text: str = Field(max_length=4_000_000)
    based_on: str = Field(max_length=64)
    despite_errors: bool = False


class SaveOut(BaseModel):
    """How saving ended. Not done: the text waits as a draft in Nailer, and `said` tells why."""

    done: bool
    said: str
    errors: list[str]


class TimerOut(BaseModel):
    """A timer; `next_at` is None while it is off."""

    id: int
    site: int
    name: str
    does: str
    on: bool
    next_at: datetime | None

    @classmethod
    def of(cls, timer: Timer) -> TimerOut:
        """A timer of ours as a program gets it."""
        does = timer.carries.words if timer.carries is not None else f"sync {timer.pair_name}"
        return cls(id=timer.id, site=timer.site_id, name=timer.name, does=does, on=timer.on, next_at=timer.next_at)


class SieveOut(BaseModel):
    """A sieve: what it leaves behind, or keeps out of sight, in words."""

    id: int
    name: str
    on: bool
    everywhere: bool
    words: str

    @classmethod
    def of(cls, sieve: Sieve) -> SieveOut:
        """A sieve of ours as a program gets it."""
        words = f"{sieve.verb} {sieve.rule.words}"
        return cls(id=sieve.id, name=sieve.name, on=sieve.on, everywhere=sieve.everywhere, words=words)


class LiveIn(_Given):
    """A file there whose visitors are looked after."""

    path: PathToken


class LiveOut(BaseModel):
    """What visitors get of a file, in a word and a sentence."""

    finding: str
    said: str
    advice: str


class Page(BaseModel):
    """Where the next page begins; None: this was the last."""

    next: str | None = None


class SitePage(Page):
    items: list[SiteOut]


class EntryPage(Page):
    items: list[EntryOut]
    complete: bool = Field(description="false: the server did not show all of the folder")
    whole: bool = Field(description="the earlier name of `complete`", deprecated=True)
    doubt: str = ""


class ItemPage(Page):
    items: list[ItemOut]


class JobPage(Page):
    items: list[JobOut]


class ChangePage(Page):
    items: list[ChangeOut]


class PairPage(Page):
    items: list[PairOut]


class TimerPage(Page):
    items: list[TimerOut]


class SievePage(Page):
    items: list[SieveOut]


class Problem(BaseModel):
    """What went wrong (RFC 9457). `kind` is the name of the error; `fields` says which field is wrong, and how."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    kind: str
    advice: list[str] = Field(default_factory=list)
    fields: dict[str, str] = Field(default_factory=dict)


def _moment(stamp: Stamp) -> datetime | None:
    """A file's time; None where it is beyond what a calendar holds."""
    try:
        return datetime.fromtimestamp(stamp.at_s, UTC)
    except (OverflowError, ValueError, OSError):
        return None


def name_of(token: str) -> bytes:
    """The name that a program sends."""
    return name_of_token(token)


def path_of(token: str) -> SitePath:
    """The path that a program sends."""
    return SitePath.of_token(token)
