"""All stores over one database, made together."""

from __future__ import annotations

from dataclasses import dataclass

from nailer.seal import Seal
from nailer.store.changes import ChangeStore
from nailer.store.checks.attention import AttentionStore
from nailer.store.checks.findings import FindingStore
from nailer.store.checks.host_facts import HostFactStore
from nailer.store.checks.scans import ScanStore
from nailer.store.checks.watches import WatchStore
from nailer.store.choices import ChoiceStore
from nailer.store.database import Database
from nailer.store.drafts import DraftStore
from nailer.store.identities import IdentityStore
from nailer.store.jobs import JobStore
from nailer.store.marks import MarkStore
from nailer.store.packages.copies import CopyStore
from nailer.store.packages.copy_times import CopyTimeStore
from nailer.store.packages.replacements import ReplacementStore
from nailer.store.packages.scratch import ScratchStore
from nailer.store.packages.searches import PackageStore
from nailer.store.packages.seen import SeenPackageStore
from nailer.store.pairs import PairStore
from nailer.store.people.accounts import AccountStore
from nailer.store.people.grants import GrantStore
from nailer.store.people.invitations import InvitationStore
from nailer.store.people.log import LogStore
from nailer.store.people.proofs import ProofStore
from nailer.store.people.tokens import TokenStore
from nailer.store.running.claims import JobClaims
from nailer.store.running.limits import LimitStore
from nailer.store.running.parts import PartStore
from nailer.store.running.works import WorkStore
from nailer.store.sieves import SieveStore
from nailer.store.sites import SiteStore
from nailer.store.timers import TimerStore
from nailer.store.tray import TrayStore


@dataclass(frozen=True, slots=True)
class Stores:
    """The database and a store for each family of its tables. Services, engine and tests use them; pages never do."""

    database: Database
    accounts: AccountStore
    attention: AttentionStore
    changes: ChangeStore
    choices: ChoiceStore
    copies: CopyStore
    copy_times: CopyTimeStore
    claims: JobClaims
    drafts: DraftStore
    findings: FindingStore
    grants: GrantStore
    host_facts: HostFactStore
    identities: IdentityStore
    invitations: InvitationStore
    jobs: JobStore
    limits: LimitStore
    log: LogStore
    marks: MarkStore
    packages: PackageStore
    packages_seen: SeenPackageStore
    pairs: PairStore
    parts: PartStore
    proofs: ProofStore
    scans: ScanStore
    replacements: ReplacementStore
    scratch: ScratchStore
    sieves: SieveStore
    sites: SiteStore
    timers: TimerStore
    tokens: TokenStore
    tray: TrayStore
    watches: WatchStore
    works: WorkStore

    @classmethod
    def over(cls, database: Database, seal: Seal) -> Stores:
        """The stores of a database; secrets are sealed and opened with `seal`."""
        return cls(
            database=database,
            accounts=AccountStore(database),
            attention=AttentionStore(database),
            changes=ChangeStore(database),
            choices=ChoiceStore(database),
            copies=CopyStore(database),
            copy_times=CopyTimeStore(database),
            claims=JobClaims(database),
            drafts=DraftStore(database),
            findings=FindingStore(database),
            grants=GrantStore(database),
            host_facts=HostFactStore(database),
            identities=IdentityStore(database),
            invitations=InvitationStore(database),
            jobs=JobStore(database),
            limits=LimitStore(database),
            log=LogStore(database),
            marks=MarkStore(database),
            packages=PackageStore(database),
            packages_seen=SeenPackageStore(database),
            pairs=PairStore(database),
            parts=PartStore(database),
            proofs=ProofStore(database, seal),
            scans=ScanStore(database),
            replacements=ReplacementStore(database),
            scratch=ScratchStore(database),
            sieves=SieveStore(database),
            sites=SiteStore(database, seal),
            timers=TimerStore(database),
            tokens=TokenStore(database),
            tray=TrayStore(database),
            watches=WatchStore(database),
            works=WorkStore(database),
        )
