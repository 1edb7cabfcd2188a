"""A document that suits a schema, for examples: a query with some fields and what is below them."""

from __future__ import annotations

from graphql import is_non_null_type

from tamarack.core.graphql.schema import Graph

_MOST_FIELDS = 3
_DEEPEST = 3


def example_document(graph: Graph) -> str:
    """The first query of a schema that needs no argument, with some of its fields; `{ __typename }` where none is."""
    root = graph.roots.get("query", "")
    for name in graph.fields.get(root, {}):
        written = _field(graph, root, name, _DEEPEST)
        if written:
            return f"query Example {{ {written} }}"
    return "{ __typename }"


def _field(graph: Graph, parent: str, name: str, deep: int) -> str:
    """A field with what is below it; empty where it cannot be asked for so."""
    told = graph.schema.type_map[parent].fields[name]  # type: ignore[attr-defined]
    if told.deprecation_reason is not None:
        return ""
    if any(is_non_null_type(one.type) and one.ast_node is not None and one.ast_node.default_value is None
           for one in told.args.values()):  # fmt: skip
        return ""
    of = graph.fields[parent][name].of
    if of in graph.leaves:
        return name
    if deep <= 1 or not graph.fields.get(of):
        return ""
    below: list[str] = []
    for inner in graph.fields[of]:
        plain = graph.fields[of][inner].of in graph.leaves
        written = _field(graph, of, inner, deep - 1) if plain or len(below) < _MOST_FIELDS else ""
        if written and (plain or not any("{" in one for one in below)):
            below.append(written)
        if len(below) >= _MOST_FIELDS:
            break
    return f"{name} {{ {' '.join(below)} }}" if below else f"{name} {{ __typename }}"
