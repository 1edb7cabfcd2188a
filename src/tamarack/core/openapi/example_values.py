"""Values that fit schemas: the document's own examples, else made from types. The same each time, and bounded."""

from typing import Any, Literal

from tamarack.core.openapi.pattern_text import text_for
from tamarack.core.openapi.references import resolve

DEEPEST = 6
MOST_VALUES = 250
"""Values made for one example; what lies beyond is left out."""

Document = dict[str, Any]
Side = Literal["request", "answer"]

_NOTHING = object()
_BY_FORMAT = {
    "date": "2026-11-23",
    "date-time": "2026-11-23T07:45:00Z",
    "time": "07:45",
    "email": "m.tern@tern-trips.example",
    "uri": "https://skerry.example/",
    "uuid": "3d6f0c1e-4b1a-4d27-9a57-0c9a3f1d2b77",
    "byte": "dGV4dA==",
    "ipv4": "192.0.2.7",
    "ipv6": "2001:db8::7",
    "hostname": "skerry.example",
}
_BY_TYPE: dict[str, Any] = {"boolean": True, "null": None}


def example_of(document: Document, schema: Any, side: Side = "answer") -> Any:
    """A value that fits a schema; None where it cannot be told. What only answers hold is in no request."""
    made = _Maker(document, side).value(schema, 0, ())
    return None if made is _NOTHING else made


def named_examples(document: Document, holder: Document) -> dict[str, Any]:
    """The examples that a parameter, body or header gives by name, each with its value ("" is the one without)."""
    found: dict[str, Any] = {}
    if "example" in holder:
        found[""] = holder["example"]
    examples = holder.get("examples")
    for name, one in examples.items() if isinstance(examples, dict) else ():
        one = resolve(document, one)
        if isinstance(one, dict) and "value" in one:
            found[name] = one["value"]
    return found


class _Maker:
    def __init__(self, document: Document, side: Side) -> None:
        self.document = document
        self.hidden = "readOnly" if side == "request" else "writeOnly"
        self.left = MOST_VALUES

    def value(self, schema: Any, depth: int, inside: tuple[str, ...]) -> Any:
        """A value; `_NOTHING` where the schema leads into itself, or too deep."""
        self.left -= 1
        if self.left < 0 or depth > DEEPEST:
            return _NOTHING
        name = ""
        while isinstance(schema, dict) and isinstance(schema.get("$ref"), str):
            reference = schema["$ref"]
            if reference in inside:
                return _NOTHING
            inside = (*inside, reference)
            name = name or reference.rpartition("/")[2]
            beside = {key: value for key, value in schema.items() if key in ("example", "default", "examples")}
            schema = resolve(self.document, {"$ref": reference})
            if beside and isinstance(schema, dict):
                schema = {**schema, **beside}
        if not isinstance(schema, dict):
            return None
        given = self._given(schema)
        if given is not _NOTHING:
            return given
        for key in ("oneOf", "anyOf"):
            if isinstance(schema.get(key), list) and schema[key]:
                return self._variant(schema, key, depth, inside)
        return self._made(schema, name, depth, inside)

    @staticmethod
    def _given(schema: Document) -> Any:
        if "example" in schema:
            return schema["example"]
        examples = schema.get("examples")
        if isinstance(examples, list) and examples:
            return examples[0]
        for key in ("default", "const"):
            if key in schema:
                return schema[key]
        enum = schema.get("enum")
        return enum[0] if isinstance(enum, list) and enum else _NOTHING

    def _variant(self, schema: Document, key: str, depth: int, inside: tuple[str, ...]) -> Any:
        """The first variant that can be made, with the value that tells it apart."""
        for one in schema[key]:
            made = self.value(one, depth, inside)
            if made is _NOTHING:
                continue
            own = self._made({k: v for k, v in schema.items() if k != key}, "", depth, inside)
            if isinstance(made, dict):
                made = {**(own if isinstance(own, dict) else {}), **made}
                if isinstance(one, dict) and isinstance(one.get("$ref"), str):
                    self._tell(made, schema, one["$ref"].rpartition("/")[2])
            return made
        return _NOTHING

    @staticmethod
    def _tell(made: Document, holder: Document, name: str) -> None:
        """Set the property that tells variants apart (OpenAPI 3.1, 4.8.25) to what it is for the schema so named."""
        by = holder.get("discriminator")
        by = by if isinstance(by, dict) else {}
        property = by.get("propertyName")
        if not isinstance(property, str) or not name:
            return
        mapping = by.get("mapping")
        mapped = mapping if isinstance(mapping, dict) else {}
        made[property] = next((value for value, where in mapped.items() if str(where).rpartition("/")[2] == name), name)

    def _made(self, schema: Document, name: str, depth: int, inside: tuple[str, ...]) -> Any:
        merged: Document = {}
        first: Any = _NOTHING
        for part in schema.get("allOf") or []:
            made = self.value(part, depth, inside)
            if isinstance(made, dict):
                merged |= made
            elif first is _NOTHING:
                first = made
        kind = schema.get("type")
        kind = next((one for one in kind if one != "null"), None) if isinstance(kind, list) else kind
        if kind == "object" or "properties" in schema or merged:
            self._properties(schema, merged, depth, inside)
            for part in [schema, *(schema.get("allOf") or [])]:
                whole = resolve(self.document, part)
                if isinstance(whole, dict) and name:
                    self._tell(merged, whole, name)
            return merged
        if first is not _NOTHING and kind is None:
            return first
        if kind == "array" or "prefixItems" in schema:
            return self._items(schema, depth, inside)
        if kind == "string":
            return self._text(schema)
        if kind in ("integer", "number"):
            return _number(schema, kind)
        return _BY_TYPE.get(str(kind))

    def _properties(self, schema: Document, into: Document, depth: int, inside: tuple[str, ...]) -> None:
        properties = schema.get("properties")
        for key, inner in properties.items() if isinstance(properties, dict) else ():
            whole = resolve(self.document, inner)
            if isinstance(whole, dict) and whole.get(self.hidden) is True:
                into.pop(key, None)
                continue
            made = self.value(inner, depth + 1, inside)
            if made is not _NOTHING:
                into[key] = made

    def _items(self, schema: Document, depth: int, inside: tuple[str, ...]) -> list[Any]:
        firsts = schema.get("prefixItems")
        made = [self.value(one, depth + 1, inside) for one in (firsts if isinstance(firsts, list) else [])]
        if not made and isinstance(schema.get("items"), dict):
            made = [self.value(schema["items"], depth + 1, inside)]
        return [one for one in made if one is not _NOTHING]

    @staticmethod
    def _text(schema: Document) -> str:
        pattern = schema.get("pattern")
        made = text_for(pattern) if isinstance(pattern, str) else None
        if made is not None:
            return made
        text = _BY_FORMAT.get(str(schema.get("format")), "text")
        least, most = schema.get("minLength"), schema.get("maxLength")
        if isinstance(least, int) and len(text) < least <= 200:
            text = (text * (least // len(text) + 1))[:least]
        if isinstance(most, int) and 0 <= most < len(text):
            text = text[:most]
        return text


def _number(schema: Document, kind: str) -> Any:
    """1 or 1.5, or the nearest that the schema's bounds allow."""
    value: Any = 1 if kind == "integer" else 1.5
    least, most = schema.get("minimum"), schema.get("maximum")
    over, under = schema.get("exclusiveMinimum"), schema.get("exclusiveMaximum")
    if isinstance(most, int | float) and not isinstance(most, bool):
        value = min(value, most - 1 if under is True else most)
    if isinstance(under, int | float) and not isinstance(under, bool):
        value = min(value, under - 1)
    if isinstance(least, int | float) and not isinstance(least, bool):
        value = max(value, least + 1 if over is True else least)
    if isinstance(over, int | float) and not isinstance(over, bool):
        value = max(value, over + 1)
    return value
