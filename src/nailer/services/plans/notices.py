"""When all jobs have ended: a mail to whoever wants one, connections closed for whoever wants that, and what was
unpacked for them cleared away."""

from __future__ import annotations

import asyncio
import smtplib
from collections.abc import Awaitable, Callable
from dataclasses import dataclass
from email.message import EmailMessage

import structlog

from nailer.core.files.names import is_staging_name
from nailer.core.jobs.kinds import JobKind
from nailer.core.jobs.states import JOB_WORDS, JobState
from nailer.core.words import count_text, size_text
from nailer.engine.tasks import Background
from nailer.errors import NailerError
from nailer.services.plans.unpacking.archives import Archives
from nailer.services.plans.unpacking.server_commands import ServerCommands
from nailer.sides.pool import Pool
from nailer.store.jobs import Job, JobStore
from nailer.store.people.accounts import AccountStore
from nailer.store.sites import SiteStore
from nailer.unbroken import in_thread

_log = structlog.get_logger()

_QUIET_S = 1.0
_SEND_S = 20


@dataclass(frozen=True, slots=True)
class Post:
    """The mail server that takes Nailer's mail (RFC 5321), and the address it comes from. No host: no mail is sent."""

    host: str
    port: int
    sender: str


class Notices:
    def __init__(
        self,
        jobs: JobStore,
        accounts: AccountStore,
        sites: SiteStore,
        pool: Pool,
        post: Post,
        unpack: Archives,
        on_server: ServerCommands,
    ) -> None:
        self._unpack = unpack
        self._on_server = on_server
        self._sites = sites
        self._jobs = jobs
        self._accounts = accounts
        self._pool = pool
        self._post = post
        self._ended: list[int] = []
        self._tasks = Background()

    @property
    def can_write(self) -> bool:
        """True where a mail server is set."""
        return bool(self._post.host)

    def job_ended(self, job_id: int) -> None:
        """A job has ended; once nothing is under way any more, people are told."""
        self._ended.append(job_id)
        if self._tasks.of("quiet") is None:
            self._tasks.begin(self._when_quiet(), "quiet")

    async def close(self) -> None:
        """Forget the mail that waits for the last job."""
        await self._tasks.close()

    async def _when_quiet(self) -> None:
        try:
            while True:
                await asyncio.sleep(_QUIET_S)
                counts = await self._jobs.counts()
                if not counts.get(JobState.RUNNING) and not counts.get(JobState.WAITING):
                    break
            ended, self._ended = self._ended, []
            jobs = [await self._jobs.get(job_id) for job_id in ended]
            for job in jobs:
                if job.state is JobState.DONE:
                    await self._clear(job)
            await self._tell(jobs)
        except NailerError as error:
            _log.warning("nobody was told that the jobs have ended", why=error.what)

    async def _clear(self, job: Job) -> None:
        """Remove what an archive was unpacked into before its job: here, or on the server."""
        if job.kind in (JobKind.UNPACK, JobKind.WRITE):
            await self._unpack.forget(job.source_folder)
        if job.kind in (JobKind.MOVE, JobKind.COPY) and any(is_staging_name(one) for one in job.source_folder.names):
            await self._on_server.clear(await self._sites.get(job.site_id), job.source_folder)

    async def _tell(self, jobs: list[Job]) -> None:
        for account_id in {job.account_id for job in jobs}:
            wishes = await self._accounts.when_done(account_id)
            if wishes.close:
                for job in jobs:
                    await self._pool.close_site(job.site_id)
            if wishes.write and wishes.mail and self.can_write:
                own = [job for job in jobs if job.account_id == account_id and job.state is not JobState.PAUSED]
                await self._quietly(lambda to=wishes.mail, own=own: self._send(to, own))  # type: ignore[misc]

    async def write(self, account_id: int, subject: str, lines: list[str]) -> bool:
        """Write to somebody now, whatever they wish to hear of jobs; False where there is no address or no mail server."""
        mail = (await self._accounts.when_done(account_id)).mail
        if not mail or not self.can_write:
            return False
        message = EmailMessage()
        message["From"], message["To"], message["Subject"] = self._post.sender, mail, " ".join(subject.split())
        message.set_content("\n".join([*lines, "", "Nailer"]))
        await self._quietly(lambda: in_thread(self._hand_over, message))
        return True

    async def _quietly(self, send: Callable[[], Awaitable[None]]) -> None:
        try:
            await send()
        except (OSError, smtplib.SMTPException) as error:
            _log.warning("a mail could not be sent", why=str(error)[:200])

    async def _send(self, to: str, jobs: list[Job]) -> None:
        if jobs:
            await in_thread(self._hand_over, letter_about(jobs, self._post.sender, to))

    def _hand_over(self, message: EmailMessage) -> None:
        with smtplib.SMTP(self._post.host, self._post.port, timeout=_SEND_S) as server:
            server.send_message(message)


def letter_about(jobs: list[Job], sender: str, to: str) -> EmailMessage:
    """The mail that says how jobs ended: those that need somebody first. It names no path and no secret of a server."""
    needing = [job for job in jobs if job.state is JobState.NEEDS_YOU]
    message = EmailMessage()
    message["From"], message["To"] = sender, to
    done = f"{count_text(len(jobs), 'job')} finished"
    message["Subject"] = f"{done}, {len(needing)} of them waiting for you" if needing else done
    lines = [_line(job) for job in sorted(jobs, key=lambda job: (job.state is not JobState.NEEDS_YOU, job.id))]
    message.set_content("\n".join([*lines, "", "Nailer"]))
    return message


def _line(job: Job) -> str:
    tally = job.tally
    parts = [f"{tally.done.files} of {count_text(tally.planned.files, 'file')}, {size_text(tally.done.size)}"]
    if tally.failed.files:
        parts.append(f"{tally.failed.files} failed")
    trouble = f" {job.trouble}" if job.trouble else ""
    return f"{JOB_WORDS[job.state]}: {job.title} ({job.site_name}): {', '.join(parts)}.{trouble}"
