"""A text handed in for a GraphQL API: its schema, the answer to an introspection, or a whole description."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import orjson

from tamarack.core.documents.yaml_text import to_yaml
from tamarack.core.graphql.described import graphql_description
from tamarack.core.graphql.example import example_document
from tamarack.core.graphql.schema import Graph, SchemaProblem, graph_of, graph_of_introspection
from tamarack.core.graphql.views.rest_described import with_views_of

_DESCRIPTION = re.compile(r"""\s*(?:\{\s*)?["']?(?:openapi|swagger)["']?\s*:""")


def schema_of(text: str) -> tuple[Graph, str]:
    """A schema from its own language, or from the answer to an introspection; and its text. Raises `SchemaProblem`."""
    if not text.lstrip().startswith("{"):
        return graph_of(text), text
    try:
        graph = graph_of_introspection(orjson.loads(text))
    except ValueError as error:
        if isinstance(error, SchemaProblem):
            raise
        raise SchemaProblem("it begins like JSON, and is none; paste the whole answer to an introspection") from None
    return graph, graph.text


def described(text: str, title: str, version: str, summary: str, before: Mapping[str, Any]) -> str:
    """The description of an API from what was handed in: as it is where it is one, else made for its schema, with the
    REST views of the description that it had before. Raises `SchemaProblem` and `ViewProblem`."""
    if _DESCRIPTION.match(text) is not None:
        return text
    graph, schema = schema_of(text)
    made = graphql_description(title, version, summary, schema, example_document(graph))
    return to_yaml(with_views_of(made, dict(before), graph))
