"""An answer with null, and an error, where something is withheld of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from typing import Any, NamedTuple

from graphql import GraphQLList, GraphQLNonNull, get_named_type, is_abstract_type, is_list_type, is_non_null_type

from tamarack.core.errors import CoreError
from tamarack.core.graphql.closed.withheld import Item, Level, Withheld
from tamarack.core.graphql.schema import Graph

MOST_ERRORS = 200
"""Places that an answer tells one by one."""


class Unfit(CoreError, ValueError):
    """An answer that is not what the schema says, so that what is closed cannot be told from the rest."""


class PathError(NamedTuple):
    """A place of an answer where something is withheld."""

    named: str
    path: tuple[str | int, ...]
    place: tuple[int, int]


class _Nulled:
    """What stands for a value that may not be null, and is."""


_NULLED = _Nulled()


class Filling:
    """Puts null where something is withheld; as with any error of a field, where the schema allows no null there, it
    goes up to the next place that does (GraphQL, 6.4.4)."""

    def __init__(self, graph: Graph, withheld: Withheld, variables: Mapping[str, Any]) -> None:
        self.graph = graph
        self.withheld = withheld
        self.variables = variables
        self.errors: list[PathError] = []
        self._known: dict[tuple[Any, ...], dict[str, list[Item]]] = {}
        self.more = 0
        """How many places there are besides."""

    def data(self, value: Any) -> Any:
        """The data of an answer. Raises `Unfit`."""
        if value is None:
            return None
        if not isinstance(value, dict):
            raise Unfit("its data is no object")
        made = self._object(value, self.withheld.root, [self.withheld.level], ())
        return None if made is _NULLED else made

    def _object(
        self, value: Mapping[str, Any], on: str, levels: Sequence[Level], path: tuple[str | int, ...]
    ) -> dict[str, Any] | _Nulled:
        made: dict[str, Any] = {}
        for key, items in self._asked(on, levels).items():
            first = items[0]
            if any(one.closed or on in one.closed_on for one in items):
                self._note(PathError(f"{on}.{first.named.partition('.')[2]}", (*path, key), first.place))
                if is_non_null_type(first.kind):
                    return _NULLED
                made[key] = None
            elif key in value:
                below = [one.below for one in items if one.below is not None]
                inner = value[key]
                if any(one.withholds for one in below):
                    inner = self._value(inner, first.kind, below, (*path, key))
                    if isinstance(inner, _Nulled):
                        return inner
                made[key] = inner
        return made

    def _asked(self, on: str, levels: Sequence[Level]) -> Mapping[str, Sequence[Item]]:
        """The fields that an object of a type is asked for, each with all places of the document that do so."""
        key = (on, *map(id, levels))
        found = self._known.get(key)
        if found is None:
            found = self._known[key] = {}
            self._collect(on, levels, found, set())
        return found

    def _collect(self, on: str, levels: Iterable[Level], found: dict[str, list[Item]], seen: set[int]) -> None:
        for level in levels:
            if id(level) in seen:
                continue
            seen.add(id(level))
            for part in level.parts:
                if not all(one.holds(self.variables) for one in part.when):
                    continue
                if isinstance(part, Item):
                    found.setdefault(part.key, []).append(part)
                elif on in part.types:
                    self._collect(on, (part.level,), found, seen)

    def _value(self, value: Any, kind: Any, levels: Sequence[Level], path: tuple[str | int, ...]) -> Any:
        if value is None:
            return None
        must = isinstance(kind, GraphQLNonNull)
        inner = kind.of_type if isinstance(kind, GraphQLNonNull) else kind
        made: Any
        if is_list_type(inner):
            if not isinstance(value, list):
                raise Unfit(f"{_said(path)} is no list")
            assert isinstance(inner, GraphQLList)
            made = []
            for place, one in enumerate(value):
                put = self._value(one, inner.of_type, levels, (*path, place))
                if put is _NULLED:
                    made = _NULLED
                    break
                made.append(put)
        elif isinstance(value, dict):
            made = self._object(value, self._type_of(value, inner, path), levels, path)
        else:
            raise Unfit(f"{_said(path)} is no object")
        return (_NULLED if must else None) if made is _NULLED else made

    def _type_of(self, value: Mapping[str, Any], kind: Any, path: tuple[str | int, ...]) -> str:
        named = get_named_type(kind)
        if not is_abstract_type(named):
            return str(named.name)
        told = value.get(self.withheld.alias)
        if told not in {one.name for one in self.graph.schema.get_possible_types(named)}:
            raise Unfit(f"{_said(path)} does not tell its type")
        return str(told)

    def _note(self, one: PathError) -> None:
        if len(self.errors) < MOST_ERRORS:
            self.errors.append(one)
        else:
            self.more += 1


def _said(path: tuple[str | int, ...]) -> str:
    return "/".join(map(str, path))[:200]
