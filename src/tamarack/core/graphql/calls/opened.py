"""The part of a schema that is open to someone, and what an introspection is told of it."""

from __future__ import annotations

from collections import OrderedDict
from dataclasses import replace
from typing import Any

import orjson
from graphql import GraphQLSchema, build_ast_schema, graphql_sync, parse, print_schema
from graphql.language import (
    DirectiveDefinitionNode,
    DocumentNode,
    InputObjectTypeDefinitionNode,
    InterfaceTypeDefinitionNode,
    NamedTypeNode,
    ObjectTypeDefinitionNode,
    SchemaDefinitionNode,
    UnionTypeDefinitionNode,
)

from tamarack.core.graphql.calls.asked import Closed, Run
from tamarack.core.graphql.schema import Graph

LONGEST_INTROSPECTION = 6_000
"""Characters of a document that is answered here; the usual ones have some 1,500."""
_MOST_KEPT = 200
_WITH_FIELDS = (ObjectTypeDefinitionNode, InterfaceTypeDefinitionNode)


def opened(graph: Graph, closed: Closed | None) -> GraphQLSchema:
    """A schema without the fields that are closed, and without what nothing leads to then."""
    if closed is None:
        return graph.schema
    definitions: list[Any] = list(parse(print_schema(graph.schema)).definitions)
    while True:
        kept = _without_closed(definitions, closed)
        if kept == definitions:
            break
        definitions = kept
    if not any(isinstance(one, ObjectTypeDefinitionNode) for one in definitions):
        return build_ast_schema(parse("type Query { nothing: Boolean }"))
    reached = _reached(definitions, graph)
    return build_ast_schema(
        DocumentNode(definitions=tuple(one for one in definitions if _name(one) in reached or _is_no_type(one))),
        assume_valid=True,
        assume_valid_sdl=True,
    )


def _without_closed(definitions: list[Any], closed: Closed) -> list[Any]:
    """Definitions without closed fields, fields of types that are gone, and types that have nothing left."""
    names = {_name(one) for one in definitions} | _BUILT_IN
    empty = {
        _name(one) for one in definitions if isinstance(one, _WITH_FIELDS) and not _open_fields(one, closed, names)
    }
    names -= empty
    kept: list[Any] = []
    for one in definitions:
        if _name(one) in empty:
            continue
        if isinstance(one, _WITH_FIELDS):
            fields = _open_fields(one, closed, names)
            interfaces = tuple(two for two in one.interfaces or () if two.name.value in names)
            if len(fields) < len(one.fields or ()) or len(interfaces) < len(one.interfaces or ()):
                one = replace(one, fields=tuple(fields), interfaces=interfaces)
        elif isinstance(one, UnionTypeDefinitionNode):
            types = tuple(two for two in one.types or () if two.name.value in names)
            if not types:
                continue
            if len(types) < len(one.types or ()):
                one = replace(one, types=types)
        elif isinstance(one, SchemaDefinitionNode):
            operations = tuple(two for two in one.operation_types if two.type.name.value in names)
            if len(operations) < len(one.operation_types):
                one = replace(one, operation_types=operations)
        kept.append(one)
    return kept


def _name(node: Any) -> str:
    named = getattr(node, "name", None)
    return str(named.value) if named is not None and not _is_no_type(node) else ""


def _is_no_type(node: Any) -> bool:
    return isinstance(node, SchemaDefinitionNode | DirectiveDefinitionNode)


_BUILT_IN = frozenset(("Int", "Float", "String", "Boolean", "ID"))


def _open_fields(one: Any, closed: Closed, names: set[str]) -> list[Any]:
    return [
        field
        for field in one.fields or ()
        if not closed(f"{one.name.value}.{field.name.value}") and _of(field.type) in names
    ]


def _of(node: Any) -> str:
    while not isinstance(node, NamedTypeNode):
        node = node.type
    return str(node.name.value)


def _reached(definitions: list[Any], graph: Graph) -> set[str]:
    """The types that something leads to from the roots."""
    by_name = {_name(one): one for one in definitions}
    implementing: dict[str, list[str]] = {}
    for one in definitions:
        for two in getattr(one, "interfaces", ()) or ():
            implementing.setdefault(two.name.value, []).append(one.name.value)
    waiting = [name for name in graph.roots.values() if name in by_name]
    found: set[str] = set()
    while waiting:
        name = waiting.pop()
        one = by_name.get(name)
        if name in found or one is None:
            continue
        found.add(name)
        for field in getattr(one, "fields", ()) or ():
            waiting.append(_of(field.type))
            waiting.extend(_of(argument.type) for argument in getattr(field, "arguments", ()) or ())
        if not isinstance(one, InputObjectTypeDefinitionNode):
            waiting.extend(two.name.value for two in getattr(one, "interfaces", ()) or ())
            waiting.extend(two.name.value for two in getattr(one, "types", ()) or ())
            waiting.extend(implementing.get(name, ()))
    return found


class Introspections:
    """Answers to introspections, kept: the same few tools ask the same."""

    def __init__(self, graph: Graph) -> None:
        self._graph = graph
        self._schemas: OrderedDict[frozenset[str], GraphQLSchema] = OrderedDict()
        self._kept: OrderedDict[tuple[frozenset[str], str, str, bytes], bytes] = OrderedDict()

    def answer(self, run: Run, closed: Closed | None) -> bytes:
        """The answer to an operation that asks for the schema alone, as JSON."""
        hidden = frozenset(
            facts.named for fields in self._graph.fields.values() for facts in fields.values() if closed is not None
            and (closed(facts.named) or closed(f"{facts.of}.__typename"))
        )  # fmt: skip
        key = (
            hidden,
            run.request.query,
            run.request.operation,
            orjson.dumps(run.request.variables, option=orjson.OPT_SORT_KEYS),
        )
        kept = self._kept.get(key)
        if kept is None:
            schema = self._schemas.get(hidden)
            if schema is None:
                schema = self._schemas[hidden] = opened(self._graph, hidden.__contains__ if hidden else None)
                if len(self._schemas) > _MOST_KEPT:
                    self._schemas.popitem(last=False)
            told = graphql_sync(
                schema, run.request.query, variable_values=dict(run.request.variables),
                operation_name=run.request.operation or None,
            )  # fmt: skip
            kept = self._kept[key] = orjson.dumps(told.formatted)
            if len(self._kept) > _MOST_KEPT:
                self._kept.popitem(last=False)
        return kept
