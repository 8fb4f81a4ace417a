"""Sites and reaching them: dialling, trials, questions to a person, sites in and out."""

from __future__ import annotations

from nailer.services.sites.connect import key_problem
from nailer.services.sites.door import Sites
from nailer.services.sites.exchange import FoundSites, group_paths, read_sites, write_sites
from nailer.services.sites.questions import Question
from nailer.services.sites.site_form import COLOURS, MOST_ROOTS, Given, form_of, site_from_form
from nailer.services.sites.trial import STEP_WORDS, Event, TrialStep
from nailer.sides.connection_log import SaidLine
from nailer.sides.identities.certificate import CertificateFacts, facts_of, identity_of_pem
from nailer.sides.identities.identity import Identity, key_of_line, same_fingerprint
from nailer.sides.identities.known_hosts import KnownHosts, read_known_hosts, write_known_hosts
from nailer.store.identities import IdentityEvent, Pinned
from nailer.store.sites import Secrets, Site, SiteGroup, SiteStore

__all__ = [
    "COLOURS",
    "MOST_ROOTS",
    "STEP_WORDS",
    "CertificateFacts",
    "Event",
    "FoundSites",
    "Given",
    "Identity",
    "IdentityEvent",
    "KnownHosts",
    "Pinned",
    "Question",
    "SaidLine",
    "Secrets",
    "Site",
    "SiteGroup",
    "SiteStore",
    "Sites",
    "TrialStep",
    "facts_of",
    "form_of",
    "group_paths",
    "identity_of_pem",
    "key_of_line",
    "key_problem",
    "read_known_hosts",
    "read_sites",
    "same_fingerprint",
    "site_from_form",
    "write_known_hosts",
    "write_sites",
]
