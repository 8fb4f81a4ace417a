"""Lays templates out, one element a line, where a browser does not see it: `python tools/format_templates.py`.

White space round a block element (`p`, `div`, `li` ...) is never shown, so such an element stands on lines of its own where
it does not fit on one. Round an inline element (`span`, `a`, `button` ...) white space is shown: there a line is broken only
where some stands already, or inside the tag, between two attributes. Text, strings, `pre` and `textarea` stay as they are.
Jinja runs with trim_blocks and lstrip_blocks: a block tag on a line of its own leaves nothing behind.
"""

from __future__ import annotations

import re
import sys
from dataclasses import dataclass, field
from pathlib import Path

FOLDER = Path(__file__).parent.parent / "src" / "nailer" / "web" / "templates"
WIDTH = 120
# fmt: off
_BLOCKS = frozenset((
    "address", "article", "aside", "blockquote", "body", "dd", "details", "dialog", "div", "dl",
    "dt", "fieldset", "figure", "footer", "form", "h1", "h2", "h3", "h4", "head",
    "header", "html", "legend", "li", "link", "main", "meta", "nav", "ol", "optgroup",
    "option", "p", "section", "summary", "table", "tbody", "td", "tfoot", "th", "thead",
    "title", "tr", "ul",
))
# fmt: on
_VOID = frozenset(["br", "col", "hr", "img", "input", "link", "meta", "source", "wbr"])
_TOKEN = re.compile(
    r"(?P<comment>\{#.*?#\})"
    r"|(?P<raw><(?P<rawname>pre|textarea|script|svg)\b.*?</(?P=rawname)>)"
    r"|(?P<block>\{%-?\s*(?P<word>\w+).*?%\})"
    r"|(?P<close></(?P<closed>[\w-]+)\s*>)"
    r"|(?P<open><(?P<opened>[a-zA-Z][\w-]*)(?:\"[^\"]*\"|'[^']*'|\{\{.*?\}\}|\{%.*?%\}|[^>\"'])*>)"
    r"|(?P<text>(?:\{\{.*?\}\}|[^<{]|\{(?![%#{])|<(?![/a-zA-Z]))+)",
    re.DOTALL,
)
_OPENS = frozenset(["if", "for", "block", "macro", "call", "with", "filter"])
_BETWEEN = frozenset(["else", "elif"])


@dataclass
class Node:
    """An element, a Jinja block, or a piece of text. `start` and `end` are its own tags; `parts` lie between."""

    start: str
    block: bool
    parts: list[Node] = field(default_factory=list)
    end: str = ""

    @property
    def flat(self) -> str:
        return self.start + "".join(one.flat for one in self.parts) + self.end


def parsed(text: str) -> list[Node] | None:
    """The nodes of a piece of a template; None where it is not balanced or cannot be read."""
    top = Node("", True)
    stack, at = [top], 0
    names = [""]
    for match in _TOKEN.finditer(text):
        if match.start() != at:
            return None
        at = match.end()
        token = match.group()
        if match["open"]:
            name = match["opened"].lower()
            node = Node(token, name in _BLOCKS)
            stack[-1].parts.append(node)
            if name not in _VOID:
                stack.append(node)
                names.append(name)
        elif match["close"]:
            if names[-1] != match["closed"].lower():
                return None
            stack.pop().end = token
            names.pop()
        elif match["block"] and match["word"] in _OPENS:
            node = Node(token, False)
            stack[-1].parts.append(node)
            stack.append(node)
            names.append("%" + match["word"])
        elif match["block"] and match["word"].startswith("end"):
            if names[-1] != "%" + match["word"].removeprefix("end"):
                return None
            stack.pop().end = token
            names.pop()
        else:
            stack[-1].parts.append(Node(token, match["word"] in (*_BETWEEN, "set", "include", "extends", "from")))
    return top.parts if at == len(text) and len(stack) == 1 else None


def is_control(node: Node) -> bool:
    return node.start.startswith("{%")


def ends_free(node: Node, *, left: bool) -> bool:
    """True where white space at this edge of a node is not shown, or stands there already."""
    if node.block:
        return True
    if is_control(node):
        if not node.parts:
            return False
        inner = [one for one in node.parts if not (is_control(one) and one.start[2:].split()[0].strip("-") in _BETWEEN)]
        return bool(inner) and all(ends_free(one, left=left) for one in (inner[0], inner[-1]))
    flat = node.flat
    return flat[:1].isspace() if left else flat[-1:].isspace()


def laid_out(nodes: list[Node], indent: int, *, inside: bool) -> list[str]:
    """Nodes as lines. Runs of inline nodes stay together; `inside`: in a block element, whose edges show nothing."""
    lines: list[str] = []
    run = ""
    for number, node in enumerate(nodes):
        before, after = nodes[number - 1] if number else None, nodes[number + 1] if number + 1 < len(nodes) else None
        stands_alone = node.block or (
            is_control(node)
            and ends_free(node, left=True)
            and ends_free(node, left=False)
            and (before is None or ends_free(before, left=False))
            and (after is None or ends_free(after, left=True))
        )
        if not stands_alone:
            run += node.flat
            continue
        lines += filled(run.strip(), indent)
        run = ""
        lines += alone(node, indent)
    return lines + filled(run.strip(), indent)


def alone(node: Node, indent: int) -> list[str]:
    """A block element or Jinja block on lines of its own; on one where it fits."""
    flat = node.flat.strip()
    if indent + len(flat) <= WIDTH or not node.parts:
        return filled(flat, indent)
    between = [
        number
        for number, one in enumerate(node.parts)
        if is_control(node) and is_control(one) and one.start[2:].split()[0].strip("-") in _BETWEEN
    ]
    lines = filled(node.start, indent)
    at = 0
    for number in between:
        lines += laid_out(node.parts[at:number], indent + 2, inside=True)
        lines += filled(node.parts[number].flat, indent)
        at = number + 1
    lines += laid_out(node.parts[at:], indent + 2, inside=True)
    return [*lines, " " * indent + node.end]


def filled(text: str, indent: int) -> list[str]:
    """A run of inline nodes as lines of at most WIDTH, as far as it can be broken."""
    if not text:
        return []
    lines: list[str] = []
    places = breaks(text)  # found once: a line that begins inside a tag could not be read
    at, margin = 0, indent
    while margin + len(text) - at > WIDTH:
        ahead = [(start - at + margin, start, end, kind) for start, end, kind in places if start > at + 2]
        best = _best(ahead, indent)
        if best is None:
            break
        lines.append((" " * margin + text[at : best[1]]).rstrip())
        at, margin = best[2], indent + (0 if best[3] == "element" else 4)
    return [*lines, " " * margin + text[at:]]


def breaks(line: str) -> list[tuple[int, int, str]]:
    """Where a line may be broken: where that white space begins and ends, and how good it is."""
    found: list[tuple[int, int, str]] = []
    for match in _TOKEN.finditer(line):
        token, at = match.group(), match.start()
        if match["open"]:
            found += [(at + a, at + b, "attribute") for a, b in _outside_strings(token)]
        elif match["raw"]:
            opened = token[: token.index(">") + 1]
            found += [(at + a, at + b, "attribute") for a, b in _outside_strings(opened)]
            if match["rawname"] == "svg":  # a drawing shows no white space
                found += [(at + one.start() + 1, at + one.start() + 1, "element") for one in re.finditer("><", token)]
        elif match["block"]:
            found += [(at + a, at + b, "word") for a, b in _outside_strings(token, least=12)]
        elif match["text"]:
            rest = line[match.end() : match.end() + 2]
            if token[-1:].isspace() and token.strip() and rest and rest != "</":
                found.append((match.end() - 1, match.end(), "element"))
            elif token.isspace() and at and rest and rest != "</" and not line[:at].endswith("%}"):
                found.append((at, match.end(), "element"))
            if token[:1].isspace() and token.strip() and at and not line[:at].endswith("%}"):
                found.append((at, at + 1, "text"))
            found += [(at + a, at + a + 1, "text") for a in _between_words(token)]
            found += [(at + a, at + a + 1, "word") for a in _in_expressions(token)]
    return found


def _between_words(token: str) -> list[int]:
    """Single blanks of plain text, outside its expressions: white space as any other."""
    spans = [one.span() for one in re.finditer(r"\{\{.*?\}\}", token)]
    return [
        one.start()
        for one in re.finditer(r"(?<=\S) (?=\S)", token)
        if not any(start < one.start() < end for start, end in spans)
    ]


def _in_expressions(token: str) -> list[int]:
    """Blanks of the expressions in a text, outside their strings."""
    return [
        span.start() + start
        for span in re.finditer(r"\{\{.*?\}\}", token)
        for start, _ in _outside_strings("{%" + span.group()[2:-2] + "%}", least=4)
    ]


def _outside_strings(token: str, least: int = 1) -> list[tuple[int, int]]:
    """White space of a tag that lies in no string and no expression."""
    found, quote, depth, at = [], "", 0, 0
    while at < len(token):
        if token[at : at + 2] in ("{{", "{%"):
            depth += 0 if token.startswith("{%") and at == 0 else 1
            at += 2
            continue
        if token[at : at + 2] in ("}}", "%}"):
            depth -= 1 if depth else 0
            at += 2
            continue
        letter = token[at]
        if quote:
            quote = "" if letter == quote else quote
        elif letter in "\"'":
            quote = letter
        elif letter == " " and not depth and least <= at < len(token) - 3:
            found.append((at, at + 1))
        at += 1
    return found


def _best(places: list[tuple[int, int, int, str]], indent: int) -> tuple[int, int, int, str] | None:
    """The last place before an element that leaves a line of some length; else between attributes; else in the text. Of a
    place: its column, where its white space begins and ends, and its kind."""
    fits = [one for one in places if one[0] <= WIDTH]
    for kind in ("element", "attribute", "text", "word"):
        long_enough = [one for one in fits if one[3] == kind and one[0] > indent + WIDTH // 3]
        if long_enough:
            return max(long_enough)
    return max(fits, default=None) or min(places, default=None)


def formatted(text: str) -> str:
    """A template with its long lines laid out; short lines, and those that begin or end inside a tag, stay as they are."""
    inside = [match.span() for match in _TOKEN.finditer(text) if not match["text"]]
    out: list[str] = []
    at = 0
    for line in text.splitlines():
        end = at + len(line)
        whole = not any(start < at < stop or start < end < stop for start, stop in inside)
        at = end + 1
        if len(line) <= WIDTH or not whole:
            out.append(line)
            continue
        indent = len(line) - len(line.lstrip())
        nodes = parsed(line.strip())
        out += laid_out(nodes, indent, inside=False) if nodes is not None else _in_pieces(line.strip(), indent)
    new = "\n".join(out) + "\n"
    if "".join(new.split()) != "".join(text.split()):
        raise AssertionError("laying out has changed more than white space")
    return new


def _in_pieces(text: str, indent: int) -> list[str]:
    """A line that opens what it does not close: broken before and after block tags, and filled."""
    if "".join(match.group() for match in _TOKEN.finditer(text)) != text:
        return [" " * indent + text]  # it begins or ends inside a tag
    pieces, run = [], ""
    for match in _TOKEN.finditer(text):
        name = (match["opened"] or match["closed"] or "").lower()
        if name in _BLOCKS and match["opened"]:
            pieces.append(run)
            run = match.group()
        elif name in _BLOCKS:
            pieces.append(run + match.group())
            run = ""
        else:
            run += match.group()
    return [line for piece in (*pieces, run) for line in filled(piece.strip(), indent)]


def main() -> int:
    """Rewrite every template; return 0."""
    for file in sorted(FOLDER.rglob("*.html")):
        text = file.read_text()
        if (new := formatted(text)) != text:
            file.write_text(new)
            sys.stdout.write(f"{file.relative_to(FOLDER)}\n")
    return 0


if __name__ == "__main__":
    sys.exit(main())
