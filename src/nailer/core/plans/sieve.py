"""Sieves: named rules for what stays behind when files are carried, and what is out of sight in listings.

A rule is a tree of conditions: any, all or none of its parts. It reads as a sentence, and as one exact line. Sieves are
read from the top: the first that names a file decides, and within a sieve its exceptions come first. The two effects are
apart: what stays behind is neither carried nor removed on the other side; what is out of sight is only not listed.

Of a folder a rule can be sure only where it holds for everything in it, whatever that is: a pattern that names the folder,
or a folder that is one thing as a whole. Then nothing in it is read. Everything else is asked of each file. So a rule has
three answers: yes, no, and, for folders, not yet known (`None`).

Patterns are written as in ignore files: `*.tif` anywhere, `press/*.tif` from the top, `**/_drafts/` a folder at any depth.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import Any

from pathspec import lookup_pattern

from nailer.core.files.entry import NS, Entry
from nailer.core.files.kinds import KIND_WORDS, FileKind, kind_by_name, kind_of_folder
from nailer.core.files.sitepath import shown_name
from nailer.core.files.tree import RelativePath
from nailer.core.numbers import number_in
from nailer.core.patterns import LinearPattern, linear
from nailer.core.words import count_text, size_text
from nailer.errors import InvalidInput

# Patterns mean what they mean in ignore files.
_PATTERN: Any = lookup_pattern("gitignore")

_DAY_NS = 86_400 * NS
_MOST_PARTS = 200
_MOST_DEPTH = 5
_MOST_SHOWN = 8
_UNCOUNTED = (FileKind.DATA, FileKind.LITTER)
# Kinds that visitors come for: a sieve that does not name them should not hold them back.
_FOR_VISITORS = (FileKind.PAGE, FileKind.STYLE, FileKind.SCRIPT)


class Test(StrEnum):
    """What one condition looks at. Sizes are in bytes, ages in days."""

    __test__ = False  # no test of pytest's

    KIND = "kind"
    PATTERN = "pattern"
    LARGER = "larger"
    SMALLER = "smaller"
    OLDER = "older"
    NEWER = "newer"


class CountedAs(StrEnum):
    """How the parts of a group count together."""

    ANY = "any"
    ALL = "all"
    NONE = "none"


@dataclass(frozen=True, slots=True)
class Match:
    """One condition. `value` is a kind, a pattern, bytes or days, as text."""

    test: Test
    value: str

    @property
    def words(self) -> str:
        """`is a picture`, `is larger than 8 MB`, `lies under _drafts/`."""
        match self.test:
            case Test.KIND:
                word = KIND_WORDS[FileKind(self.value)]
                article = "" if self.value in _UNCOUNTED else "an " if word[0] in "aeiou" else "a "
                return f"is {article}{word}"
            case Test.PATTERN:
                return _pattern_words(self.value)
            case Test.LARGER | Test.SMALLER:
                return f"is {self.test} than {size_text(int(self.value))}"
            case _:
                return f"is {self.test} than {count_text(int(self.value), 'day')}"

    @property
    def exact(self) -> str:
        """`kind is picture`, `size > 8000000`, `path in _drafts/`."""
        match self.test:
            case Test.KIND:
                return f"kind is {self.value}"
            case Test.PATTERN:
                return f"path in {self.value}" if self.value.endswith("/") else f"path like {self.value}"
            case Test.LARGER | Test.SMALLER:
                return f"size {'>' if self.test is Test.LARGER else '<'} {size_text(int(self.value))}"
            case _:
                return f"age {'>' if self.test is Test.OLDER else '<'} {self.value} d"


@dataclass(frozen=True, slots=True)
class RuleGroup:
    """Conditions that count together."""

    how: CountedAs
    parts: tuple[Condition, ...]

    @property
    def words(self) -> str:
        """A sentence's second half. Nested groups stand in brackets.

        >>> RuleGroup(CountedAs.ALL, (Match(Test.KIND, "picture"), Match(Test.LARGER, "8000000"))).words
        'is a picture and is larger than 8.0 MB'
        """
        joined = (" and " if self.how is CountedAs.ALL else " or ").join(_bracketed(one, "words") for one in self.parts)
        return f"matches none of these: {joined}" if self.how is CountedAs.NONE else joined

    @property
    def exact(self) -> str:
        """The rule with its values unrounded, for who wants to be sure."""
        joined = (" and " if self.how is CountedAs.ALL else " or ").join(_bracketed(one, "exact") for one in self.parts)
        return f"not ({joined})" if self.how is CountedAs.NONE else joined


Condition = Match | RuleGroup


@dataclass(frozen=True, slots=True)
class Sieve:
    """A named rule with its effects. `everywhere`: it holds for every pair, else for those that have picked it."""

    name: str
    rule: RuleGroup
    always: tuple[str, ...] = ()
    stays: bool = True
    unseen: bool = False
    on: bool = True
    everywhere: bool = False
    id: int = 0

    @property
    def verb(self) -> str:
        """What the sieve does with what it catches."""
        if self.stays and self.unseen:
            return "Leave behind, and do not list, everything that"
        return "Leave behind everything that" if self.stays else "Do not list anything that"

    @property
    def sentence(self) -> str:
        """The rule as a person reads it."""
        if not self.rule.parts:
            return "No conditions yet"
        tail = f", but always transfer {', '.join(self.always)}" if self.always else ""
        return f"{self.verb} {self.rule.words}{tail}"

    @property
    def exact(self) -> str:
        """The whole sieve with its values unrounded."""
        tail = f"; except {', '.join(self.always)}" if self.always else ""
        return self.rule.exact + tail


@dataclass(frozen=True, slots=True)
class Name:
    """A name as a sieve sees it: where it lies below the top of the pair, and what is known of it. `kind` is what its
    first bytes say, where they were read; size and age are None where not known."""

    below: RelativePath
    is_folder: bool = False
    size: int | None = None
    at_ns: int | None = None
    kind: FileKind | None = None


Answer = bool | None
_Check = Callable[[Name, bytes], Answer]


def name_of(below: RelativePath, entry: Entry, kinds: Mapping[RelativePath, FileKind] | None = None) -> Name:
    """An entry as a sieve sees it."""
    at_ns = entry.stamp.at_ns if entry.stamp else None
    return Name(below, entry.is_folder, entry.size, at_ns, (kinds or {}).get(below))


class Sieves:
    """Sieves ready for use, in their order; those that are off are passed over. `now_ns` is what ages are counted from."""

    def __init__(
        self, sieves: Iterable[Sieve], now_ns: int, kinds: Mapping[RelativePath, FileKind] | None = None
    ) -> None:
        self.sieves = [one for one in sieves if one.on and one.rule.parts]
        self._kinds = kinds or {}
        self._ready = [(one, _check_of(one.rule, now_ns), _patterns(one.always)) for one in self.sieves]
        self._hides = any(one.unseen for one in self.sieves)
        self._excepts = any(one.always for one in self.sieves)

    @property
    def asks_kinds(self) -> bool:
        """True where first bytes may matter."""
        return any(_asks_kinds(one.rule) for one in self.sieves)

    def of(self, name: Name, *, nearly: bool = False) -> Sieve | None:
        """The sieve that has an effect on a name, or None. Of a folder only what is sure for everything in it; `nearly`: for
        everything but exceptions."""
        path = b"/".join(name.below) + (b"/" if name.is_folder else b"")
        if name.is_folder and self._excepts and not nearly:
            return None
        for sieve, check, always in self._ready:
            if always is not None and always.match(path):
                return None
            if check(name, path):
                return sieve
        return None

    def held(self, below: RelativePath, *entries: Entry | None, nearly: bool = False) -> str:
        """The name of the sieve that holds a name back on either of its sides; '' for none. `nearly` as for `of`."""
        for entry in entries:
            if entry is not None:
                found = self.of(name_of(below, entry, self._kinds), nearly=nearly)
                if found is not None and found.stays:
                    return found.name
        return ""

    def effects(self, below: RelativePath, here: Entry | None, there: Entry | None) -> tuple[str, str]:
        """The names of the sieves that hold a name back on either side (of a folder: nearly all in it), and that keep it
        out of sight; '' for none."""
        names = dict.fromkeys(name_of(below, one, self._kinds) for one in (here, there) if one is not None)
        held = next((one.name for name in names if (one := self.of(name, nearly=True)) and one.stays), "")
        found = self.of(next(iter(names))) if self._hides and names else None
        return held, found.name if found is not None and found.unseen else ""


@dataclass(frozen=True, slots=True)
class Caught:
    """What one top condition catches: in all, and alone."""

    words: str
    count: int
    alone: int


@dataclass(frozen=True, slots=True)
class Tried:
    """A sieve tried on real trees. `largest` are files that stay behind, with their sizes; `carried` those that an exception
    lets through; `used` are caught files that a page refers to, with one such page."""

    files: int
    count: int
    size: int
    caught: list[Caught]
    kinds: list[tuple[str, int]]
    largest: list[tuple[RelativePath, int]]
    carried: list[tuple[RelativePath, int]]
    used: list[tuple[RelativePath, RelativePath]]
    warnings: list[str] = field(default_factory=list)


def tried(
    sieve: Sieve, names: Sequence[Name], now_ns: int, used: Mapping[RelativePath, RelativePath] | None = None
) -> Tried:
    """Try a sieve on the files of real trees. `used` says of files which page refers to them."""
    checks = [(one, _check_of(one, now_ns)) for one in sieve.rule.parts]
    whole, always = _check_of(sieve.rule, now_ns), _patterns(sieve.always)
    counts, alone = Counter[int](), Counter[int]()
    kinds = Counter[str]()
    caught: list[Name] = []
    carried: list[Name] = []
    for name in names:
        path = b"/".join(name.below)
        if not sieve.rule.parts or not whole(name, path):
            continue
        if always is not None and always.match(path):
            carried.append(name)
            continue
        caught.append(name)
        hits = [number for number, (_, check) in enumerate(checks) if check(name, path)]
        counts.update(hits)
        if len(hits) == 1:
            alone[hits[0]] += 1
        kinds[_kind_word(name)] += 1
    uses = used or {}
    found = Tried(
        files=len(names),
        count=len(caught),
        size=sum(name.size or 0 for name in caught),
        caught=[
            Caught(_bracketed(one, "words") if isinstance(one, RuleGroup) else one.words, counts[number], alone[number])
            for number, (one, _) in enumerate(checks)
        ],
        kinds=kinds.most_common(),
        largest=[
            (name.below, name.size or 0) for name in sorted(caught, key=lambda one: -(one.size or 0))[:_MOST_SHOWN]
        ],
        carried=[(name.below, name.size or 0) for name in carried[:_MOST_SHOWN]],
        used=[(name.below, uses[name.below]) for name in caught if name.below in uses][:_MOST_SHOWN],
    )
    return replace(found, warnings=_warnings(sieve, found, caught))


def _warnings(sieve: Sieve, found: Tried, caught: Sequence[Name]) -> list[str]:
    warnings = []
    if found.files >= 10 and found.count > 0.8 * found.files:
        warnings.append(
            f"The rule matches {found.count} of {found.files} files, so almost nothing would be transferred."
        )
    most = max(found.caught, key=lambda one: one.count, default=None)
    if most is not None and len(found.caught) > 1 and found.count >= 10 and most.alone > 0.9 * found.count:
        warnings.append(f"One condition matches most of them: {most.words} ({most.alone} of {found.count}).")
    named = {part.value for part in _matches(sieve.rule) if part.test is Test.KIND}
    for kind in _FOR_VISITORS:
        count = sum((one.kind or kind_by_name(one.below[-1])) is kind for one in caught)
        if count and kind not in named:
            warnings.append(
                f"{count_text(count, KIND_WORDS[kind])} would stay behind although the rule does not name them."
            )
    return warnings


def _kind_word(name: Name) -> str:
    kind = kind_by_name(name.below[-1]) or name.kind
    return KIND_WORDS[kind] if kind else "other"


def _bracketed(condition: Condition, what: str) -> str:
    text: str = getattr(condition, what)
    return f"({text})" if isinstance(condition, RuleGroup) and len(condition.parts) > 1 else text


def _pattern_words(pattern: str) -> str:
    if pattern.endswith("/"):
        return f"is under {pattern}"
    return f"is at {pattern}" if "/" in pattern.strip("/") or pattern.startswith("/") else f"is called {pattern}"


def _matches(condition: Condition) -> Iterable[Match]:
    if isinstance(condition, Match):
        yield condition
        return
    for part in condition.parts:
        yield from _matches(part)


def _asks_kinds(condition: Condition) -> bool:
    return any(one.test is Test.KIND for one in _matches(condition))


def _patterns(texts: Sequence[str]) -> LinearPattern | None:
    """Patterns as one expression over a path with slashes, folders ending in one; None for none."""
    found = [regex for regex in (_regex(text) for text in texts) if regex is not None]
    return linear(b"|".join(b"(?:" + one + b")" for one in found)) if found else None


def _regex(text: str) -> bytes | None:
    found: tuple[bytes | None, bool | None] = _PATTERN.pattern_to_regex(text.encode("utf-8", "surrogateescape"))
    return found[0]


def _check_of(condition: Condition, now_ns: int) -> _Check:
    """A condition as a function of a name and its path."""
    if isinstance(condition, RuleGroup):
        return _check_of_group(condition, now_ns)
    match condition.test:
        case Test.KIND:
            return _check_of_kinds(frozenset([FileKind(condition.value)]))
        case Test.PATTERN:
            pattern = _patterns([condition.value])
            return lambda name, path: (
                True if pattern is not None and pattern.match(path) else (None if name.is_folder else False)
            )
        case Test.LARGER | Test.SMALLER:
            size, larger = int(condition.value), condition.test is Test.LARGER
            return lambda name, _: (
                None if name.is_folder else name.size is not None and (name.size > size if larger else name.size < size)
            )
        case Test.OLDER | Test.NEWER:
            then, older = now_ns - int(condition.value) * _DAY_NS, condition.test is Test.OLDER
            return lambda name, _: (
                None
                if name.is_folder
                else name.at_ns is not None and (name.at_ns < then if older else name.at_ns > then)
            )


def _check_of_kinds(kinds: frozenset[FileKind]) -> _Check:
    """True for a name of any of these kinds, or below a folder that is."""

    def _check(name: Name, _: bytes) -> Answer:
        for part in name.below[: None if name.is_folder else -1]:
            if kind_of_folder(part) in kinds:
                return True
        if name.is_folder:
            return None
        return (kind_by_name(name.below[-1]) or name.kind) in kinds

    return _check


def _checks_of(group: RuleGroup, now_ns: int) -> list[_Check]:
    """The parts of a group. Kinds of which any counts are asked for in one go: a name is looked at once."""
    kinds = frozenset(FileKind(one.value) for one in group.parts if isinstance(one, Match) and one.test is Test.KIND)
    if group.how is CountedAs.ALL or len(kinds) < 2:
        return [_check_of(one, now_ns) for one in group.parts]
    others = [one for one in group.parts if not isinstance(one, Match) or one.test is not Test.KIND]
    return [_check_of_kinds(kinds), *(_check_of(one, now_ns) for one in others)]


def _check_of_group(group: RuleGroup, now_ns: int) -> _Check:
    checks = _checks_of(group, now_ns)

    def _any_of(name: Name, path: bytes) -> Answer:
        unknown = False
        for check in checks:
            answer = check(name, path)
            if answer:
                return True
            unknown = unknown or answer is None
        return None if unknown else False

    def _all_of(name: Name, path: bytes) -> Answer:
        unknown = False
        for check in checks:
            answer = check(name, path)
            if answer is False:
                return False
            unknown = unknown or answer is None
        return None if unknown else True

    def _none_of(name: Name, path: bytes) -> Answer:
        answer = _any_of(name, path)
        return None if answer is None else not answer

    return {CountedAs.ANY: _any_of, CountedAs.ALL: _all_of, CountedAs.NONE: _none_of}[group.how]


# --- as data


def rule_data(condition: Condition) -> dict[str, Any]:
    """A condition as JSON values.

    >>> rule_data(RuleGroup(CountedAs.ANY, (Match(Test.PATTERN, "*.tmp"),)))
    {'how': 'any', 'parts': [{'test': 'pattern', 'value': '*.tmp'}]}
    """
    if isinstance(condition, Match):
        return {"test": condition.test.value, "value": condition.value}
    return {"how": condition.how.value, "parts": [rule_data(one) for one in condition.parts]}


def rule_of(data: Any, *, depth: int = 0) -> Condition:
    """A condition from JSON values. Raises InvalidInput, saying what is wrong."""
    if not isinstance(data, dict):
        raise InvalidInput("A condition is missing.")
    if "how" in data:
        parts = data.get("parts")
        if depth >= _MOST_DEPTH or not isinstance(parts, list) or len(parts) > _MOST_PARTS:
            raise InvalidInput("The conditions are nested too deeply, or there are too many.")
        try:
            how = CountedAs(data["how"])
        except ValueError as error:
            raise InvalidInput("Choose any, all or none to combine the conditions.") from error
        return RuleGroup(how, tuple(rule_of(one, depth=depth + 1) for one in parts))
    try:
        test = Test(data.get("test", ""))
    except ValueError as error:
        raise InvalidInput("This condition does not exist.") from error
    return Match(test, _checked_value(test, str(data.get("value", "")).strip()))


def _checked_value(test: Test, value: str) -> str:
    match test:
        case Test.KIND:
            if value not in set(FileKind):
                raise InvalidInput(f"“{value[:40]}” is not a kind of file.")
        case Test.PATTERN:
            return checked_pattern(value)
        case _:
            if number_in(value) is None:
                raise InvalidInput(f"“{value[:40]}” is not a number.")
    return value


def checked_pattern(text: str) -> str:
    """A pattern as it may stand in a rule. Raises InvalidInput.

    >>> checked_pattern(" /press/*.tif ")
    '/press/*.tif'
    """
    text = text.strip()
    if not text.strip("/") or len(text) > 500 or "\n" in text or "\0" in text:
        raise InvalidInput("A pattern is one line, like *.tif or drafts/.")
    if text.startswith(("!", "#")):
        raise InvalidInput("A pattern cannot begin with ! or #. Add exceptions under “always transfer”.")
    try:
        regex = _regex(text)
        if regex is not None:
            linear(regex)
    except ValueError as error:
        raise InvalidInput(f"“{shown_name(text.encode())}” is not a pattern: {error}") from error
    if regex is None:
        raise InvalidInput(f"“{shown_name(text.encode())}” matches nothing.")
    return text


# --- ignore files


@dataclass(frozen=True, slots=True)
class ReadIgnore:
    """What an ignore file says, as a sieve says it. `notes` are lines that mean something else here, with why."""

    patterns: tuple[str, ...]
    always: tuple[str, ...]
    notes: tuple[str, ...]


_MOST_PATTERNS = 2000


def read_ignore(text: str) -> ReadIgnore:
    """Read patterns in the style of ignore files: a pattern a line, `!` for exceptions, `#` for remarks.

    >>> read_ignore("# litter\\n*.tmp\\n!keep.tmp\\n").always
    ('keep.tmp',)
    """
    patterns: list[str] = []
    always: list[str] = []
    notes: list[str] = []
    rows = text.splitlines()
    if len(rows) > _MOST_PATTERNS:
        raise InvalidInput(f"A list of patterns may have {_MOST_PATTERNS} lines; this one has {len(rows)}.")
    for number, raw in enumerate(rows, 1):
        line = raw.rstrip("\r\n")
        line = line if line.endswith("\\ ") else line.rstrip()
        if not line or line.startswith("#"):
            continue
        target, body = (always, line[1:]) if line.startswith("!") else (patterns, line)
        if target is patterns and always:
            notes.append(
                f"Line {number} follows an exception and would override it in an ignore file. In a sieve, "
                "exceptions always win."
            )
        try:
            target.append(checked_pattern(body))
        except InvalidInput as error:
            notes.append(f"Line {number} was left out: {error.what}")
    return ReadIgnore(tuple(dict.fromkeys(patterns)), tuple(dict.fromkeys(always)), tuple(notes))


def ignore_text(sieve: Sieve) -> str:
    """A sieve in the style of ignore files. What that style cannot say stands there as a remark.

    >>> print(ignore_text(Sieve("Litter", RuleGroup(CountedAs.ANY, (Match(Test.PATTERN, "*.tmp"),)), ("keep.tmp",))), end="")
    # Litter
    *.tmp
    !keep.tmp
    """
    lines = [f"# {sieve.name}"]
    simple = sieve.rule.how is CountedAs.ANY or (len(sieve.rule.parts) == 1 and sieve.rule.how is CountedAs.ALL)
    for part in sieve.rule.parts:
        if simple and isinstance(part, Match) and part.test is Test.PATTERN:
            lines.append(part.value)
        else:
            lines.append(f"# cannot be written as an ignore pattern: {part.words}")
    return "\n".join([*lines, *(f"!{one}" for one in sieve.always)]) + "\n"


# --- sieves that ship with Nailer


def house_sieves() -> list[Sieve]:
    """Sieves that a new Nailer begins with: on, in every pair, and changeable like any other."""

    def _of_kinds(name: str, *kinds: FileKind) -> Sieve:
        return Sieve(name, RuleGroup(CountedAs.ANY, tuple(Match(Test.KIND, kind) for kind in kinds)), everywhere=True)

    return [
        _of_kinds("House rules", FileKind.VERSIONS, FileKind.LITTER, FileKind.OLD),
        _of_kinds("Secrets", FileKind.SECRET, FileKind.DATABASE),
    ]
