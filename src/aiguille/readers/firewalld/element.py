"""Elements of firewalld's XML files, each with its place."""

from __future__ import annotations

from lxml import etree
from msgspec import Struct

from aiguille.model import Span, UnreadableError
from aiguille.readers.files import ExportFile, LedgerBuilder


class Element(Struct, frozen=True):
    """An XML element with its place."""

    tag: str
    attributes: dict[str, str]
    text: str
    where: Span
    children: tuple[Element, ...] = ()

    def get(self, name: str, other: str = "") -> str:
        return self.attributes.get(name, other)

    def child(self, *tags: str) -> Element | None:
        return next((one for one in self.children if one.tag in tags), None)

    def all(self, tag: str) -> list[Element]:
        return [one for one in self.children if one.tag == tag]


def parse(file: ExportFile, ledger: LedgerBuilder) -> Element:
    """The root element of a file.

    Raises UnreadableError for XML that is not well-formed, or that declares a document type: firewalld's files have none, and
    entities could expand without bound.
    """
    text = "\n".join(file.lines)
    if "<!DOCTYPE" in text or "<!ENTITY" in text:
        line = text[: text.find("<!")].count("\n") + 1
        raise UnreadableError(
            f"{file.path}:{line}: a document type is declared, which no file of firewalld has; nothing is read"
        )
    parser = etree.XMLParser(resolve_entities=False, no_network=True, remove_comments=True, remove_pis=True)
    try:
        root = etree.fromstring(text.encode(), parser)
    except etree.XMLSyntaxError as error:
        line = error.lineno or 1
        raise UnreadableError(
            f"{file.path}:{line}: this is not well-formed XML ({error.msg}); copy the file again"
        ) from error
    # What no reader asks for is layout: closing tags, comments, descriptions.
    ledger.set_aside(file.span(1, len(file.lines)), "layout or description")
    return _element(root, file)


def _element(node: etree._Element, file: ExportFile) -> Element:
    said = node.sourceline
    line = min(said, len(file.lines)) if isinstance(said, int) and said > 0 else 1
    return Element(
        str(node.tag),
        {str(k): str(v) for k, v in node.attrib.items()},
        (node.text or "").strip(),
        file.span(line),
        tuple(_element(child, file) for child in node if isinstance(child.tag, str)),
    )
