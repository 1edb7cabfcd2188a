"""A document published as a REST operation: its variables are parameters of the path, the query and the body.

A view stands in the API's description, at its operation, as `x-graphql-view`.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any, Literal

from graphql import (
    GraphQLEnumType,
    GraphQLError,
    GraphQLInputObjectType,
    get_named_type,
    is_input_type,
    is_leaf_type,
    is_list_type,
    is_non_null_type,
    parse,
    type_from_ast,
    validate,
    value_from_ast_untyped,
)
from graphql.language import OperationDefinitionNode, VariableDefinitionNode, print_ast

from tamarack.core.errors import CoreError
from tamarack.core.graphql.document import Document, DocumentProblem, read
from tamarack.core.graphql.schema import Graph
from tamarack.core.openapi.plain import dict_of, text_of

VIEW = "x-graphql-view"
MOST_FIELDS = 500
LONGEST = 20_000
READS = ("get",)
CHANGES = ("post", "put", "patch", "delete")
WITH_BODY = ("post", "put", "patch")
Place = Literal["path", "query", "body"]
Gives = Literal["value", "data"]
GIVES: dict[Gives, str] = {
    "value": "The value of its one field; 404 where that is null",
    "data": "All of data, by the names of its fields",
}
_NAMES = re.compile(r"\{([^{}/]+)\}")
_WHOLE = re.compile(r"-?\d{1,10}")
_NUMBER = re.compile(r"-?\d{1,20}(?:\.\d{1,20})?(?:[eE][+-]?\d{1,3})?")


class ViewProblem(CoreError, ValueError):
    """A view that cannot be published; `field` is what is at fault: `call` or `document`."""

    def __init__(self, message: str, field: str = "document") -> None:
        super().__init__(message)
        self.field = field


class ParameterProblem(CoreError, ValueError):
    """A call whose parameter is missing, or is not of its kind; `note` is what records tell: no values."""

    def __init__(self, message: str, name: str) -> None:
        super().__init__(message)
        self.note = f"the parameter {name}"


@dataclass(frozen=True, slots=True)
class Parameter:
    """A variable of a document, as a REST caller gives it."""

    name: str
    place: Place
    kind: Any
    """Its type in the schema."""
    default: Any = None
    has_default: bool = False

    @property
    def required(self) -> bool:
        """Whether a call needs it."""
        return self.place == "path" or (is_non_null_type(self.kind) and not self.has_default)

    @property
    def is_list(self) -> bool:
        """Whether it is given any number of times."""
        return is_list_type(self.kind.of_type if is_non_null_type(self.kind) else self.kind)

    @property
    def written(self) -> str:
        """Its type as the schema's language has it."""
        return str(self.kind)


@dataclass(frozen=True, slots=True)
class RestView:
    """A document that is ready to be asked for by REST calls."""

    call: str
    text: str
    gives: Gives
    document: Document
    parameters: tuple[Parameter, ...]
    key: str
    """What its one field is called in the answer, where the value of that is given."""

    @property
    def has_body(self) -> bool:
        """Whether any parameter comes in the body."""
        return any(one.place == "body" for one in self.parameters)

    def variables(
        self, path: Mapping[str, str], query: Mapping[str, list[str]], body: Mapping[str, Any]
    ) -> dict[str, Any]:
        """The variables of a call. Raises `ParameterProblem`."""
        found: dict[str, Any] = {}
        for one in self.parameters:
            if one.place == "body":
                given = one.name in body
                value = body.get(one.name)
            else:
                texts = [path[one.name]] if one.place == "path" else query.get(one.name, [])
                given = bool(texts)
                value = _from_texts(one, texts) if given else None
            if given:
                found[one.name] = value
            if one.required and (not given or value is None):
                where = {"path": "of the path", "query": "of the query", "body": "of the body"}[one.place]
                raise ParameterProblem(
                    f"the parameter `{one.name}` {where} is missing; it is a {one.written.rstrip('!')}",
                    one.name,
                )
        return found


def view_of(call: str, text: str, gives: str, graph: Graph, whole: bool = True) -> RestView:
    """A view, held against the schema. Raises `ViewProblem`.

    As a `whole` it is held against every rule of GraphQL, which takes its time, and is done before it is rolled out.
    """
    method, _, path = call.partition(" ")
    if method not in (*READS, *CHANGES):
        raise ViewProblem(f"a document is asked for by {', '.join((*READS, *CHANGES))}, not by {method}", "call")
    if path == "/" or path.endswith("*"):
        raise ViewProblem("documents themselves are sent to /; give the view a path of its own", "call")
    if gives not in GIVES:
        raise ViewProblem(f"{gives!r} is no way to answer; choose {' or '.join(GIVES)}", "gives")
    if len(text) > LONGEST:
        raise ViewProblem(f"the document has {len(text):,} characters; a view has up to {LONGEST:,}")
    try:
        document = read(text, graph)
        operation = document.chosen("")
    except DocumentProblem as problem:
        line = f"line {problem.places[0][0]}: " if problem.places and problem.places[0][0] else ""
        raise ViewProblem(f"{line}{problem}") from None
    if operation.kind == "subscription":
        raise ViewProblem("a subscription is no REST operation; publish a query or a mutation")
    if operation.introspects:
        raise ViewProblem("the schema is no REST operation; leave `__schema` and `__type` out")
    if method in READS and operation.kind == "mutation":
        raise ViewProblem(f"a GET changes nothing; choose {', '.join(CHANGES)} for a mutation", "call")
    if operation.fields > MOST_FIELDS:
        raise ViewProblem(f"the document asks for {operation.fields:,} fields; a view has up to {MOST_FIELDS:,}")
    parsed = parse(text)
    if whole and (wrong := validate(graph.schema, parsed, max_errors=5)):
        raise ViewProblem("; ".join(map(_told, wrong)))
    node = next(one for one in parsed.definitions if isinstance(one, OperationDefinitionNode))
    parameters = tuple(_parameters(node, method, path, graph))
    keys = _keys(node)
    if gives == "value" and len(keys) != 1:
        raise ViewProblem(
            f"the document has {len(keys)} root fields, and the value of one is to be given; let it give all of data",
            "gives",
        )
    return RestView(call, text, gives, document, parameters, keys[0] if gives == "value" else "")


def _told(error: GraphQLError) -> str:
    line = f"line {error.locations[0].line}: " if error.locations else ""
    return f"{line}{error.message}"


def _keys(node: OperationDefinitionNode) -> list[str]:
    """What the root fields are called in the answer; a fragment at the root counts as several."""
    found = []
    for one in node.selection_set.selections:
        named = getattr(one, "alias", None) or getattr(one, "name", None)
        found += [named.value] if named is not None and one.kind == "field" else ["", ""]
    return found


def _parameters(node: OperationDefinitionNode, method: str, path: str, graph: Graph) -> Iterator[Parameter]:
    in_path = _NAMES.findall(path)
    declared = {one.variable.name.value for one in node.variable_definitions or ()}
    lost = next((name for name in in_path if name not in declared), None)
    if lost is not None:
        known = ", ".join(f"${name}" for name in sorted(declared)) or "none"
        raise ViewProblem(f"{{{lost}}} of the path is no variable of the document (it has: {known})", "call")
    for one in node.variable_definitions or ():
        yield _parameter(one, in_path, method, graph)


def _parameter(one: VariableDefinitionNode, in_path: list[str], method: str, graph: Graph) -> Parameter:
    name = one.variable.name.value
    kind: Any = type_from_ast(graph.schema, one.type)
    if kind is None or not is_input_type(kind):
        raise ViewProblem(f"${name} is a {print_ast(one.type)}, which no variable can be")
    place: Place = "path" if name in in_path else "body" if method in WITH_BODY else "query"
    inner = kind.of_type if is_non_null_type(kind) else kind
    nested = is_list_type(inner) and not is_leaf_type(_bare(inner.of_type))
    if place != "body" and (isinstance(get_named_type(kind), GraphQLInputObjectType) or nested):
        raise ViewProblem(
            f"${name} is a {print_ast(one.type)}, which comes in a body; choose {', '.join(WITH_BODY)}", "call"
        )
    if place == "path" and is_list_type(inner):
        raise ViewProblem(f"${name} is a list, which no part of a path can be; leave it out of the path", "call")
    if one.default_value is None:
        return Parameter(name, place, kind)
    return Parameter(name, place, kind, value_from_ast_untyped(one.default_value), True)


def _bare(kind: Any) -> Any:
    return kind.of_type if is_non_null_type(kind) else kind


def _from_texts(one: Parameter, texts: list[str]) -> Any:
    """The value of a parameter that came as text. Raises `ParameterProblem`."""
    kind = get_named_type(one.kind)
    if one.is_list:
        return [_from_text(one, kind, text) for text in texts]
    if len(texts) > 1:
        raise ParameterProblem(f"the parameter `{one.name}` is given {len(texts)} times, and once is enough", one.name)
    return _from_text(one, kind, texts[0])


def _from_text(one: Parameter, kind: Any, text: str) -> Any:
    if kind.name == "Int" and _WHOLE.fullmatch(text) and -(2**31) <= int(text) < 2**31:
        return int(text)
    if kind.name == "Float" and _NUMBER.fullmatch(text):
        return float(text)
    if kind.name == "Boolean" and text in ("true", "false"):
        return text == "true"
    words = {"Int": "a whole number", "Float": "a number", "Boolean": "true or false"}.get(kind.name, "")
    if isinstance(kind, GraphQLEnumType) and text not in kind.values:
        words = f"one of {', '.join(list(kind.values)[:20])}"
    if words:
        raise ParameterProblem(f"the parameter `{one.name}` is {words}, not {text[:80]!r}", one.name)
    return text


def views_in(document: Mapping[str, Any]) -> dict[str, tuple[str, str]]:
    """The views of a description: of each call the document's text, and what it gives."""
    found = {}
    for path, item in dict_of(document.get("paths")).items():
        for method, operation in dict_of(item).items():
            view = dict_of(operation).get(VIEW) if isinstance(operation, dict) else None
            if isinstance(view, dict):
                found[f"{method} {path}"] = (text_of(view.get("document")), text_of(view.get("gives")) or "value")
    return found
