"""A schema as a node uses it: types and their fields, what each costs, and how long lists may be.

`@cost(weight:)` and `@listSize(assumedSize:, slicingArguments:)` on a field are understood.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

from graphql import (
    GraphQLEnumType,
    GraphQLError,
    GraphQLInterfaceType,
    GraphQLObjectType,
    GraphQLScalarType,
    GraphQLSchema,
    GraphQLUnionType,
    build_ast_schema,
    build_client_schema,
    get_introspection_query,
    get_named_type,
    is_introspection_type,
    is_list_type,
    is_non_null_type,
    parse,
    print_schema,
    validate_schema,
)
from graphql.language import (
    DirectiveDefinitionNode,
    DocumentNode,
    IntValueNode,
    ListValueNode,
    StringValueNode,
)
from graphql.validation.validate import validate_sdl

from tamarack.core.errors import CoreError

LARGEST = 2_000_000
"""Characters of a schema."""
MOST_TOKENS = 200_000
MOST_PROBLEMS = 50
_SLICED_BY = ("first", "last", "limit")
"""Arguments that say how long a list becomes, where the schema does not name others."""
_COST = "directive @cost(weight: String!) on ARGUMENT_DEFINITION | ENUM | FIELD_DEFINITION | INPUT_FIELD_DEFINITION | OBJECT | SCALAR"  # noqa: E501
_LIST_SIZE = "directive @listSize(assumedSize: Int, slicingArguments: [String!], sizedFields: [String!], requireOneSlicingArgument: Boolean) on FIELD_DEFINITION"  # noqa: E501


INTROSPECTION = get_introspection_query(descriptions=True)
"""The document that asks for a whole schema."""


class SchemaProblem(CoreError, ValueError):
    """A schema that cannot be read, with the line of what is wrong; 0 where that is not known."""

    def __init__(self, message: str, line: int = 0, more: Sequence[tuple[str, int]] = ()) -> None:
        super().__init__(message)
        self.line = line
        self.every = ((message, line), *more)
        """All that is wrong, each with its line."""


@dataclass(frozen=True, slots=True)
class FieldFacts:
    """What is known of one field."""

    named: str
    """`Type.field`."""
    of: str
    """The type of its value, without lists and bangs."""
    is_list: bool
    weight: int
    """What one value of it costs."""
    sliced_by: tuple[str, ...]
    """The arguments that say how long its list becomes."""
    assumed: int | None
    """How long it is where none of them is given: by the default of one, or as the schema takes it to be; None where it
    does not say."""
    also: tuple[str, ...] = ()
    """The same field of the types behind it: of those that implement its interface, and of the interfaces of its type.
    Who asks for one asks for the others."""


@dataclass(frozen=True, slots=True)
class Graph:
    """A schema, ready to hold documents against."""

    schema: GraphQLSchema
    fields: Mapping[str, Mapping[str, FieldFacts]]
    """The fields of each type that has some, by its name."""
    roots: Mapping[str, str]
    """The type of each kind of operation that is offered: `query`, `mutation`, `subscription`."""
    leaves: frozenset[str] = field(default_factory=frozenset)
    """Scalars and enums."""

    @property
    def text(self) -> str:
        """The schema in its own language (GraphQL, 3)."""
        return print_schema(self.schema)


_DEFINED = parse(f"{_COST} {_LIST_SIZE}").definitions
_UNDERSTOOD = {one.name.value: one for one in _DEFINED if isinstance(one, DirectiveDefinitionNode)}


@lru_cache(maxsize=64)
def graph_of(text: str) -> Graph:
    """Read a schema in its own language. Raises `SchemaProblem`."""
    if len(text) > LARGEST:
        raise SchemaProblem(f"the schema has {len(text):,} characters; up to {LARGEST:,} are read")
    if not text.strip():
        raise SchemaProblem("the schema is empty")
    try:
        parsed = parse(text, max_lexical_tokens=MOST_TOKENS)
        named = {one.name.value for one in parsed.definitions if isinstance(one, DirectiveDefinitionNode)}
        more = [one for name, one in _UNDERSTOOD.items() if name not in named]
        document = DocumentNode(definitions=(*parsed.definitions, *more))
        _refuse(validate_sdl(document))
        built = build_ast_schema(document, assume_valid_sdl=True)
        own = tuple(one for one in built.directives if one.name in named or one.name not in _UNDERSTOOD)
        schema = GraphQLSchema(**(built.to_kwargs() | {"directives": own}))
    except GraphQLError as error:
        raise SchemaProblem(error.message, _line(error)) from None
    except (TypeError, RecursionError) as error:
        raise SchemaProblem(str(error).partition("\n")[0]) from None
    return _graph(schema)


def graph_of_introspection(told: Any) -> Graph:
    """Read a schema from the answer to an introspection. Raises `SchemaProblem`."""
    data = told.get("data", told) if isinstance(told, dict) else None
    if not isinstance(data, dict) or not isinstance(data.get("__schema"), dict):
        raise SchemaProblem("this is no answer to an introspection: it has no data.__schema")
    try:
        return graph_of(print_schema(build_client_schema({"__schema": data["__schema"]})))
    except SchemaProblem:
        raise
    except (GraphQLError, TypeError, ValueError, KeyError, AttributeError, RecursionError) as error:
        raise SchemaProblem(f"the introspection is not complete: {str(error).partition(chr(10))[0][:200]}") from None


def _refuse(problems: Sequence[GraphQLError]) -> None:
    """Raise what is wrong with a schema, where anything is."""
    if problems:
        (message, line), *more = [(one.message, _line(one)) for one in problems[:MOST_PROBLEMS]]
        raise SchemaProblem(message, line, more)


def _graph(schema: GraphQLSchema) -> Graph:
    _refuse(validate_schema(schema))
    fields: dict[str, dict[str, FieldFacts]] = {}
    leaves = set()
    for name, kind in schema.type_map.items():
        if is_introspection_type(kind):
            continue
        if isinstance(kind, GraphQLScalarType | GraphQLEnumType):
            leaves.add(name)
        elif isinstance(kind, GraphQLObjectType | GraphQLInterfaceType):
            behind = (
                [one.name for one in schema.get_possible_types(kind)]
                if isinstance(kind, GraphQLInterfaceType)
                else [one.name for one in kind.interfaces]
            )
            fields[name] = {one: _facts(name, one, told, behind) for one, told in kind.fields.items()}
        elif isinstance(kind, GraphQLUnionType):
            fields[name] = {}
    kinds = (
        ("query", schema.query_type),
        ("mutation", schema.mutation_type),
        ("subscription", schema.subscription_type),
    )
    roots = {kind: root.name for kind, root in kinds if root is not None}
    return Graph(schema, fields, roots, frozenset(leaves))


def _facts(parent: str, name: str, told: Any, behind: Sequence[str]) -> FieldFacts:
    of = get_named_type(told.type)
    inner, is_list = told.type, False
    while is_non_null_type(inner) or is_list_type(inner):
        is_list = is_list or is_list_type(inner)
        inner = inner.of_type
    directives = {one.name.value: one for one in _directives(told)}
    weight = 0 if isinstance(of, GraphQLScalarType | GraphQLEnumType) else 1
    given = _argument(directives.get("cost"), "weight")
    if isinstance(given, StringValueNode | IntValueNode):
        weight = _number(given.value, weight)
    size = _argument(directives.get("listSize"), "assumedSize")
    slicing = _argument(directives.get("listSize"), "slicingArguments")
    named = tuple(
        one.value for one in (slicing.values if isinstance(slicing, ListValueNode) else ()) if hasattr(one, "value")
    )
    sliced_by = named or tuple(one for one in _SLICED_BY if one in told.args)
    assumed = _number(size.value, 0) if isinstance(size, IntValueNode) else None
    defaults = [one.ast_node.default_value for name, one in told.args.items() if name in sliced_by and one.ast_node]
    given = next((one for one in defaults if isinstance(one, IntValueNode)), None)
    assumed = assumed if given is None else _number(given.value, 0)
    # a connection is no list, and is as long as what slices it says
    also = tuple(f"{one}.{name}" for one in behind)
    return FieldFacts(f"{parent}.{name}", of.name, is_list or bool(sliced_by), weight, sliced_by, assumed, also)


def _directives(told: Any) -> Sequence[Any]:
    return (told.ast_node.directives or ()) if told.ast_node is not None else ()


def _argument(directive: Any, name: str) -> Any:
    return next((one.value for one in directive.arguments if one.name.value == name), None) if directive else None


def _number(text: str, otherwise: int) -> int:
    try:
        return max(0, min(1_000_000, round(float(text))))
    except (ValueError, OverflowError):
        return otherwise


def _line(error: GraphQLError) -> int:
    return error.locations[-1].line if error.locations else 0
