"""A schema in words, with what is inside it, as deep and as much as a page takes; the rest opens on demand."""

import json
from dataclasses import dataclass, field
from typing import Any

from tamarack.core.openapi.plain import dict_of, list_of, text_of
from tamarack.core.openapi.references import target

OPENED = 3
"""Levels that are laid out at once."""
MOST_PROPERTIES = 200
MOST_VIEWS = 500
"""Schemas laid out together: what lies beyond is opened by its pointer."""
MOST_VARIANTS = 50
MOST_WORDS = 300
"""Characters of one rule; a pattern may be longer than anyone reads."""
_MOST_PARTS = 40

Document = dict[str, Any]


@dataclass(slots=True)
class SchemaView:
    """A schema in words, with what is inside it."""

    words: str
    description: str = ""
    rules: tuple[str, ...] = ()
    enum: tuple[str, ...] = ()
    properties: list[tuple[str, bool, "SchemaView"]] = field(default_factory=list)
    patterns: list[tuple[str, "SchemaView"]] = field(default_factory=list)
    """What properties hold whose names match a regular expression."""
    places: list["SchemaView"] = field(default_factory=list)
    """What the first items of a list hold, one by one."""
    others: "SchemaView | None" = None
    """What properties of other names hold, where the schema says so."""
    closed: bool = False
    """Whether properties of other names are refused."""
    left_out: int = 0
    """How many properties are not shown, where there are very many."""
    variants: list["SchemaView"] = field(default_factory=list)
    variants_words: str = ""
    excluded: "SchemaView | None" = None
    """What a value must not fit."""
    opens_at: str = ""
    """Where more of it stands (a JSON Pointer into the document), which is laid out when it is asked for."""
    circular: bool = False
    """Whether that is what it stands in itself."""
    deprecated: bool = False

    @property
    def opens(self) -> bool:
        """Whether there is something inside to show."""
        return bool(
            self.properties or self.variants or self.patterns or self.places or self.others or self.excluded
        ) or bool(self.opens_at)


def view_schema(document: Document, schema: Any, at: str = "") -> SchemaView:
    """A schema in words. `at` is where it stands, as a JSON Pointer; "" where that is not known."""
    return _Layout(document).view(schema, at, 0, ())


class _Layout:
    def __init__(self, document: Document) -> None:
        self.document = document
        self.left = MOST_VIEWS

    def view(self, schema: Any, at: str, depth: int, inside: tuple[str, ...]) -> SchemaView:
        self.left -= 1
        if schema is True or schema == {}:
            return SchemaView("anything")
        if schema is False:
            return SchemaView("nothing")
        schema = dict_of(schema)
        reference = schema.get("$ref", schema.get("$dynamicRef"))
        if isinstance(reference, str):
            return self._referred(schema, reference, at, depth, inside)
        enum = schema.get("enum")
        view = SchemaView(
            _words(schema),
            text_of(schema.get("description")),
            _rules(schema),
            tuple(_value(one) for one in enum[:MOST_VIEWS]) if isinstance(enum, list) else (),
            deprecated=schema.get("deprecated") is True,
        )
        for place, part in enumerate(list_of(schema.get("allOf"))[:_MOST_PARTS]):
            _merge(view, self.view(part, f"{at}/allOf/{place}" if at else "", depth, inside))
        if depth >= OPENED or self.left <= 0:
            if _has_inside(schema) and at:
                view.opens_at = at
            elif _has_inside(schema):
                view.left_out += len(dict_of(schema.get("properties")))
            return view
        self._inside(view, schema, at, depth, inside)
        return view

    def _referred(self, schema: Document, reference: str, at: str, depth: int, inside: tuple[str, ...]) -> SchemaView:
        name = _last(reference)
        meant = target(self.document, reference)
        if meant is None:
            return SchemaView(name if reference.startswith("#") and len(reference) > 1 else "anything")
        if reference in inside or len(inside) > 20:
            return SchemaView(name, opens_at=reference[1:], circular=True)
        beside = {key: value for key, value in schema.items() if key not in ("$ref", "$dynamicRef")}
        view = self.view(meant, reference[1:], depth, (*inside, reference))
        if view.words.split(",")[0] in ("object", "any", "one of several"):
            view.words = name
        view.description = text_of(beside.get("description")) or view.description
        view.deprecated = view.deprecated or beside.get("deprecated") is True
        if any(key not in ("description", "deprecated", "summary", "title") for key in beside):
            _merge(view, self.view(beside, at, depth, inside))
        return view

    def _inside(self, view: SchemaView, schema: Document, at: str, depth: int, inside: tuple[str, ...]) -> None:
        def inner(value: Any, *way: str) -> SchemaView:
            place = at + "".join("/" + part.replace("~", "~0").replace("/", "~1") for part in way) if at else ""
            return self.view(value, place, depth + 1, inside)

        required = schema.get("required")
        required = required if isinstance(required, list) else []
        properties = dict_of(schema.get("properties"))
        for name, one in list(properties.items())[:MOST_PROPERTIES]:
            view.properties.append((name, name in required, inner(one, "properties", name)))
        # What another part of an allOf describes may be required here.
        view.properties = [(name, must or name in required, one) for name, must, one in view.properties]
        view.left_out += max(0, len(properties) - MOST_PROPERTIES)
        for name, one in list(dict_of(schema.get("patternProperties")).items())[:MOST_VARIANTS]:
            view.patterns.append((name, inner(one, "patternProperties", name)))
        more = schema.get("additionalProperties", schema.get("unevaluatedProperties"))
        if isinstance(more, dict) and more:
            view.others = inner(more, "additionalProperties")
        elif more is False:
            view.closed = True
        for key, words in (("oneOf", "exactly one of"), ("anyOf", "one or more of")):
            if isinstance(schema.get(key), list) and schema[key]:
                view.variants_words = words + self._told_apart(schema)
                view.variants = [inner(one, key, str(place)) for place, one in enumerate(schema[key][:MOST_VARIANTS])]
        if isinstance(schema.get("not"), dict) and schema["not"]:
            view.excluded = inner(schema["not"], "not")
        view.places = [
            inner(one, "prefixItems", str(place))
            for place, one in enumerate(list_of(schema.get("prefixItems"))[:MOST_VARIANTS])
        ]
        if isinstance(schema.get("items"), dict):
            _as_list(view, self.view(schema["items"], f"{at}/items" if at else "", depth, inside))
        elif schema.get("items") is False:
            view.rules += ("no items beyond these",)

    def _told_apart(self, schema: Document) -> str:
        """By which property variants are told apart, and by which of its values, where the document maps them."""
        by = dict_of(schema.get("discriminator"))
        if not isinstance(by.get("propertyName"), str):
            return ""
        mapped = ", ".join(
            f"`{value}` is {_last(str(where))}" for value, where in list(dict_of(by.get("mapping")).items())[:20]
        )
        return f" (`{by['propertyName']}` tells which{': ' + mapped if mapped else ''})"


def _as_list(view: SchemaView, inner: SchemaView) -> None:
    """Make the view that of a list, of what the inner one shows."""
    view.words = f"list of {inner.words}"
    view.properties, view.circular, view.others = inner.properties, inner.circular, inner.others
    view.variants, view.variants_words, view.closed = inner.variants, inner.variants_words, inner.closed
    view.patterns, view.excluded, view.opens_at = inner.patterns, inner.excluded, inner.opens_at
    view.enum, view.left_out = view.enum or inner.enum, inner.left_out
    view.rules += tuple(f"each {rule}" for rule in inner.rules)
    view.description = view.description or inner.description


def _has_inside(schema: Document) -> bool:
    held = ("properties", "patternProperties", "oneOf", "anyOf", "prefixItems", "not")
    return (
        any(schema.get(key) for key in held)
        or any(isinstance(schema.get(key), dict) and schema[key] for key in ("additionalProperties",))
        or (isinstance(schema.get("items"), dict) and ("$ref" in schema["items"] or _has_inside(schema["items"])))
    )


def _merge(view: SchemaView, part: SchemaView) -> None:
    """Take a part of an allOf into the whole: everything that any part says holds."""
    known = {name for name, _, _ in view.properties}
    view.properties += [one for one in part.properties if one[0] not in known]
    view.rules += tuple(rule for rule in part.rules if rule not in view.rules)
    view.enum = view.enum or part.enum
    view.description = view.description or part.description
    view.others = view.others or part.others
    view.closed = view.closed or part.closed
    view.patterns += part.patterns
    view.excluded = view.excluded or part.excluded
    view.places = view.places or part.places
    view.left_out += part.left_out
    view.opens_at = view.opens_at or part.opens_at
    if part.variants and not view.variants:
        view.variants, view.variants_words = part.variants, part.variants_words
    if view.words == "any":
        view.words = "object" if part.properties else part.words
    view.circular = view.circular or (part.circular and not part.properties)


def _last(reference: str) -> str:
    return reference.rpartition("/")[2].lstrip("#").replace("~1", "/").replace("~0", "~") or "the whole"


def _words(schema: Document) -> str:
    kind = schema.get("type")
    if "prefixItems" in schema and kind == "array":
        kind = "list"
    if isinstance(kind, list):
        words = " or ".join(str(one) for one in kind)
    elif kind is not None:
        words = str(kind) + (" or null" if schema.get("nullable") is True else "")
    elif "properties" in schema:
        words = "object"
    elif "prefixItems" in schema:
        words = "list"
    elif "enum" in schema or "const" in schema:
        values = schema.get("enum") or [schema.get("const")]
        words = "string" if all(isinstance(one, str) for one in list_of(values)) else "value"
    else:
        words = "one of several" if schema.get("oneOf") or schema.get("anyOf") else "any"
    words = f"{words}, {schema['format']}" if isinstance(schema.get("format"), str) else words
    return words if len(words) <= MOST_WORDS else words[: MOST_WORDS - 1] + "…"


_RULES = {
    "minimum": "at least {}",
    "maximum": "at most {}",
    "exclusiveMinimum": "more than {}",
    "exclusiveMaximum": "less than {}",
    "multipleOf": "a multiple of {}",
    "minLength": "at least {} characters",
    "maxLength": "at most {} characters",
    "minItems": "at least {} items",
    "maxItems": "at most {} items",
    "minProperties": "at least {} properties",
    "maxProperties": "at most {} properties",
    "pattern": "matches {}",
    "const": "always {}",
    "default": "{} unless given",
}
_ONE = {"minLength": "at least 1 character", "maxLength": "at most 1 character", "minItems": "at least 1 item",
        "maxItems": "at most 1 item", "minProperties": "at least 1 property",
        "maxProperties": "at most 1 property"}  # fmt: skip
_MARKS = {"uniqueItems": "no item twice", "readOnly": "only in answers", "writeOnly": "only in requests"}


def _value(value: Any) -> str:
    text = value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)
    return text if len(text) <= MOST_WORDS else text[: MOST_WORDS - 1] + "…"


def _rules(schema: Document) -> tuple[str, ...]:
    known = {key: words for key, words in _RULES.items() if key in schema and not isinstance(schema[key], bool)}
    rules = [
        _ONE[key] if schema[key] == 1 and key in _ONE else words.format(_value(schema[key]))
        for key, words in known.items()
    ]
    for bound, words in (("exclusiveMinimum", "more than the least"), ("exclusiveMaximum", "less than the most")):
        if schema.get(bound) is True:  # 3.0: the minimum or maximum itself is left out
            number = _value(schema.get("minimum" if "Min" in bound else "maximum"))
            old = _RULES["minimum" if "Min" in bound else "maximum"].format(number)
            new = f"{words.split(' the ')[0]} {number}"
            rules = [new if rule == old else rule for rule in rules]
    for key in ("const", "default"):
        if isinstance(schema.get(key), bool):
            rules.append(_RULES[key].format(_value(schema[key])))
    return (*rules, *(words for key, words in _MARKS.items() if schema.get(key) is True))
