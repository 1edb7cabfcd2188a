"""What a schema offers, for people: its operations with their arguments, and its types."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from graphql import (
    GraphQLEnumType,
    GraphQLInputObjectType,
    GraphQLInterfaceType,
    GraphQLObjectType,
    GraphQLScalarType,
    GraphQLUnionType,
    is_introspection_type,
    is_specified_scalar_type,
    print_ast,
)

from tamarack.core.graphql.schema import Graph


class ShownField(NamedTuple):
    """A field as people read it."""

    name: str
    arguments: str
    """Like `(first: Int = 5)`; empty for none."""
    type: str
    words: str
    deprecated: str
    """Why it is deprecated; empty where it is not."""


class ShownType(NamedTuple):
    """A type with its fields, members or values."""

    name: str
    kind: str
    words: str
    fields: tuple[ShownField, ...] = ()
    members: tuple[str, ...] = ()
    """Types of a union, values of an enum, interfaces of others."""


class Understood(NamedTuple):
    """A schema in parts."""

    roots: Mapping[str, ShownType]
    """The fields that each kind of operation begins with: `query`, `mutation`, `subscription`."""
    types: tuple[ShownType, ...]
    """The others, by name."""


def understood(graph: Graph) -> Understood:
    """What a schema offers."""
    names = set(graph.roots.values())
    every = {
        name: _shown(kind)
        for name, kind in sorted(graph.schema.type_map.items())
        if not is_introspection_type(kind) and not is_specified_scalar_type(kind)
    }
    roots = {kind: every[name] for kind, name in graph.roots.items()}
    return Understood(roots, tuple(one for name, one in every.items() if name not in names))


def _shown(kind: object) -> ShownType:
    words = getattr(kind, "description", None) or ""
    name = str(getattr(kind, "name", ""))
    if isinstance(kind, GraphQLObjectType | GraphQLInterfaceType):
        what = "type" if isinstance(kind, GraphQLObjectType) else "interface"
        fields = tuple(
            ShownField(field, _arguments(told.args), str(told.type), told.description or "",
                       told.deprecation_reason or "")
            for field, told in kind.fields.items()
        )  # fmt: skip
        return ShownType(name, what, words, fields, tuple(one.name for one in kind.interfaces))
    if isinstance(kind, GraphQLInputObjectType):
        fields = tuple(ShownField(field, "", str(told.type), told.description or "", told.deprecation_reason or "")
                       for field, told in kind.fields.items())  # fmt: skip
        return ShownType(name, "input", words, fields)
    if isinstance(kind, GraphQLUnionType):
        return ShownType(name, "union", words, members=tuple(one.name for one in kind.types))
    if isinstance(kind, GraphQLEnumType):
        return ShownType(name, "enum", words, members=tuple(kind.values))
    assert isinstance(kind, GraphQLScalarType)
    return ShownType(name, "scalar", words)


def _arguments(told: Mapping[str, object]) -> str:
    parts = []
    for name, one in told.items():
        node = getattr(one, "ast_node", None)
        default = node.default_value if node is not None else None
        written = f" = {print_ast(default)}" if default is not None else ""
        parts.append(f"{name}: {getattr(one, 'type', '')}{written}")
    return f"({', '.join(parts)})" if parts else ""
