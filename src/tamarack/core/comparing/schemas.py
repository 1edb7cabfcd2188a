"""Two schemas compared by what they allow (JSON Schema 2020-12; OpenAPI 3.0's differences are brought to it first).

Every finding says in which direction a schema moved: it allows less (`narrower`), more (`wider`), or something else
(`other`). What that means depends on who sends it, and is for `core.comparing.rules` to say. References are followed
wherever they lead; a pair of schemas that is being compared already is taken to be equal (so circles end).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any, Literal, NamedTuple

from tamarack.core.openapi.modern import modern_keywords
from tamarack.core.openapi.plain import dict_of, list_of
from tamarack.core.openapi.references import resolve

Direction = Literal["narrower", "wider", "other", "property added", "property removed", "required", "optional",
                    "values added", "replaced"]  # fmt: skip
DEEPEST = 100
"""How far schemas are followed into each other."""
MOST_LOOKED_INTO = 20_000
"""Pairs of schemas that one comparison looks into."""
MOST_IN_ALL = 500_000
"""Pairs that all comparisons of two documents look into."""
_LOWER = ("minimum", "exclusiveMinimum", "minLength", "minItems", "minProperties", "minContains")
_UPPER = ("maximum", "exclusiveMaximum", "maxLength", "maxItems", "maxProperties", "maxContains")
_TYPES = ("null", "boolean", "integer", "number", "string", "array", "object")
_IGNORED = frozenset(("description", "title", "example", "examples", "summary", "externalDocs", "$comment", "xml",
                      "deprecated", "$id", "$anchor", "$defs", "definitions"))  # fmt: skip
Document = dict[str, Any]
Pair = tuple[int, int]
"""Two schemas, by their identity: they live as long as what compares them."""
Hidden = Literal["readOnly", "writeOnly"]


class Found(NamedTuple):
    """One finding: the place within the schema as a JSON Pointer, the direction, and the words."""

    place: str
    direction: Direction
    words: str
    required: bool = False
    closed: bool = False
    """Whether what is not described is refused."""


class Schemas:
    """Compares schemas of two documents. `hidden` marks properties that are no part of this side."""

    def __init__(self, before: Document, after: Document, hidden: Hidden) -> None:
        self._before = before
        self._after = after
        self._hidden = hidden
        self._same: set[Pair] = set()
        """What was found to mean the same, wherever it stands."""
        self._different: set[Pair] = set()
        self._seen: set[Pair] = set()
        """What this comparison has looked at, or is looking at."""
        self._open: set[Pair] = set()
        """What it is looking at."""
        self._taken_as_equal: frozenset[Pair] = frozenset()
        self._relied = False
        """Whether a question of equality rests on what is being looked at around it."""
        self._flat: dict[tuple[int, bool], Document | bool] = {}
        self._cut_in: set[tuple[int, bool]] = set()
        """What was put together without what lay too deep."""
        self._merging: set[tuple[int, bool]] = set()
        self._left = 0
        """How many pairs more it may look into."""
        self._left_in_all = MOST_IN_ALL
        self._told: dict[Pair, list[Found]] = {}
        """What was found already, by where comparing began."""
        self._cut = False
        """Whether something lay too deep to be looked into."""

    def compare(self, before: Any, after: Any) -> list[Found]:
        """What differs, each pair of schemas at the first place where it stands; empty where both allow the same."""
        before, after, pair = self._pair(before, after)
        if pair in self._told:
            return self._told[pair]
        self._seen = set()
        self._left, self._cut = min(MOST_LOOKED_INTO, self._left_in_all), False
        granted = self._left
        self._told[pair] = found = self._compare(before, after, "", 0)
        self._left_in_all -= granted - max(0, self._left)
        if self._left < 0 or self._cut:
            words = "is too large or too deep to be compared as a whole"
            found.append(Found("", "other", words))
        elif not found:  # only now: what is met again on the way is taken to be equal until all of it was looked at
            self._same |= self._seen
        return found

    def _pair(self, before: Any, after: Any) -> tuple[Any, Any, Pair]:
        before, after = self._led_to(before, self._before), self._led_to(after, self._after)
        return before, after, (id(before), id(after))

    def _compare(self, before: Any, after: Any, place: str, depth: int) -> list[Found]:
        before, after, pair = self._pair(before, after)
        if pair in self._same or self._left < 0:
            return []
        if depth > DEEPEST:
            self._cut = True
            return []
        if pair in self._seen:
            self._relied = self._relied or pair in self._taken_as_equal
            return []
        self._left -= 1
        self._seen.add(pair)
        self._open.add(pair)
        found = list(self._differences(self._plain(before, True), self._plain(after, False), place, depth))
        self._open.discard(pair)
        if found:
            self._different.add(pair)
        return found

    def _equal(self, before: Any, after: Any, depth: int) -> bool:
        """Whether two schemas allow the same; what is being looked at around them is taken to be equal."""
        _, _, pair = self._pair(before, after)
        if pair in self._same or pair in self._different:
            return pair in self._same
        around = self._seen, self._taken_as_equal, self._relied
        self._seen, self._taken_as_equal, self._relied = set(self._open), frozenset(self._open), False
        found = self._compare(before, after, "", depth)
        if not found and not self._relied and self._left >= 0 and not self._cut:
            self._same |= self._seen - self._taken_as_equal
        self._seen, self._taken_as_equal, relied = around[0], around[1], self._relied
        self._relied = around[2] or relied
        return not found

    @staticmethod
    def _led_to(schema: Any, document: Document) -> Any:
        """A schema, or what it leads to where it is a reference and nothing else: there a circle closes."""
        while isinstance(schema, dict) and isinstance(schema.get("$ref"), str) and schema.keys() - _IGNORED == {"$ref"}:
            target = resolve(document, {"$ref": schema["$ref"]})
            if target is None or target is schema:
                return True
            schema = target
        return schema

    # what a schema says, in one piece

    def _plain(self, schema: Any, old: bool, depth: int = 0) -> Document | bool:
        """A schema without references, its `allOf` and what stands beside a reference merged in."""
        key = (id(schema), old)
        if key in self._flat:
            self._cut = self._cut or key in self._cut_in
            return self._flat[key]
        if key in self._merging:  # it is part of itself, which says nothing more
            return True
        self._merging.add(key)
        cut_before, self._cut = self._cut, False
        self._flat[key] = made = self._merged(schema, old, depth)
        if self._cut:
            self._cut_in.add(key)
        self._cut = self._cut or cut_before
        self._merging.discard(key)
        return made

    def _merged(self, schema: Any, old: bool, depth: int) -> Document | bool:
        document = self._before if old else self._after
        if isinstance(schema, dict) and isinstance(schema.get("$ref"), str):
            beside = {key: value for key, value in schema.items() if key != "$ref" and key not in _IGNORED}
            target = resolve(document, {"$ref": schema["$ref"]})
            if depth > DEEPEST:
                self._cut = True
                return True
            inner = self._plain(target, old, depth + 1)
            return _both(inner, self._merged(beside, old, depth + 1)) if beside else inner
        if isinstance(schema, bool):
            return schema
        if not isinstance(schema, dict):
            return True
        if depth > DEEPEST:
            self._cut = True
            return True
        made: Document | bool = modern_keywords({k: v for k, v in schema.items() if k not in _IGNORED and k != "allOf"})
        for part in schema.get("allOf") or ():
            made = _both(made, self._merged(part, old, depth + 1))
        return made

    # what differs

    def _differences(self, before: Document | bool, after: Document | bool, place: str, depth: int) -> Iterator[Found]:
        if isinstance(before, bool) or isinstance(after, bool):
            before, after = _whole(before), _whole(after)
            if before == after:
                return
            if before == {"not": {}} or after == {"not": {}}:
                none = after == {"not": {}}
                yield Found(place, "narrower" if none else "wider", "allows nothing now" if none else "is allowed now")
                return
        if _replaced(before, after):
            yield Found(place, "replaced", f"is {_or(_kinds(after))} instead of {_or(_kinds(before))}")
            return
        yield from _types(before, after, place)
        yield from _values(before, after, place)
        yield from _bounds(before, after, place)
        yield from self._object(before, after, place, depth)
        yield from self._array(before, after, place, depth)
        yield from self._variants(before, after, place, depth)

    def _object(self, before: Document, after: Document, place: str, depth: int) -> Iterator[Found]:
        olds, news = dict_of(before.get("properties")), dict_of(after.get("properties"))
        closed = after.get("additionalProperties") is False
        required_before, required_after = _names(before), _names(after)
        for name in dict.fromkeys([*olds, *news, *required_before, *required_after]):
            here = f"{place}/{name.replace('~', '~0').replace('/', '~1')}"
            old, new = olds.get(name), news.get(name)
            if any(one is not None and self._is_hidden(one, first) for one, first in ((old, True), (new, False))):
                continue
            was, must = name in required_before, name in required_after
            if old is None and new is not None and name not in required_before:
                yield Found(here, "property added", "is a new property", must)
                continue
            if new is None and old is not None:
                yield Found(here, "property removed", "is a property no more", was, closed)
                continue
            if was != must:
                words = "is required now" if must else "is not required any more"
                yield Found(here, "required" if must else "optional", words)
            if old is not None or new is not None:
                yield from self._compare(True if old is None else old, True if new is None else new, here, depth + 1)
        yield from self._further(before, after, "additionalProperties", place, "further properties", depth)
        patterns, now = dict_of(before.get("patternProperties")), dict_of(after.get("patternProperties"))
        for pattern in dict.fromkeys([*patterns, *now]):
            old, new = patterns.get(pattern, True), now.get(pattern, True)
            yield from self._compare(old, new, f"{place}/({pattern})", depth + 1)

    def _is_hidden(self, schema: Any, old: bool) -> bool:
        plain = self._plain(schema, old)
        return isinstance(plain, dict) and plain.get(self._hidden) is True

    def _further(
        self, before: Document, after: Document, key: str, place: str, words: str, depth: int
    ) -> Iterator[Found]:
        old, new = before.get(key, True), after.get(key, True)
        if old is False and new is not False:
            yield Found(place, "wider", f"{words} are allowed now")
        elif new is False and old is not False:
            yield Found(place, "narrower", f"{words} are not allowed any more")
        elif old is not new:
            yield from self._compare(old, new, f"{place}/*", depth + 1)

    def _array(self, before: Document, after: Document, place: str, depth: int) -> Iterator[Found]:
        olds, news = list_of(before.get("prefixItems")), list_of(after.get("prefixItems"))
        for at in range(max(len(olds), len(news))):
            old = olds[at] if at < len(olds) else before.get("items", True)
            new = news[at] if at < len(news) else after.get("items", True)
            yield from self._compare(old, new, f"{place}/{at}", depth + 1)
        yield from self._further(before, after, "items", place, "items", depth)
        if before.get("uniqueItems") is True and after.get("uniqueItems") is not True:
            yield Found(place, "wider", "its items need not differ any more")
        elif after.get("uniqueItems") is True and before.get("uniqueItems") is not True:
            yield Found(place, "narrower", "its items have to differ now")
        if "contains" in before or "contains" in after:
            yield from self._compare(before.get("contains", True), after.get("contains", True), f"{place}/~", depth + 1)

    def _variants(self, before: Document, after: Document, place: str, depth: int) -> Iterator[Found]:
        """What is one of several: each variant finds the one that means the same, else the one of its name."""
        for key in ("oneOf", "anyOf"):
            olds, news = list(list_of(before.get(key))), list(list_of(after.get(key)))
            if not olds and not news:
                continue
            if not olds or not news:
                words = "has to be one of some variants now" if news else "need not be one of some variants any more"
                yield Found(place, "narrower" if news else "wider", words)
                continue
            for old in list(olds):
                same = next((new for new in news if self._equal(old, new, depth + 1)), None)
                if same is not None:
                    olds.remove(old)
                    news.remove(same)
            for old in list(olds):
                name = _called(old)
                alike = next((new for new in news if name and _called(new) == name), None)
                if alike is not None:
                    olds.remove(old)
                    news.remove(alike)
                    yield from self._compare(old, alike, f"{place}", depth + 1)
            if len(olds) == len(news) == 1:
                yield from self._compare(olds[0], news[0], place, depth + 1)
                continue
            for old in olds:
                yield Found(place, "narrower", f"the variant {_called(old) or _short(old)} is gone")
            for new in news:
                yield Found(place, "wider", f"the variant {_called(new) or _short(new)} is new")
        if ("not" in before) != ("not" in after):
            yield Found(place, "narrower" if "not" in after else "wider",
                        "something is excluded now" if "not" in after else "nothing is excluded any more")  # fmt: skip
        elif "not" in before:
            for one in self._compare(before["not"], after["not"], place, depth + 1):
                turned: dict[str, Direction] = {"narrower": "wider", "wider": "narrower"}
                yield Found(place, turned.get(one.direction, "other"), f"what is excluded {one.words}")


def _replaced(before: Document, after: Document) -> bool:
    """Whether no value of before can be one of now, by its type."""
    olds, news = set(_kinds(before)), set(_kinds(after))
    numbers = {"integer", "number"}
    return not olds & news and not (olds & numbers and news & numbers)


def _types(before: Document, after: Document, place: str) -> Iterator[Found]:
    olds, news = _kinds(before), _kinds(after)
    gone = [kind for kind in olds if kind not in news and not (kind == "integer" and "number" in news)]
    new = [kind for kind in news if kind not in olds and not (kind == "integer" and "number" in olds)]
    if gone:
        left = [kind for kind in news if kind == "integer" and gone == ["number"]]
        words = f"may only be {_or(news)} now" if left else f"may not be {_or(gone)} any more"
        yield Found(place, "narrower", words)
    if new:
        yield Found(place, "wider", f"may be {_or(new)} now")


def _values(before: Document, after: Document, place: str) -> Iterator[Found]:
    olds, news = _choices(before), _choices(after)
    if olds is None and news is None:
        return
    if olds is None or news is None:
        yield Found(place, "narrower" if olds is None else "wider",
                    f"is one of {_some(news)} now" if news is not None else "may have any value now")  # fmt: skip
        return
    gone = [one for one in olds if one not in news]
    new = [one for one in news if one not in olds]
    if gone:
        yield Found(place, "narrower", f"may not be {_some(gone)} any more")
    if new:
        yield Found(place, "values added", f"may be {_some(new)} now")


def _bounds(before: Document, after: Document, place: str) -> Iterator[Found]:
    for keys, tighter in ((_LOWER, 1), (_UPPER, -1)):
        for key in keys:
            old, new = _number(before.get(key)), _number(after.get(key))
            if old == new:
                continue
            if old is None or new is None:
                words = f"has the bound {key} {after[key]} now" if new is not None else f"has no bound {key} any more"
                yield Found(place, "narrower" if old is None else "wider", words)
            else:
                moved = "narrower" if (new - old) * tighter > 0 else "wider"
                yield Found(place, moved, f"has {key} {after[key]} instead of {before[key]}")  # type: ignore[arg-type]
    for key in ("pattern", "multipleOf", "format", "contentMediaType", "contentEncoding"):
        old_text, new_text = before.get(key), after.get(key)
        if old_text == new_text:
            continue
        if old_text is None:
            yield Found(place, "other" if key == "format" else "narrower", f"has the {key} {new_text} now")
        elif new_text is None:
            yield Found(place, "other" if key == "format" else "wider", f"has no {key} any more")
        elif key == "multipleOf" and _divides(new_text, old_text):
            yield Found(place, "wider", f"has {key} {new_text} instead of {old_text}")
        elif key == "multipleOf" and _divides(old_text, new_text):
            yield Found(place, "narrower", f"has {key} {new_text} instead of {old_text}")
        else:
            yield Found(place, "other", f"has the {key} {new_text} instead of {old_text}")


# small helpers on what documents hold


def _both(one: Document | bool, other: Document | bool) -> Document | bool:
    """A schema that allows what both allow."""
    if one is False or other is False:
        return False
    if one is True or other is True:
        return other if one is True else one
    assert isinstance(one, dict)
    assert isinstance(other, dict)
    made = dict(one)
    for key, value in other.items():
        if key not in made:
            made[key] = value
        elif key in ("properties", "patternProperties"):
            mine = made[key] if isinstance(made[key], dict) else {}
            theirs = value if isinstance(value, dict) else {}
            shared = {name: {"allOf": [mine[name], theirs[name]]} for name in mine if name in theirs
                      and mine[name] != theirs[name]}  # fmt: skip
            made[key] = {**mine, **theirs, **shared}
        elif key == "required":
            made[key] = list(dict.fromkeys([*list_of(made.get(key)), *(value if isinstance(value, list) else [])]))
        elif key == "type":
            olds, news = _kinds(made), _kinds({"type": value})
            made[key] = [k for k in olds if k in news or (k == "integer" and "number" in news)] or [
                k for k in news if k == "integer" and "number" in olds
            ]
        elif key in _LOWER:
            made[key] = (
                max(made[key], value) if _number(value) is not None and _number(made[key]) is not None else value
            )
        elif key in _UPPER:
            made[key] = (
                min(made[key], value) if _number(value) is not None and _number(made[key]) is not None else value
            )
        elif key in ("enum",) and isinstance(value, list) and isinstance(made[key], list):
            made[key] = [item for item in made[key] if item in value]
        elif key == "additionalProperties" and (value is False or made[key] is False):
            made[key] = False
        elif made[key] != value:
            made[key] = value
    return made


def _whole(schema: Document | bool) -> Document:
    if isinstance(schema, dict):
        return schema
    return {} if schema else {"not": {}}


def _names(schema: Document) -> list[str]:
    return [name for name in list_of(schema.get("required")) if isinstance(name, str)]


def _kinds(schema: Document) -> list[str]:
    """The types that a schema allows; all where it says nothing."""
    said = schema.get("type")
    kinds = said if isinstance(said, list) else [said] if isinstance(said, str) else []
    return [kind for kind in _TYPES if kind in kinds] or [kind for kind in _TYPES if kind != "integer"]


def _choices(schema: Document) -> list[Any] | None:
    """The only values that are allowed; None for any."""
    if "const" in schema:
        return [schema["const"]]
    return list_of(schema.get("enum")) if isinstance(schema.get("enum"), list) else None


def _number(value: Any) -> float | None:
    return None if isinstance(value, bool) or not isinstance(value, int | float) else float(value)


def _divides(one: Any, other: Any) -> bool:
    a, b = _number(one), _number(other)
    return bool(a) and b is not None and a is not None and abs(b / a - round(b / a)) < 1e-9


def _called(schema: Any) -> str:
    """What a variant is called: the name of the schema that it refers to, or its title."""
    if isinstance(schema, dict):
        reference = schema.get("$ref")
        return reference.rpartition("/")[2] if isinstance(reference, str) else str(schema.get("title", ""))
    return ""


def _short(schema: Any) -> str:
    return _or(_kinds(schema)) if isinstance(schema, dict) and "type" in schema else "without a name"


def _or(kinds: list[str]) -> str:
    if len(kinds) >= len(_TYPES) - 1:
        return "of any type"
    return kinds[0] if len(kinds) == 1 else f"{', '.join(kinds[:-1])} or {kinds[-1]}" if kinds else "of no type"


def _some(values: list[Any]) -> str:
    shown = ", ".join(repr(one) if isinstance(one, str) else str(one) for one in values[:6])
    return shown if len(values) <= 6 else f"{shown} and {len(values) - 6} more"
