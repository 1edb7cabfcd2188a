"""Values that fit schemas: the document's own examples, else made from types. The same each time, and bounded."""

from typing import Any, Literal

from tamarack.core.linear_patterns import matches
from tamarack.core.openapi.example_numbers import number_for
from tamarack.core.openapi.pattern_text import text_for
from tamarack.core.openapi.references import resolve

DEEPEST = 6
MOST_ITEMS = 20
"""Items of one list, and properties that are named by nobody."""
LONGEST_TEXT = 5_000
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
        if kind == "object" or "properties" in schema or "patternProperties" in schema or merged:
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
            return number_for(schema, kind)
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
        self._further(schema, into, depth, inside)

    def _further(self, schema: Document, into: Document, depth: int, inside: tuple[str, ...]) -> None:
        """Properties that have to be there and are described by no name of their own."""
        required = schema.get("required")
        names = [one for one in required if isinstance(one, str)] if isinstance(required, list) else []
        properties = schema.get("properties")
        described = properties if isinstance(properties, dict) else {}
        least = schema.get("minProperties")
        if isinstance(least, int):
            names += [f"property{number}" for number in range(1, min(least, MOST_ITEMS) - len(into) + 1)]
        patterns = schema.get("patternProperties")
        for name in names:
            if name in into or name in described:
                continue
            fits = [inner for pattern, inner in patterns.items() if matches(pattern, name)] if isinstance(
                patterns, dict) else []  # fmt: skip
            others = schema.get("additionalProperties")
            inner = fits[0] if fits else others if isinstance(others, dict) else {"type": "string"}
            made = self.value(inner, depth + 1, inside)
            if made is not _NOTHING:
                into[name] = made

    def _items(self, schema: Document, depth: int, inside: tuple[str, ...]) -> list[Any]:
        firsts = schema.get("prefixItems")
        made = [self.value(one, depth + 1, inside) for one in (firsts if isinstance(firsts, list) else [])]
        items = schema.get("items")
        least, most = schema.get("minItems"), schema.get("maxItems")
        wanted = min(least, MOST_ITEMS) if isinstance(least, int) and least > 0 else 0 if made else 1
        if isinstance(most, int) and not isinstance(most, bool):
            wanted = min(wanted, most)
        if isinstance(schema.get("contains"), dict) and wanted:
            made.append(self.value(schema["contains"], depth + 1, inside))
        if isinstance(items, dict) or (items is None and isinstance(least, int)):
            while len(made) < wanted:
                one = self.value(items if isinstance(items, dict) else {"type": "string"}, depth + 1, inside)
                if one is _NOTHING:
                    break
                made.append(self._another(one, made, items) if schema.get("uniqueItems") is True else one)
        return [one for one in made if one is not _NOTHING]

    def _another(self, value: Any, among: list[Any], schema: Any) -> Any:
        """A value like another that is not among some: the next choice, number or text."""
        if value not in among:
            return value
        whole = resolve(self.document, schema)
        choices = whole.get("enum") if isinstance(whole, dict) else None
        if isinstance(choices, list):
            return next((one for one in choices if one not in among), _NOTHING)
        if isinstance(value, bool) or not isinstance(value, int | float | str):
            return _NOTHING
        step = whole.get("multipleOf", 1) if isinstance(whole, dict) else 1
        for turn in range(1, MOST_ITEMS + 1):
            other = f"{value}-{turn + 1}" if isinstance(value, str) else value + turn * step
            if other not in among:
                return other
        return _NOTHING

    @staticmethod
    def _text(schema: Document) -> str:
        pattern = schema.get("pattern")
        made = text_for(pattern) if isinstance(pattern, str) else None
        if made is not None:
            return made
        text = _BY_FORMAT.get(str(schema.get("format")), "text")
        least, most = schema.get("minLength"), schema.get("maxLength")
        if isinstance(least, int) and len(text) < least <= LONGEST_TEXT:
            text = (text * (least // len(text) + 1))[:least]
        if isinstance(most, int) and 0 <= most < len(text):
            text = text[:most]
        return text
