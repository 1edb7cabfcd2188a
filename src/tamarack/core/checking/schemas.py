"""Schemas of a description as one JSON Schema (2020-12) for a whole version, and values checked against it.

One schema holds those of all operations by key, so that what they refer to is compiled once. What cannot be compiled
(a pattern with look-around, a type that does not exist) is left out by itself, and said.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, Literal, NamedTuple

import jsonschema_rs

from tamarack.core.checking.described import DescribedMessages, SchemaSets
from tamarack.core.checking.words import in_words
from tamarack.core.linear_patterns import matcher
from tamarack.core.openapi.modern import modern_keywords
from tamarack.core.openapi.plain import dict_of
from tamarack.core.openapi.references import resolve, target

Document = dict[str, Any]
Direction = Literal["request", "answer"]
DEEPEST = 100
MOST_PROBLEMS = 50
MOST_VALUES = 2_000
"""Values of a message of which all problems are listed; of a larger one the first, for each costs time."""
DEEPEST_BRANCHING = 12
"""Levels of a value whose schema branches back into itself: each level may double the work."""
_MAPS = ("properties", "patternProperties", "dependentSchemas")
_LISTS = ("allOf", "anyOf", "oneOf", "prefixItems")
_SINGLE = ("items", "additionalProperties", "not", "if", "then", "else", "contains", "propertyNames",
           "unevaluatedItems", "unevaluatedProperties")  # fmt: skip
_VALUES = ("type", "enum", "const", "required", "minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum",
           "multipleOf", "minLength", "maxLength", "pattern", "format", "minItems", "maxItems", "uniqueItems",
           "minContains", "maxContains", "minProperties", "maxProperties", "dependentRequired")  # fmt: skip
_IN_PLACE = ("allOf", "anyOf", "oneOf")
_WHOLE = {"int32": (-(2**31), 2**31 - 1), "int64": (-(2**63), 2**63 - 1)}


class SchemaProblem(NamedTuple):
    """What of a value does not fit: the place within it as a JSON Pointer (RFC 6901), and words without the value."""

    pointer: str
    words: str


class SchemaWriter:
    """Puts schemas of a document together for one direction; what they refer to stands once, under `$defs`."""

    def __init__(self, document: Document, direction: Direction) -> None:
        self._document = document
        self._old = str(document.get("openapi", "3.0")).startswith("3.0")
        self._only = "readOnly" if direction == "request" else "writeOnly"
        self._names: dict[str, str] = {}
        self._waiting: list[str] = []
        self.schemas: dict[str, Any] = {}
        self.defs: dict[str, Any] = {}
        self.unusable: list[str] = []

    def add(self, schema: Any) -> str:
        """Take a schema in; its key. Empty for one that says nothing."""
        if schema is None or schema is True or schema == {}:
            return ""
        key = f"s{len(self.schemas)}"
        self.schemas[key] = self._written(schema, 0)
        while self._waiting:
            reference = self._waiting.pop()
            self.defs[self._names[reference]] = self._written(target(self._document, reference), 0)
        return key

    def whole(self) -> dict[str, Any]:
        """The one schema; empty where nothing was taken in."""
        return {"properties": self.schemas, "$defs": self.defs} if self.schemas else {}

    def _written(self, schema: Any, depth: int) -> Any:
        if not isinstance(schema, dict) or depth > DEEPEST:
            return schema is not False
        made: dict[str, Any] = {}
        reference = schema.get("$ref")
        if isinstance(reference, str):
            made["$ref"] = f"#/$defs/{self._named(reference)}"
            if self._old:
                return made
        said = modern_keywords(schema) if self._old else schema
        for word in _VALUES:
            if word in said:
                made[word] = said[word]
        for word in _MAPS:
            if isinstance(said.get(word), dict):
                made[word] = {name: self._written(one, depth + 1) for name, one in said[word].items()
                              if word != "patternProperties" or self._usable(name)}  # fmt: skip
        for word in _LISTS:
            if isinstance(said.get(word), list) and said[word]:
                made[word] = [self._written(one, depth + 1) for one in said[word]]
        for word in _SINGLE:
            if isinstance(said.get(word), dict | bool):
                made[word] = self._written(said[word], depth + 1)
        if "additionalProperties" in made:  # without names beside it the validator does not tell which one it is
            made.setdefault("properties", {})
        self._settle(made, said)
        return made

    def _settle(self, made: dict[str, Any], said: Mapping[str, Any]) -> None:
        """What is read otherwise in OpenAPI than in JSON Schema."""
        if "pattern" in made and not self._usable(made["pattern"]):
            del made["pattern"]
        bounds = _WHOLE.get(str(made.get("format")))
        if bounds is not None:
            made["allOf"] = [*made.get("allOf", ()), {"minimum": bounds[0], "maximum": bounds[1]}]
        required = made.get("required")
        if isinstance(required, list):
            inner = dict_of(said.get("properties"))
            kept = [name for name in required
                    if dict_of(resolve(self._document, inner.get(name))).get(self._only) is not True]  # fmt: skip
            made["required"] = kept

    def _named(self, reference: str) -> str:
        found = self._names.get(reference)
        if found is None:
            found = self._names[reference] = f"r{len(self._names)}"
            self._waiting.append(reference)
        return found

    def _usable(self, pattern: Any) -> bool:
        try:
            matcher(pattern)
        except (ValueError, TypeError):
            words = (
                f"the pattern {str(pattern)[:80]!r} is not checked: it has look-around, back-references or a mistake"
            )
            if words not in self.unusable:
                self.unusable.append(words)
            return False
        return True


def _validator(whole: Mapping[str, Any], formats: bool) -> jsonschema_rs.Draft202012Validator:
    return jsonschema_rs.Draft202012Validator(
        dict(whole), offline=True, validate_formats=formats, pattern_options=jsonschema_rs.RegexOptions()
    )


def settled(whole: dict[str, Any]) -> tuple[dict[str, Any], list[str]]:
    """A whole schema in which everything can be compiled, and what was left out of it, in words."""
    if not whole or _compiles(whole):
        return whole, []
    left: list[str] = []
    kept = {}
    defs = dict(whole["$defs"])
    for name, schema in defs.items():
        if not _compiles({**schema, "$defs": dict.fromkeys(defs, True)} if isinstance(schema, dict) else {}):
            defs[name] = True
            left.append("a schema that is referred to cannot be used, and is not checked")
    for key, schema in whole["properties"].items():
        usable = _compiles({"properties": {key: schema}, "$defs": defs})
        kept[key] = schema if usable else True
        if not usable:
            left.append("a schema cannot be used, and is not checked")
    return {"properties": kept, "$defs": defs}, list(dict.fromkeys(left))


def _compiles(whole: Mapping[str, Any]) -> bool:
    try:
        _validator(whole, True)
    except (ValueError, jsonschema_rs.ValidationError, jsonschema_rs.ReferencingError):
        return False
    return True


class Schemas:
    """A version's schemas, ready. One that cannot be compiled raises ValueError; `settled` ones can."""

    def __init__(self, whole: dict[str, Any], formats: bool = True) -> None:
        self._validator = _validator(whole, formats)
        self._branches = _branching(whole)

    def fits(self, key: str, value: Any) -> bool:
        """Whether a value fits the schema of a key."""
        if key in self._branches and deeper_than(value, DEEPEST_BRANCHING):
            return False
        return self._validator.is_valid({key: value})

    def problems(self, key: str, value: Any) -> list[SchemaProblem]:
        """Everything that does not fit, at most `MOST_PROBLEMS`; of a large value the first thing."""
        if key in self._branches and deeper_than(value, DEEPEST_BRANCHING):
            return [SchemaProblem("", f"is nested more than {DEEPEST_BRANCHING} levels deep, too deep to be checked")]
        if more_than(value, MOST_VALUES):
            try:
                self._validator.validate({key: value})
            except jsonschema_rs.ValidationError as first:
                return [*_told(first)][:1]
            return []
        found: dict[SchemaProblem, None] = {}
        for error in self._validator.iter_errors({key: value}):
            for one in _told(error):
                found[one] = None
            if len(found) >= MOST_PROBLEMS:
                break
        return list(found)[:MOST_PROBLEMS]


class Library:
    """The schemas of one version, compiled when they are first asked for."""

    def __init__(self, sets: SchemaSets) -> None:
        self._sets: dict[Direction, dict[str, Any]] = {"request": sets.requests, "answer": sets.answers}
        self._made: dict[tuple[Direction, bool], Schemas] = {}

    def schemas(self, direction: Direction, formats: bool) -> Schemas:
        """Those of one direction; `formats` are checked where that is said."""
        key = (direction, formats)
        if key not in self._made:
            self._made[key] = Schemas(self._sets[direction], formats)
        return self._made[key]


class Described(NamedTuple):
    """What is said of one operation, for the compilers of policies."""

    messages: DescribedMessages
    library: Library


def _told(error: jsonschema_rs.ValidationError) -> Iterator[SchemaProblem]:
    place = "".join("/" + str(part).replace("~", "~0").replace("/", "~1") for part in list(error.instance_path)[1:])
    for below, words in in_words(error.kind.name, error.kind.as_dict()):
        yield SchemaProblem(place + below, words)


def more_than(value: Any, most: int) -> bool:
    """Whether a value holds more values than that, itself and names not counted."""
    waiting, found = [value], 0
    while waiting:
        one = waiting.pop()
        if isinstance(one, dict | list):
            found += len(one)
            if found > most:
                return True
            waiting.extend(one.values() if isinstance(one, dict) else one)
    return False


def deeper_than(value: Any, most: int) -> bool:
    """Whether a value is nested deeper than that."""
    level = [value]
    for _ in range(most + 1):
        level = [inner for one in level if isinstance(one, dict | list)
                 for inner in (one.values() if isinstance(one, dict) else one)]  # fmt: skip
        if not level:
            return False
    return True


def _branching(whole: Mapping[str, Any]) -> frozenset[str]:
    """The keys from which a schema is reached that comes back to itself by two ways: its work may double each level."""
    defs = dict_of(whole.get("$defs"))
    reached: dict[str, set[str]] = {}

    def reach(name: str) -> set[str]:
        found = reached.get(name)
        if found is None:
            found, waiting = set[str](), [name]
            while waiting:
                for one in _references(defs.get(waiting.pop())):
                    if one not in found:
                        found.add(one)
                        waiting.append(one)
            reached[name] = found
        return found

    def back(name: str, schema: Any) -> int:
        """By how many ways, taken for the same value, a schema comes back to a name."""
        if not isinstance(schema, dict):
            return 0
        ways = sum(
            any(one == name or name in reach(one) for one in _references(inner))
            for word in _IN_PLACE
            for inner in schema.get(word, ())
        )
        ways += sum(any(one == name or name in reach(one) for one in _references(schema.get(word)))
                    for word in ("not", "if", "then", "else"))  # fmt: skip
        alone = {word: inner for word, inner in schema.items() if word not in (*_IN_PLACE, "not", "if", "then", "else")}
        ways += any(one == name or name in reach(one) for one in _references(alone))
        return ways

    def worst(name: str, schema: Any) -> bool:
        return any(back(name, one) > 1 for one in _all_within(schema))

    bad = {name for name, schema in defs.items() if name in reach(name) and worst(name, schema)}
    keys = dict_of(whole.get("properties"))
    return frozenset(
        key for key, schema in keys.items() if any(one in bad or bad & reach(one) for one in _references(schema))
    )


def _all_within(schema: Any) -> Iterator[dict[str, Any]]:
    waiting = [schema]
    while waiting:
        one = waiting.pop()
        if isinstance(one, dict):
            yield one
            waiting.extend(one.values())
        elif isinstance(one, list):
            waiting.extend(one)


def _references(schema: Any) -> set[str]:
    """The names under `$defs` that a schema refers to, wherever in it."""
    found = set()
    for one in _all_within(schema):
        reference = one.get("$ref")
        if isinstance(reference, str) and reference.startswith("#/$defs/"):
            found.add(reference[8:])
    return found
