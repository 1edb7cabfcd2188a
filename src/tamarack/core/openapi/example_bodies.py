"""An example value written as its media type asks: JSON, forms (urlencoded and multipart), XML, plain text."""

import json
import re
from typing import Any
from urllib.parse import quote
from xml.sax.saxutils import escape, quoteattr

from tamarack.core.openapi.parameter_styles import pairs_of
from tamarack.core.openapi.references import resolve

BOUNDARY = "tamarack-example"
_DEEPEST = 12
_XML_NAME = re.compile(r"[A-Za-z_][A-Za-z0-9._-]*(:[A-Za-z_][A-Za-z0-9._-]*)?", re.ASCII)

Document = dict[str, Any]


def media_of(media: str) -> str:
    """A media type without its parameters, in lower case."""
    return media.partition(";")[0].strip().lower()


def content_type(media: str) -> str:
    """What a call with a body of this type says in its field."""
    return f"{media}; boundary={BOUNDARY}" if media_of(media) == "multipart/form-data" else media


def body_text(document: Document, media: str, schema: Any, value: Any, encoding: Any = None) -> str:
    """A value as a body; "" where none can be made. A value that is text already stays as it is."""
    kind = media_of(media)
    if value is None:
        return ""
    if isinstance(value, dict) and kind == "application/x-www-form-urlencoded":
        return _urlencoded(value, encoding)
    if isinstance(value, dict) and kind == "multipart/form-data":
        return _multipart(document, value, schema)
    if kind.endswith(("/xml", "+xml")) and not isinstance(value, str):
        return _xml(document, value, schema)
    if isinstance(value, str) and not kind.endswith(("/json", "+json")):
        return value
    if isinstance(value, str) and value.lstrip()[:1] in ("{", "["):
        return value  # an example that its author wrote as the text of a body
    return json.dumps(value, indent=2, ensure_ascii=False)


def _plain(value: Any) -> str:
    if isinstance(value, str):
        return value
    return json.dumps(value, ensure_ascii=False)


def _urlencoded(value: Document, encoding: Any) -> str:
    """`application/x-www-form-urlencoded`, lists as the encoding of their property says (OpenAPI 3.1, 4.8.15)."""
    encoding = encoding if isinstance(encoding, dict) else {}
    found = []
    for name, inner in value.items():
        how = encoding.get(name)
        how = how if isinstance(how, dict) else {}
        found += pairs_of(name, inner, str(how.get("style", "form")), how.get("explode", True) is True)
    return "&".join(f"{quote(name, safe='[]')}={quote(text, safe=',')}" for name, text in found)


def _multipart(document: Document, value: Document, schema: Any) -> str:
    schema = resolve(document, schema)
    properties = schema.get("properties") if isinstance(schema, dict) else None
    properties = properties if isinstance(properties, dict) else {}
    lines = []
    for name, inner in value.items():
        described = resolve(document, properties.get(name))
        described = described if isinstance(described, dict) else {}
        kind = described.get("items") if described.get("type") == "array" else described
        is_file = isinstance(kind, dict) and (kind.get("format") == "binary" or "contentMediaType" in kind)
        for one in inner if isinstance(inner, list) else [inner]:
            field = re.sub(r'[\r\n"]', "_", name)
            lines += [f"--{BOUNDARY}"]
            disposition = f'Content-Disposition: form-data; name="{field}"'
            lines += [disposition + (f'; filename="{field}.bin"' if is_file else "")]
            if isinstance(one, dict):
                lines += ["Content-Type: application/json"]
            elif is_file:
                lines += ["Content-Type: application/octet-stream"]
            lines += ["", _plain(one)]
    return "\r\n".join([*lines, f"--{BOUNDARY}--", ""])


def _xml(document: Document, value: Any, schema: Any) -> str:
    name = "root"
    if isinstance(schema, dict) and isinstance(schema.get("$ref"), str):
        name = schema["$ref"].rpartition("/")[2]
    return '<?xml version="1.0" encoding="UTF-8"?>\n' + "\n".join(_element(document, name, value, schema, 0))


def _element(document: Document, name: str, value: Any, schema: Any, depth: int) -> list[str]:
    """An element and what is in it, named and laid out by the schema's `xml` (OpenAPI 3.1, 4.8.26)."""
    schema = resolve(document, schema)
    schema = schema if isinstance(schema, dict) else {}
    said = schema.get("xml")
    said = said if isinstance(said, dict) else {}
    if isinstance(value, list):
        items = schema.get("items", {})
        if said.get("wrapped") is not True and depth:
            return [line for one in value for line in _element(document, name, one, items, depth)]
        inner = [line for one in value for line in _element(document, name if depth else "item", one, items, depth + 1)]
        return _wrapped(_named(said, name), "", inner, depth)
    name = _named(said, name)
    attributes = ""
    if isinstance(said.get("namespace"), str):
        prefix = said.get("prefix")
        mark = f"xmlns:{prefix}" if isinstance(prefix, str) and _XML_NAME.fullmatch(prefix) else "xmlns"
        attributes = f" {mark}={quoteattr(said['namespace'])}"
    if not isinstance(value, dict) or depth > _DEEPEST:
        text = value if isinstance(value, str) else json.dumps(value)
        return [f"{'  ' * depth}<{name}{attributes}>{escape(text)}</{name}>"]
    inner = []
    properties = _properties(document, schema, 0)
    for key, one in value.items():
        how = resolve(document, properties.get(key))
        how = how if isinstance(how, dict) else {}
        of_xml = how.get("xml")
        if isinstance(of_xml, dict) and of_xml.get("attribute") is True and not isinstance(one, dict | list):
            attributes += f" {_named(of_xml, key)}={quoteattr(_plain(one))}"
        else:
            inner += _element(document, key, one, properties.get(key), depth + 1)
    return _wrapped(name, attributes, inner, depth)


def _properties(document: Document, schema: Document, depth: int) -> Document:
    """The properties of a schema and of what it is made from."""
    found: Document = {}
    for part in schema.get("allOf") or []:
        whole = resolve(document, part)
        if isinstance(whole, dict) and depth < _DEEPEST:
            found |= _properties(document, whole, depth + 1)
    own = schema.get("properties")
    return found | (own if isinstance(own, dict) else {})


def _wrapped(name: str, attributes: str, inner: list[str], depth: int) -> list[str]:
    pad = "  " * depth
    if not inner:
        return [f"{pad}<{name}{attributes}/>"]
    return [f"{pad}<{name}{attributes}>", *inner, f"{pad}</{name}>"]


def _named(said: Document, name: str) -> str:
    own = said.get("name")
    name = own if isinstance(own, str) else name
    prefix = said.get("prefix")
    name = f"{prefix}:{name}" if isinstance(prefix, str) and prefix else name
    return name if _XML_NAME.fullmatch(name) else "_" + (re.sub(r"[^A-Za-z0-9._-]", "_", name) or "_")
