"""
Lay templates out: one element a line, at most 120 characters, white space only moved
to where nobody sees it.

    .venv/bin/python scripts/templates.py            # lays all of them out
    .venv/bin/python scripts/templates.py --check    # names those that are not

A template is read into a tree of elements and of Django's blocks, and printed with
breaks only where white space is there already or is not seen: beside blocks, inside
their edges, between the items of a flex container. What stays glued and too long wants
its words chosen in the page's value instead.
"""

from __future__ import annotations

import re
import sys
from dataclasses import dataclass, field
from itertools import pairwise
from pathlib import Path

WIDTH = 120
SRC = Path(__file__).resolve().parents[1] / "src"

#: Elements beside which, and inside whose edges, white space is not seen.
BLOCKS = frozenset(
    [
        "html",
        "head",
        "body",
        "title",
        "meta",
        "link",
        "script",
        "style",
        "p",
        "div",
        "section",
        "nav",
        "header",
        "footer",
        "main",
        "aside",
        "article",
        "form",
        "fieldset",
        "legend",
        "h1",
        "h2",
        "h3",
        "h4",
        "h5",
        "h6",
        "ul",
        "ol",
        "li",
        "dl",
        "dt",
        "dd",
        "table",
        "thead",
        "tbody",
        "tfoot",
        "caption",
        "tr",
        "td",
        "th",
        "details",
        "summary",
        "option",
        "optgroup",
        "figure",
        "figcaption",
        "br",
        "hr",
        "g",
        "path",
        "rect",
        "line",
        "circle",
        "ellipse",
        "text",
        "polyline",
        "polygon",
        "defs",
        "pattern",
        "use",
        "template",
        "hgroup",
    ]
)
#: Elements inside whose edges it is not seen, though beside them it is.
BOXES = frozenset(["button", "select", "svg", "datalist"])
VOID = frozenset(
    ["meta", "link", "br", "hr", "input", "img", "area", "base", "col", "source"]
)
VERBATIM = frozenset(["pre", "textarea", "script", "style"])
#: Elements whose children each have a line of their own.
LISTS = frozenset(
    [
        "section",
        "form",
        "ul",
        "ol",
        "table",
        "thead",
        "tbody",
        "tr",
        "dl",
        "details",
        "nav",
        "div",
        "main",
        "fieldset",
        "aside",
        "header",
        "footer",
        "select",
        "body",
        "html",
        "head",
    ]
)
#: Classes of our style whose children are items of a flex or grid container.
FLEX = frozenset(
    [
        "accept",
        "bar",
        "chips",
        "columns",
        "door",
        "empty",
        "facts",
        "figures",
        "joined",
        "keys",
        "keys-row",
        "ledger-line",
        "line",
        "line-more",
        "live",
        "middle",
        "page",
        "photos",
        "rail",
        "rail-foot",
        "row-form",
        "skies",
        "stack",
        "stay",
        "strip",
        "strip-actions",
        "strip-title",
        "tabs",
        "tick-key",
        "watch-line",
        "with-kettle",
    ]
)
#: Classes that make a block of any element.
BLOCK_CLASSES = frozenset(["d-block", "form-control", "form-select"])
ENDS = {
    name: f"end{name}"
    for name in [
        "if",
        "for",
        "with",
        "block",
        "filter",
        "autoescape",
        "ifchanged",
        "blocktranslate",
        "empty_state",
    ]
}
MIDDLES = frozenset(("else", "elif", "empty"))
#: Variables that print blocks: a form, or a field with its label.
PRINTS_BLOCK = re.compile(r"\{\{ [\w.]*(as_field_group|non_field_errors|form) \}\}")


class Unbalanced(ValueError):
    """Elements or blocks of a template that are not nested."""


@dataclass(slots=True)
class Node:
    """A piece of a template: "el", "void", "raw", "control", "tag", "note", "text"."""

    kind: str
    text: str
    name: str = ""
    end: str = ""
    children: list[Node] = field(default_factory=list)
    #: Of a control block: each of its tags with what follows it.
    branches: list[tuple[str, list[Node]]] = field(default_factory=list)
    #: Whether it is an item of a flex container.
    is_item: bool = False

    @property
    def classes(self) -> set[str]:
        """Its classes, as far as no template tag chooses them."""
        found = re.search(r'class="([^"]*)"', self.text)
        return set(found.group(1).split()) if found else set()

    @property
    def is_block(self) -> bool:
        """Whether white space beside it is not seen."""
        if self.kind == "tag":
            return self.name == "csrf_token" or (
                self.name == "url" and " as " in self.text
            )
        if self.kind == "text":
            return bool(PRINTS_BLOCK.fullmatch(self.text))
        if self.kind not in ("el", "void", "raw"):
            return False
        if self.name == "input" and 'type="hidden"' in self.text:
            return True
        return self.name in BLOCKS or self.is_item or bool(self.classes & BLOCK_CLASSES)

    @property
    def is_box(self) -> bool:
        """Whether white space inside its edges is not seen."""
        is_button = self.name == "a" and "btn" in self.classes
        return self.is_block or self.name in BOXES or is_button


# --- reading ----------------------------------------------------------------------


def tokens_of(source: str) -> list[tuple[str, str]]:
    """Cut a template into elements' tags, Django's tags, notes and text."""
    found, at = [], 0
    while at < len(source):
        for own, start, end in (
            ("tag", "{%", "%}"),
            ("note", "{#", "#}"),
            ("text", "{{", "}}"),
            ("note", "<!", ">"),
        ):
            if source.startswith(start, at):
                kind, stop = own, source.index(end, at) + len(end)
                break
        else:
            if re.match(r"</?[a-zA-Z]", source[at : at + 3]):
                kind, stop = "html", _end_of_tag(source, at)
            else:
                plain = re.compile(r"[^<{]+|[<{]").match(source, at)
                assert plain is not None  # noqa: S101 - one of the two always does
                kind, stop = "text", plain.end()
        found.append((kind, source[at:stop]))
        at = stop
    return found


def _end_of_tag(source: str, at: int) -> int:
    quote = ""
    while True:
        at += 1
        for start, end in (("{%", "%}"), ("{{", "}}")):
            if source.startswith(start, at):
                at = source.index(end, at) + len(end)
        char = source[at]
        if quote:
            quote = "" if char == quote else quote
        elif char in "\"'":
            quote = char
        elif char == ">":
            return at + 1


class Reader:
    """Reads tokens into a tree."""

    def __init__(self, source: str) -> None:
        self.tokens = tokens_of(source)
        self.at = 0

    def tree(self) -> list[Node]:
        """All of it; raises `Unbalanced`."""
        nodes = self._nodes("")
        _mark_items(nodes, is_flex=False)
        return nodes

    def _nodes(self, inside: str) -> list[Node]:
        nodes: list[Node] = []
        while self.at < len(self.tokens):
            kind, text = self.tokens[self.at]
            word = _word_of(kind, text)
            is_end = text.startswith("</") or (
                kind == "tag" and (word in MIDDLES or word.startswith("end"))
            )
            if is_end:
                if not inside:
                    raise Unbalanced(f"{text} ends nothing")
                return nodes
            self.at += 1
            if kind == "html":
                nodes.append(self._element(text, word))
            elif kind == "tag" and word in ENDS:
                nodes.append(self._control(text, word))
            else:
                nodes.append(Node(kind, text, word))
        if inside:
            raise Unbalanced(f"{inside} has no end")
        return nodes

    def _element(self, text: str, name: str) -> Node:
        if name in VOID or text.endswith("/>"):
            return Node("void", text, name)
        if name in VERBATIM:
            inside = ""
            while not self.tokens[self.at][1].startswith(f"</{name}"):
                inside += self.tokens[self.at][1]
                self.at += 1
            inside += self.tokens[self.at][1]
            self.at += 1
            return Node("raw", text, name, inside)
        children = self._nodes(text)
        end = self.tokens[self.at][1]
        if end.rstrip(" >") != f"</{name}":
            raise Unbalanced(f"{text} ends with {end}")
        self.at += 1
        return Node("el", text, name, end, children)

    def _control(self, text: str, name: str) -> Node:
        node = Node("control", text, name)
        while True:
            node.branches.append((text, self._nodes(text)))
            text = self.tokens[self.at][1]
            self.at += 1
            word = _word_of("tag", text)
            if word == ENDS[name]:
                node.end = text
                return node
            if word not in MIDDLES:
                raise Unbalanced(f"{node.text} ends with {text}")


def _word_of(kind: str, text: str) -> str:
    pattern = {"html": r"</?([a-zA-Z0-9-]+)", "tag": r"\{%\s*(\w+)"}.get(kind)
    found = re.match(pattern, text) if pattern else None
    return found.group(1) if found else ""


def _mark_items(nodes: list[Node], *, is_flex: bool) -> None:
    for node in nodes:
        node.is_item = is_flex
        for _, branch in node.branches:
            is_actions = node.text.startswith("{% block actions")
            _mark_items(branch, is_flex=is_flex or is_actions)
        _mark_items(node.children, is_flex=bool(node.classes & FLEX))


# --- printing: documents that know where they may break ---------------------------


@dataclass(slots=True)
class Doc:
    """Text, a line break, or parts: "text", "line", "all", "group", "fill"."""

    kind: str
    text: str = ""
    parts: list[Doc] = field(default_factory=list)
    is_indented: bool = False

    @property
    def flat(self) -> str | None:
        """It on one line; None when it can't be."""
        if self.kind == "text":
            return None if "\n" in self.text else self.text
        if self.kind == "line":
            return None if self.text == "\n" else self.text
        pieces = [part.flat for part in self.parts]
        return None if None in pieces else "".join(map(str, pieces))


def text(words: str) -> Doc:
    """Words that stay together."""
    return Doc("text", words)


def line(flat: str = "") -> Doc:
    """A break, or `flat` where all fits on the line; "\\n": always a break."""
    return Doc("line", flat)


class Printer:
    """Prints a document in lines of a width."""

    def __init__(self) -> None:
        self.lines = [""]

    def show(self, doc: Doc, indent: int, *, breaks: bool, tail: int = 0) -> None:
        """
        Print a document; a group breaks all its lines or none.

        `tail` is how much stays glued to its end.
        """
        indent += doc.is_indented
        if doc.kind == "text":
            self.lines[-1] += doc.text
        elif doc.kind == "line":
            if breaks or doc.text == "\n":
                self._break(indent)
            else:
                self.lines[-1] += doc.text
        else:
            is_flat = doc.kind == "group" and self._fits(doc, tail)
            for number, part in enumerate(doc.parts):
                rest = doc.parts[number + 1 :]
                after = _lead(rest, tail)
                is_broken = breaks and not is_flat
                if doc.kind == "fill" and part.kind == "line" and rest:
                    glued = _lead(rest[1:], tail)
                    is_broken = not self._fits(rest[0], len(part.text) + glued)
                self.show(part, indent, breaks=is_broken, tail=after)

    def _fits(self, doc: Doc, extra: int = 0) -> bool:
        flat = doc.flat
        return flat is not None and len(self.lines[-1]) + extra + len(flat) <= WIDTH

    def _break(self, indent: int) -> None:
        self.lines[-1] = self.lines[-1].rstrip()
        self.lines.append("  " * indent)


def _lead(docs: list[Doc], tail: int) -> int:
    """How much is printed before the first break of some documents, or their end."""
    length, is_open = _before_break(docs)
    return length + (tail if is_open else 0)


def _before_break(docs: list[Doc]) -> tuple[int, bool]:
    length = 0
    for doc in docs:
        if doc.kind == "line":
            return length, False
        if doc.kind == "text":
            length += len(doc.text)
        else:
            inner, is_open = _before_break(doc.parts)
            length += inner
            if not is_open:
                return length, False
    return length, True


def laid_out(source: str) -> str:
    """A template laid out; raises `Unbalanced`."""
    nodes = Reader(source).tree()
    printer = Printer()
    printer.show(_of_nodes(nodes, True, True)[0], 0, breaks=True)
    lines = [line.rstrip() for line in printer.lines]
    return "\n".join(line for line in lines if line) + "\n"


def _pieces(nodes: list[Node]) -> tuple[list[tuple[bool, Node]], bool]:
    """Nodes and words, each with whether white space is before it; and at the end."""
    found, gap = [], False
    for node in nodes:
        is_words = node.kind == "text" and not node.text.startswith("{{")
        for piece in re.split(r"(\s+)", node.text) if is_words else [node.text]:
            if is_words and (not piece or piece.isspace()):
                gap = gap or bool(piece)
            else:
                found.append((gap, Node("text", piece) if is_words else node))
                gap = False
    return found, gap


def _edge(node: Node, *, is_last: bool) -> bool:
    """Whether a node begins or ends with a block in any case."""
    if node.kind != "control":
        return node.is_block
    ends = []
    for _, branch in node.branches:
        pieces, _ = _pieces(branch)
        ends.append(bool(pieces) and _edge(pieces[-is_last][1], is_last=is_last))
    return all(ends)


def _of_nodes(
    nodes: list[Node], is_left_free: bool, is_right_free: bool
) -> tuple[Doc, bool, bool]:
    """A sequence, and whether a break may stand before and after it."""
    pieces, has_gap = _pieces(nodes)
    if not pieces:
        return Doc("all"), is_left_free or has_gap, is_right_free or has_gap
    left = is_left_free or pieces[0][0] or _edge(pieces[0][1], is_last=False)
    right = is_right_free or has_gap or _edge(pieces[-1][1], is_last=True)
    free = [left]
    for (_, before), (gap, node) in pairwise(pieces):
        beside = _edge(before, is_last=True) or _edge(node, is_last=False)
        free.append(gap or beside)
    free.append(right)
    parts: list[Doc] = []
    run: list[Doc] = []
    glued: list[Doc] = []
    for number, (gap, node) in enumerate(pieces):
        doc = _of_node(node, free[number], free[number + 1])
        if number and free[number]:
            run.append(_joined(glued))
            glued = []
            before = pieces[number - 1][1]
            is_block = _edge(before, is_last=True) or _edge(node, is_last=False)
            if not is_block and "text" in (before.kind, node.kind):
                run.append(line(" " if gap else ""))
            else:
                parts += [_filled(run), line(" " if gap else "")]
                run = []
        glued.append(doc)
    run.append(_joined(glued))
    parts.append(_filled(run))
    return Doc("all", parts=parts), left, right


def _joined(docs: list[Doc]) -> Doc:
    return docs[0] if len(docs) == 1 else Doc("all", parts=docs)


def _filled(docs: list[Doc]) -> Doc:
    return docs[0] if len(docs) == 1 else Doc("fill", parts=docs)


def _of_node(node: Node, is_left_free: bool, is_right_free: bool) -> Doc:
    if node.kind == "el":
        return _of_element(node)
    if node.kind == "control":
        return _of_control(node, is_left_free, is_right_free)
    if node.kind == "void":
        return _of_start(node.text)
    if node.kind == "raw":
        return Doc("all", parts=[_of_start(node.text), text(node.end)])
    if node.kind == "note" and len(node.text) > WIDTH - 10:
        return _of_note(node.text)
    return text(node.text)


def _of_note(note: str) -> Doc:
    """A long comment as several."""
    lines, words = [""], note.strip("{# }").split()
    for word in words:
        if len(lines[-1]) + len(word) > WIDTH - 20:
            lines.append("")
        lines[-1] = f"{lines[-1]} {word}".strip()
    docs = [text(f"{{# {one} #}}") for one in lines]
    parts = [part for doc in docs for part in (doc, line("\n"))][:-1]
    return Doc("all", parts=parts)


def _of_element(node: Node) -> Doc:
    start = _of_start(node.text)
    inside, left, right = _of_nodes(node.children, node.is_box, node.is_box)
    if not inside.parts:
        return Doc("all", parts=[start, text(node.end)])
    pieces, has_gap = _pieces(node.children)
    blocks = sum(piece.is_block for _, piece in pieces)
    flat = inside.flat
    is_long = flat is None or len(flat) > 90 or blocks > 1
    is_list = node.name in LISTS and blocks and is_long
    first = " " if pieces[0][0] and not node.is_box else ""
    last = " " if has_gap and not node.is_box else ""
    before = [line("\n" if is_list else first)] if left else []
    after = [line("\n" if is_list else last)] if right else []
    body = Doc("all", parts=[*before, inside], is_indented=True)
    return Doc("group", parts=[start, body, *after, text(node.end)])


def _of_control(node: Node, is_left_free: bool, is_right_free: bool) -> Doc:
    is_page = node.text in (
        "{% block content %}",
        "{% block side %}",
        "{% block actions %}",
    )
    parts: list[Doc] = []
    for tag, branch in node.branches:
        pieces, has_gap = _pieces(branch)
        first = bool(pieces) and pieces[0][0]
        is_left, is_right = is_left_free, is_right_free
        if node.name == "for" and "empty" not in tag:
            # What stands between one turn and the next is both its edges.
            ends = (0, -1) if pieces else ()
            edges = [_edge(pieces[end][1], is_last=bool(end)) for end in ends]
            is_apart = first or has_gap or any(edges)
            is_left, is_right = is_left and is_apart, is_right and is_apart
        inside, left, right = _of_nodes(branch, is_left, is_right)
        before = [line("\n" if is_page else " " if first else "")] if left else []
        after = [line("\n" if is_page else " " if has_gap else "")] if right else []
        body = Doc("all", parts=[*before, inside], is_indented=True)
        parts += [text(tag), body, *after]
    return Doc("group", parts=[*parts, text(node.end)])


def _of_start(tag: str) -> Doc:
    """A start tag; too long for a line, with its attributes on several."""
    words = [(gap, " ".join(word.split())) for gap, word in _attributes(tag)]
    end = "/>" if tag.endswith("/>") else ">"
    parts = [text(words[0][1])]
    for gap, word in words[1:]:
        parts += [line(" " if gap else ""), text(word)]
    if end == "/>":
        parts[-1] = text(parts[-1].text + " />")
    else:
        parts[-1] = text(parts[-1].text + end)
    rest = Doc("fill", parts=parts[1:], is_indented=True)
    return Doc("group", parts=[parts[0], rest]) if len(parts) > 1 else parts[0]


def _attributes(tag: str) -> list[tuple[bool, str]]:
    """
    The name of a tag and its attributes, each with whether white space is before it.

    A control block is one attribute.
    """
    inner = tag[:-2].rstrip() if tag.endswith("/>") else tag[:-1].rstrip()
    found: list[tuple[bool, str]] = []
    word, has_gap, depth, quote = "", False, 0, ""
    for piece in re.findall(r"\{%.*?%\}|\{\{.*?\}\}|\s+|.", inner, flags=re.S):
        name = _word_of("tag", piece)
        is_opening = name in ENDS and not quote
        if (piece.isspace() or (is_opening and word)) and not depth and not quote:
            found += [(has_gap, word)] if word else []
            word, has_gap = "", piece.isspace()
        if not (piece.isspace() and not word):
            word += piece
        if not quote:
            depth += is_opening - (name.startswith("end") and bool(name))
        if piece in "\"'":
            quote = "" if piece == quote else quote or piece
    return [*found, (has_gap, word)] if word else found


def main(arguments: list[str]) -> int:
    """Lay templates out, or say which are not."""
    is_check = "--check" in arguments
    wrong = 0
    for path in sorted(SRC.rglob("templates/**/*.html")):
        source = path.read_text()
        try:
            wanted = laid_out(source)
        except Unbalanced as error:
            print(f"{path}: {error}")
            wrong += 1
            continue
        if wanted != source and is_check:
            print(f"{path}: not laid out; run scripts/templates.py")
            wrong += 1
        elif wanted != source:
            path.write_text(wanted)
        for number, one in enumerate(wanted.split("\n"), start=1):
            if len(one) > WIDTH:
                print(f"{path}:{number}: {len(one)} characters")
                wrong += 1
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
