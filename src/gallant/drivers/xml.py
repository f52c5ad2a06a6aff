"""XML that a device sent: parsed without entities, without the network, within bounds; picked apart by XPath."""

from __future__ import annotations

from collections.abc import Mapping
from functools import lru_cache
from typing import TYPE_CHECKING, TypeAlias

if TYPE_CHECKING:
    from lxml import etree

DEEPEST = 64
MOST_ROWS = 20_000  # of one table in one answer
# Prefixes that every NETCONF profile may use without saying so (RFC 6241, 7317, 8348, 8343).
STANDARD = {
    "nc": "urn:ietf:params:xml:ns:netconf:base:1.0",
    "sys": "urn:ietf:params:xml:ns:yang:ietf-system",
    "hw": "urn:ietf:params:xml:ns:yang:ietf-hardware",
    "if": "urn:ietf:params:xml:ns:yang:ietf-interfaces",
    "rt": "urn:ietf:params:xml:ns:yang:ietf-routing",
    "lldp": "urn:ieee:std:802.1AB:yang:ieee802-dot1ab-lldp",
}


Element: TypeAlias = "etree._Element"
XPath: TypeAlias = "etree.XPath"


class NotXml(ValueError):
    """What came is no XML that is read here; says why."""


def parse_xml(raw: bytes) -> Element:
    """The document's root. A document type is refused whole: nobody who means well needs one here."""
    from lxml import etree  # late: most runs meet no XML

    if b"<!DOCTYPE" in raw[:4096] or b"<!ENTITY" in raw:
        raise NotXml("it declares a document type, which is refused")
    parser = etree.XMLParser(
        resolve_entities=False, no_network=True, load_dtd=False, huge_tree=False, remove_comments=True, remove_pis=True
    )
    try:
        root = etree.fromstring(raw, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        raise NotXml(str(error)) from None
    if root is None:
        raise NotXml("it is empty")
    if root.getroottree().docinfo.doctype:
        raise NotXml("it declares a document type, which is refused")
    if _deeper_than(root, DEEPEST):
        raise NotXml(f"it is nested deeper than {DEEPEST}")
    return root


def _deeper_than(root: Element, most: int) -> bool:
    level = [root]
    for _ in range(most):
        level = [child for element in level for child in element]
        if not level:
            return False
    return True


def picked(
    root: Element, find: Mapping[str, str | Mapping[str, str]], namespaces: Mapping[str, str]
) -> dict[str, object]:
    """By name: the text at an XPath, or for a table of XPaths one row for each element at `at`."""
    found: dict[str, object] = {}
    spaces = tuple(sorted(namespaces.items()))
    for name, wanted in find.items():
        if isinstance(wanted, str):
            found[name] = _text(root, _path(wanted, spaces))
            continue
        try:
            found[name] = table(root, wanted, namespaces)
        except NotXml as error:
            raise NotXml(f"its table of {name} {error}") from None
    return found


def table(root: Element, columns: Mapping[str, str], namespaces: Mapping[str, str]) -> list[dict[str, str]]:
    """One row for each element at `at`: by column, the text at its XPath where there is one."""
    spaces = tuple(sorted(namespaces.items()))
    rows = _path(columns["at"], spaces)(root)
    if len(rows) > MOST_ROWS:
        raise NotXml(f"has more than {MOST_ROWS:,} rows")
    paths = [(column, _path(path, spaces)) for column, path in columns.items() if column != "at"]
    return [{column: text for column, path in paths if (text := _text(element, path)) is not None} for element in rows]


@lru_cache(maxsize=1024)
def _path(path: str, namespaces: tuple[tuple[str, str], ...]) -> XPath:
    from lxml import etree

    return etree.XPath(path, namespaces=dict(namespaces))


def text_at(element: Element, path: str, namespaces: Mapping[str, str]) -> str | None:
    """The text of the first thing that an XPath finds; None where it finds nothing."""
    return _text(element, _path(path, tuple(sorted(namespaces.items()))))


def _text(element: Element, path: XPath) -> str | None:
    found = path(element)
    if isinstance(found, list):
        if not found:
            return None
        found = found[0]
    if isinstance(found, (bool, float)):
        return str(found).lower() if isinstance(found, bool) else f"{found:g}"
    if isinstance(found, str):
        return str(found).strip()
    return "".join(found.itertext()).strip()


def xpath_problem(path: str, namespaces: Mapping[str, str]) -> str | None:
    """Why a text is no XPath here; None where it is one."""
    from lxml import etree

    try:
        etree.XPath(path, namespaces=dict(namespaces))
        etree.fromstring(b"<x/>").xpath(path, namespaces=dict(namespaces))
    except etree.XPathError as error:
        return str(error)
    return None
