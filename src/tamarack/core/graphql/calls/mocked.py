"""Answers to documents made from a schema alone: the same each time, as long as the document asks, and with the values
of its arguments."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any
from zlib import crc32

from graphql import (
    GraphQLEnumType,
    GraphQLError,
    GraphQLResolveInfo,
    execute_sync,
    get_named_type,
    is_abstract_type,
    is_leaf_type,
    is_list_type,
    is_non_null_type,
    parse,
)

from tamarack.core.graphql.calls.asked import GraphAsked
from tamarack.core.graphql.document import DocumentProblem, Size
from tamarack.core.graphql.request import GraphRequest
from tamarack.core.graphql.schema import Graph

MOST_VALUES = 2_000
"""Of one call: some 15 µs each."""
LIST = 2
"""How long a list is where nothing says it."""
_WORDS = {"url": "https://harbour.example/{}", "uri": "https://harbour.example/{}", "date": "2026-06-{:02}",
          "datetime": "2026-06-{:02}T08:15:00Z", "timestamp": "2026-06-{:02}T08:15:00Z", "time": "08:{:02}:00",
          "email": "berth{}@harbour.example", "emailaddress": "berth{}@harbour.example",
          "uuid": "00000000-0000-4000-8000-0000000000{:02}", "id": "{}"}  # fmt: skip
"""Texts of scalars that go by a well-known name, filled in with a number from 1 to 28."""


class _Ones(dict[str, int]):
    """Every field weighs one."""

    def get(self, key: str, default: Any = None) -> Any:
        return 1


_EACH = _Ones()


def mocked(asked: GraphAsked) -> list[dict[str, Any]]:
    """The answers to what is sent of a call. Raises `DocumentProblem` for what is too much, or no query or change."""
    graph = asked.documents.graph
    assert graph is not None
    if any(run.operation.kind == "subscription" for run in asked.runs):
        raise DocumentProblem("a subscription has no made-up answers; ask by a query")
    many = sum(run.operation.cost(run.variables, LIST, _EACH) for run in asked.runs)
    if many > MOST_VALUES:
        words = f"the answer would have {many:,} made-up values, and may have {MOST_VALUES:,}; ask for shorter lists"
        raise DocumentProblem(words, "over-graphql-limit")
    return [_answer(graph, one) for one in asked.sent]


def _answer(graph: Graph, request: GraphRequest) -> dict[str, Any]:
    try:
        done = execute_sync(
            graph.schema,
            parse(request.query),
            _Made({}, 0),
            variable_values=dict(request.variables),
            operation_name=request.operation or None,
            field_resolver=lambda source, info, **arguments: _field(graph, source, info, arguments),
            type_resolver=lambda value, info, kind: value.kind,
        )
    except GraphQLError as error:
        return {"errors": [error.formatted]}
    return dict(done.formatted)


class _Made:
    """An object that was made up: what it was asked for by, a number of its own, and its type."""

    __slots__ = ("given", "kind", "number")

    def __init__(self, given: Mapping[str, Any], number: int, kind: str = "") -> None:
        self.given = given
        self.number = number
        self.kind = kind


def _field(graph: Graph, source: _Made, info: GraphQLResolveInfo[Any], arguments: Mapping[str, Any]) -> Any:
    parent, name = info.parent_type.name, info.field_name
    facts = graph.fields[parent][name]
    of = get_named_type(info.return_type)
    given = source.given.get(name)
    if is_leaf_type(of) and isinstance(given, str | int | float) and not facts.is_list:
        return given
    numbers = [value for one in facts.sliced_by if isinstance(value := arguments.get(one), int)]
    size = Size(max(numbers) if numbers else facts.assumed)
    number = crc32(f"{source.number} {parent}.{name} {sorted(arguments.items())}".encode()) % 1_000_003
    return _value(graph, info.return_type, name, number, arguments, max(0, size.of({}, LIST)))


def _value(graph: Graph, kind: Any, name: str, number: int, given: Mapping[str, Any], size: int) -> Any:
    if is_non_null_type(kind):
        kind = kind.of_type
    if is_list_type(kind):
        return [_value(graph, kind.of_type, name, number + place, {}, LIST) for place in range(size)]
    if is_leaf_type(kind):
        return _leaf(kind, name, number)
    if is_abstract_type(kind):
        types = graph.schema.get_possible_types(kind)
        kind = types[number % len(types)]
    return _Made(given, number, kind.name)


def _leaf(kind: Any, name: str, number: int) -> Any:
    """A value of a scalar or an enum."""
    if isinstance(kind, GraphQLEnumType):
        return list(kind.values.values())[number % len(kind.values)].value
    small = number % 28 + 1
    if kind.name == "Int":
        return small
    if kind.name == "Float":
        return small + 0.5
    if kind.name == "Boolean":
        return number % 2 == 0
    words = _WORDS.get(kind.name.lower())
    return words.format(small) if words is not None else f"{name} {small}"
