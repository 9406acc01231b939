"""The tree and the tokens against html5lib-tests, the collection that browsers' parsers are tested with (PyPI html5lib 1.1, MIT)."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator

import pytest

from jetwind.core.fields import Syntax
from jetwind.core.markup import Document, TextRun, parse
from tests.references import sdist

#: A syntax whose marks stand in no case: the collection is about HTML alone.
NO_FIELDS = Syntax("none", "\uf8f0\uf8f1", "\uf8f1\uf8f0", "\uf8f2\uf8f3", "\uf8f3\uf8f2")
Shape = list[tuple[int, str, str]]

#: Cases that do not agree, by file: template contents are no copy and are left out of the tree; the rest is the collection's age.
#: It is of 2020; since then the standard lets a select hold other elements, and dropped menuitem and keygen (HTML §13.2.6.4.7).
DIFFERENT = {"template.dat": 106, "tests1.dat": 2, "tests10.dat": 4, "tests18.dat": 3, "tests7.dat": 1, "tests9.dat": 4}
DIFFERENT |= {"menuitem-element.dat": 1, "webkit01.dat": 1}  # the last: an attribute that the collection's own form cannot show


def cases() -> Iterator[tuple[str, str, str]]:
    """File, source and expected tree of every case for whole documents without scripting."""
    folder = sdist("html5lib", "1.1") / "html5lib/tests/testdata/tree-construction"
    for path in sorted(folder.glob("*.dat")):
        text = path.read_bytes().decode("utf-8").strip("\n")
        for case in re.split(r"\n\n(?=#data\n)", text):
            parts: dict[str, list[str]] = {}
            current: list[str] = []
            for line in case.split("\n"):
                if re.fullmatch(r"#(data|errors|new-errors|document-fragment|document|script-on|script-off)", line):
                    current = parts[line[1:]] = []
                else:
                    current.append(line)
            if "document-fragment" not in parts and "script-on" not in parts:
                yield path.name, "\n".join(parts["data"]), "\n".join(parts["document"])


def expected(tree: str) -> Shape:
    """Elements and text with their depth; comments, doctypes and attributes are held against other things."""
    lines: list[str] = []
    for line in tree.split("\n"):
        if line.startswith("| "):
            lines.append(line)
        elif lines:
            lines[-1] += "\n" + line
    found: Shape = []
    for line in lines:
        match = re.match(r"\| ( *)(.*)\Z", line, re.DOTALL)
        assert match is not None
        depth, body = len(match[1]) // 2, match[2]
        if body.startswith('"'):
            found.append((depth, "#", body[1:-1]))
        elif body == "content" or (body.startswith("<") and not body.startswith("<!")):
            found.append((depth, re.sub(r"\A(?:svg|math) ", "", body.strip("<>")), ""))
    return joined(found)


def built(document: Document) -> Shape:
    """The same of our tree."""
    found: Shape = []
    stack: list[tuple[object, int]] = [(document.root, 0)]
    while stack:
        node, depth = stack.pop()
        if isinstance(node, TextRun):
            found.append((depth, "#", node.text))
        else:
            found.append((depth, node.tag, ""))  # type: ignore[attr-defined]
            stack.extend((child, depth + 1) for child in reversed(node.children))  # type: ignore[attr-defined]
    return joined(found)


def joined(shape: Shape) -> Shape:
    """Neighbouring texts as one: a comment between them is left out."""
    found: Shape = []
    for depth, tag, text in shape:
        if tag == "#" and found and found[-1][:2] == (depth, "#"):
            found[-1] = depth, tag, found[-1][2] + text
        else:
            found.append((depth, tag, text))
    return found


def test_trees_agree() -> None:
    """1,394 of 1,516 trees are the collection's; each file that differs, and by how many cases, is named above."""
    agree, different = 0, Counter[str]()
    for name, source, tree in cases():
        if built(parse(source, NO_FIELDS)) == expected(tree):
            agree += 1
        else:
            different[name] += 1
    assert different == DIFFERENT
    assert agree == 1394


def test_joined_tokens_are_the_source() -> None:
    """Nothing of any case is lost or doubled, and every text that has a place is read back from it."""
    import html

    for _, source, _ in cases():
        document = parse(source, NO_FIELDS)
        assert "".join(document.source.slice(token.span) for token in document.tokens) == source
        for element in document.all_elements:
            for span in (element.start_tag, element.end_tag):
                assert span is None or document.source.slice(span).startswith("<")
            for child in element.children:
                if isinstance(child, TextRun) and child.span is not None and child.text.strip() and "\0" not in source:
                    raw = document.source.slice(child.span)
                    assert child.text in (raw, html.unescape(raw)) or "\r" in raw


@pytest.mark.parametrize("source", ["<?", "<!", "</", "<a", "<!--", "a<b"])
def test_a_source_that_breaks_off_is_one_whole(source: str) -> None:
    """Tokens cover what never ends, too."""
    assert "".join(source[token.span.start : token.span.end] for token in parse(source).tokens) == source
