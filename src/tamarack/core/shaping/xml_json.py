"""JSON as XML and XML as JSON, both ways, within bounds.

An object's names become elements, a list one element for each item, `@name` an attribute, `#text` the text beside them;
null is an empty element. The other way repeated elements become a list, an element with nothing in it null, and all
else text, unless values are to be read: then `12`, `1.5`, `true` and `false` are what JSON knows them as.

What JSON says is in the XML and comes back as it was, but for: lists of one item and empty lists (which XML cannot tell
from what is no list; elements that are always lists can be named), empty texts, and numbers and truth values where they
are not read. Documents with a DTD are refused, so that no entity is ever resolved.
"""

from __future__ import annotations

import re
from dataclasses import dataclass
from decimal import Decimal
from functools import lru_cache
from typing import Any

from lxml import etree

from tamarack.core.errors import CoreError

DEEPEST = 100
MOST_ELEMENTS = 200_000
_NAME = re.compile(r"[A-Za-z_][\w.-]*\Z")
_NUMBER = re.compile(r"-?(?:0|[1-9][0-9]{0,17})(?:\.[0-9]{1,17})?\Z")
_UNFIT = re.compile("[^\t\n\r\x20-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""Characters that XML 1.0 cannot hold (2.2)."""


_NO_DTD = "it has a document type declaration, which is never read; leave it out"


class NotConverted(CoreError, ValueError):
    """A body that cannot be brought to the other form; the message says why."""


@dataclass(frozen=True, slots=True)
class XmlForm:
    """How the two meet. `root` is the outermost element's name where JSON names none; `item` that of a list's items
    where nothing names them; `lists` are elements that are lists however many there are."""

    root: str = "document"
    item: str = "item"
    lists: frozenset[str] = frozenset()
    read_values: bool = False
    keep_prefixes: bool = False


def is_element_name(name: str) -> bool:
    """Whether a name can be an element's, without a namespace."""
    return _NAME.match(name) is not None and len(name) <= 200


def to_xml(value: Any, form: XmlForm) -> bytes:
    """A JSON value as an XML document in UTF-8. Raises `NotConverted`.

    An object with one name that holds no list is that element; anything else stands in the root.
    """
    parts = ["<?xml version='1.0' encoding='UTF-8'?>\n"]
    if isinstance(value, dict) and len(value) == 1:
        name, inner = next(iter(value.items()))
        if not isinstance(inner, list) and not name.startswith(("@", "#")):
            _write(parts, name, inner, form, 1)
            return "".join(parts).encode()
    _write(parts, form.root, value, form, 1)
    return "".join(parts).encode()


@lru_cache(maxsize=4096)
def _named(name: str) -> str:
    """A name that stands between brackets as it is."""
    if not is_element_name(name):
        raise NotConverted(f"{name[:60]!r} cannot be the name of an element")
    return name


def _write(parts: list[str], name: str, value: Any, form: XmlForm, depth: int) -> None:
    """An element, written: its text escaped, its names checked, so that nothing in it is markup."""
    if depth > DEEPEST:
        raise NotConverted(f"it is nested deeper than {DEEPEST} levels")
    name = _named(name)
    if isinstance(value, dict):
        attributes = "".join(_attribute(key[1:], inner) for key, inner in value.items() if key[:1] == "@")
        inside: list[str] = []
        if "#text" in value:
            inside.append(_text(value["#text"]))
        for key, inner in value.items():
            if key[:1] != "@" and key != "#text":
                _write_all(inside, key, inner, form, depth)
        parts.append(f"<{name}{attributes}>{''.join(inside)}</{name}>" if inside else f"<{name}{attributes}/>")
    elif isinstance(value, list):
        inside = []
        _write_all(inside, form.item, value, form, depth)
        parts.append(f"<{name}>{''.join(inside)}</{name}>" if inside else f"<{name}/>")
    elif value is None:
        parts.append(f"<{name}/>")
    else:
        parts.append(f"<{name}>{_text(value)}</{name}>")


def _write_all(parts: list[str], name: str, value: Any, form: XmlForm, depth: int) -> None:
    for one in value if isinstance(value, list) else (value,):
        # A list within a list has no names for its items: it stands in an element of its own.
        _write(parts, name, {form.item: one} if isinstance(one, list) else one, form, depth + 1)


def _attribute(name: str, value: Any) -> str:
    if not is_element_name(name):
        raise NotConverted(f"{name[:60]!r} cannot be the name of an attribute")
    if isinstance(value, dict | list):
        raise NotConverted(f"the attribute {name!r} is no text, number or truth value")
    text = _text(value).replace('"', "&quot;").replace("\t", "&#9;").replace("\n", "&#10;")
    return f' {name}="{text}"'


def _text(value: Any) -> str:
    if isinstance(value, str):
        text: str = value
        if _UNFIT.search(text):
            raise NotConverted("a text holds a character that XML cannot hold")
        if "&" in text or "<" in text or ">" in text or "\r" in text:
            text = text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;").replace("\r", "&#13;")
        return text
    if isinstance(value, dict | list):
        raise NotConverted("the text of an element is no text, number or truth value")
    return "" if value is None else ("true" if value else "false") if isinstance(value, bool) else str(value)


def from_xml(body: bytes, form: XmlForm) -> Any:
    """An XML document as a JSON value: an object with the root's name. Raises `NotConverted`."""
    parser = etree.XMLParser(
        resolve_entities=False,
        no_network=True,
        load_dtd=False,
        dtd_validation=False,
        huge_tree=False,
        remove_comments=True,
        remove_pis=True,
    )
    try:
        root = etree.fromstring(body, parser)
    except (etree.XMLSyntaxError, ValueError) as error:
        if b"<!DOCTYPE" in body.replace(b"\x00", b""):
            raise NotConverted(_NO_DTD) from error
        raise NotConverted(f"it is not well-formed XML: {str(error).partition(' (')[0]}") from error
    info = root.getroottree().docinfo
    if info.internalDTD is not None or info.externalDTD is not None or info.doctype:
        raise NotConverted(_NO_DTD)
    reader = _Reader(form)
    return {reader.name(root.tag, root): reader.value(root, 1)}


class _Reader:
    def __init__(self, form: XmlForm) -> None:
        self.form = form
        self.seen = 0

    def name(self, tag: Any, element: Any) -> str:
        """An element's or an attribute's name: without its namespace, or with the prefix that it is written with."""
        text = str(tag)
        if not text.startswith("{"):
            return text
        space, _, local = text[1:].partition("}")
        if not self.form.keep_prefixes:
            return local
        prefix = next((one for one, address in element.nsmap.items() if address == space and one), "")
        return f"{prefix}:{local}" if prefix else local

    def value(self, element: Any, depth: int) -> Any:
        """What an element holds."""
        self.seen += 1
        if depth > DEEPEST:
            raise NotConverted(f"it is nested deeper than {DEEPEST} levels")
        if self.seen > MOST_ELEMENTS:
            raise NotConverted(f"it has more than {MOST_ELEMENTS:,} elements")
        made: dict[str, Any] = {f"@{self.name(key, element)}": self._read(text) for key, text in element.attrib.items()}
        texts = [element.text or ""]
        inside: dict[str, list[Any]] = {}
        for child in element:
            if not isinstance(child.tag, str):
                raise NotConverted("it refers to an entity, which is never resolved")
            inside.setdefault(self.name(child.tag, child), []).append(self.value(child, depth + 1))
            texts.append(child.tail or "")
        lists = self.form.lists
        made |= {name: found if len(found) > 1 or name in lists else found[0] for name, found in inside.items()}
        text = "".join(texts)
        if not made:
            return self._read(text) if text else None
        if text.strip():
            made["#text"] = self._read(text.strip())
        return made

    def _read(self, text: str) -> Any:
        if not self.form.read_values:
            return text
        if text in ("true", "false"):
            return text == "true"
        if _NUMBER.match(text):
            return int(text) if "." not in text else float(Decimal(text))
        return text
