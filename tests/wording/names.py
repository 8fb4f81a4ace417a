"""One meaning, one name: what a text may not say, and what it says instead. Whoever writes a text looks here first.

Each row is a pattern, what to use, and texts that may say it all the same: they mean something else by it.
"""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True)
class Banned:
    """A pattern that no text may hold, and what it says instead. `but`: texts with one of these mean something else."""

    pattern: str
    instead: str
    but: tuple[str, ...] = ()


BANNED = (
    Banned(
        r"\bcarr(?:y|ies|ied|ying)\b(?!(?: it| them| the plan)? out)(?!-)",
        "transfer; a plan is carried out",
        ("carrying it out", "/plans/carry"),
    ),
    Banned(r"\bproved cop(?:y|ies)\b", "verified copy"),
    Banned(r"\brehears", "test restore, restore tested", ("/rehearse",)),
    Banned(r"\bsecond proofs?\b|\bone more proof\b", "second factor"),
    Banned(r"\bhalf files?\b|\bhalf of (?:it|one)\b", "partial file, incomplete"),
    Banned(r"\bthe wire\b", "connection log"),
    Banned(r"\bmend(?:s|ed|ing)?\b", "fix", ("/mend",)),
    Banned(r"\bwhoever\b|\bsomebody\b|\beverybody\b|\bnobody\b", "the person or role; no one"),
    Banned(r"\brefers? to\b|\breferred to\b", "link to, use"),
    Banned(r"\bany ?more\b|\bby now\b", "no longer, now"),
    Banned(r"\ball the same\b", "anyway"),
    Banned(
        r"\bis no (?!longer)(?:file|folder|text|picture|link|key|name|address|page|plan|day|pattern|HTTP)\b",
        "is not a",
        ("there is no", "There is no"),
    ),
    Banned(r"\bthere is no such\b", "this ... does not exist"),
    Banned(r"\bby (?:itself|themselves)\b", "automatically", ("http answers by itself",)),
    Banned(r"\bgive (?:it )?up\b|\bgives up\b", "Stop, Cancel, Discard"),
    Banned(r"\blies? (?:in|at|under|outside|among|beside|below|there|here)\b", "is in"),
    Banned(r"\bpick(?:s|ed|ing)?\b", "select"),
    Banned(r"\bswitched off\b|\bswitch off\b", "deactivated, turned off"),
    Banned(r"\bvouch", "signed by a trusted authority"),
    Banned(r"\bways? in\b", "address"),
    Banned(r"\bother writing\b|\bwritten otherwise\b", "capital letters, spelling"),
    Banned(r"\bleads? nowhere\b", "broken link, has no DNS address", ("the name leads nowhere", "is an OSError")),
    Banned(r"\bthe line was cut\b|\bcloses? the line\b", "connection lost, closes the connection"),
    Banned(r"\bno room\b|\broom left\b|\bmake room\b", "space"),
    Banned(r"\bset (?:its |the )?access\b|\baccess of\b|\bnew access\b", "permissions"),
    Banned(r"\breading of (?:a|the|this) site\b|\bread the (?:site|account)\b", "scan"),
    Banned(r"\b(?:was|were|are|is) level\b|\bas level\b", "in sync"),
    Banned(r"\bgoes on\b|\bgo on\b", "Resume, continue", ("after its last name",)),
    Banned(r"\bthe host (?:has|does|knows|says|offers|is)\b|\bask the host\b|\byour host\b", "hosting provider"),
    Banned(r"\blet(?:s)? go\b", "delete, discard"),
    Banned(r"\bnot whole\b", "incomplete"),
    Banned(r"^\s*Store\s*$", "Save"),
    Banned(r"\bhand(?:ed|s)? over\b|\btaken? over\b|\btake over\b", "shared, imported"),
)
