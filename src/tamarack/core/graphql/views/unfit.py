"""REST views of GraphQL documents that do not fit their API's schema: they cannot be rolled out."""

from collections.abc import Callable
from typing import Any

from tamarack.core.configuration.model import Configuration
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.schema import SchemaProblem, graph_of
from tamarack.core.graphql.views.rest_described import check_views
from tamarack.core.types import Problem

Documents = Callable[[str], dict[str, Any]]
"""A document by its SHA-256."""


def view_problems(configuration: Configuration, documents: Documents) -> list[Problem]:
    """What is wrong with the views of every version that takes calls, each with the path to the version's document."""
    found = []
    for a, api in enumerate(configuration.apis):
        for v, version in enumerate(api.versions):
            if api.style != "graphql" or version.state in ("draft", "retired") or not version.document:
                continue
            tree = documents(version.document)
            schema = schema_in(tree)
            try:
                problems = check_views(tree, graph_of(schema) if schema else None)
            except SchemaProblem as problem:
                problems = [f"the schema cannot be read: {problem}"]
            for words in problems:
                message = f"{api.title} {version.version}: {words}"
                found.append(Problem(path=("apis", a, "versions", v, "document"), message=message))
    return found
