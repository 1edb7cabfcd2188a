"""What OpenAPI says of a REST view: its parameters and its answer, from the types of the schema (OpenAPI 3.1)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from graphql import (
    GraphQLEnumType,
    GraphQLInputObjectType,
    GraphQLNonNull,
    is_abstract_type,
    is_list_type,
    is_non_null_type,
    parse,
)
from graphql.language import (
    FieldNode,
    FragmentDefinitionNode,
    FragmentSpreadNode,
    OperationDefinitionNode,
    SelectionSetNode,
)

from tamarack.core.graphql.schema import Graph
from tamarack.core.graphql.views.as_rest import ERRORS
from tamarack.core.graphql.views.rest_view import VIEW, Parameter, RestView, ViewProblem, view_of, views_in
from tamarack.core.openapi.plain import dict_of

_JSON = "application/json"
_SCALARS: dict[str, dict[str, Any]] = {
    "Int": {"type": "integer", "format": "int32"}, "Float": {"type": "number"}, "String": {"type": "string"},
    "ID": {"type": "string"}, "Boolean": {"type": "boolean"},
}  # fmt: skip
_TAG = "REST"
_DEEPEST_INPUT = 6
Schema = dict[str, Any]
Document = dict[str, Any]


def described_view(view: RestView, graph: Graph, summary: str) -> Document:
    """The operation, as a description has it."""
    made: Document = {"summary": summary} if summary else {}
    made["tags"] = [_TAG]
    parameters = [_parameter(one) for one in view.parameters if one.place != "body"]
    made |= {"parameters": parameters} if parameters else {}
    if view.has_body:
        made["requestBody"] = _body([one for one in view.parameters if one.place == "body"])
    answer = {
        "description": "What was asked for",
        "headers": {
            ERRORS.decode().title(): {
                "description": "How many places of the answer could not be filled in, where any could not",
                "schema": {"type": "integer"},
            }
        },
        "content": {_JSON: {"schema": _answer(view, graph)}},
    }
    made["responses"] = {"200": answer}
    if view.gives == "value":
        made["responses"]["404"] = {"description": "There is nothing by these parameters"}
    made[VIEW] = {"document": view.text, "gives": view.gives}
    return made


def with_view(document: Document, operation: Document, call: str) -> Document:
    """A description with the operation of a view, in place of one of the same call or at the end."""
    method, _, path = call.partition(" ")
    paths = {name: dict_of(item) for name, item in dict_of(document.get("paths")).items()}
    paths[path] = paths.get(path, {}) | {method: operation}
    return document | {"paths": paths}


def with_views_of(document: Document, before: Document, graph: Graph) -> Document:
    """A new description of an API with the views of its present one, described by the new schema. Raises
    `ViewProblem`, which names the view, for one that does not fit any more."""
    made = document
    for call, (text, gives) in views_in(before).items():
        method, _, path = call.partition(" ")
        if method in dict_of(dict_of(made.get("paths")).get(path)):
            continue
        try:
            view = view_of(call, text, gives, graph)
        except ViewProblem as problem:
            raise ViewProblem(f"the view {call}: {problem}") from None
        was = dict_of(dict_of(dict_of(before.get("paths")).get(path)).get(method))
        made = with_view(made, was | described_view(view, graph, str(was.get("summary") or "")), call)
    return made


def _parameter(one: Parameter) -> Document:
    made: Document = {"name": one.name, "in": one.place}
    if one.required:
        made["required"] = True
    schema = _input_itself(one.kind.of_type if is_non_null_type(one.kind) else one.kind)
    return made | {"schema": schema | ({"default": one.default} if one.has_default else {})}


def _body(parameters: Sequence[Parameter]) -> Document:
    properties = {}
    for one in parameters:
        properties[one.name] = _input(one.kind) | ({"default": one.default} if one.has_default else {})
    required = [one.name for one in parameters if one.required]
    schema: Schema = {"type": "object", "properties": properties} | ({"required": required} if required else {})
    return {"required": bool(required), "content": {_JSON: {"schema": schema}}}


def _input(kind: Any, deep: int = 0) -> Schema:
    """What a value of an input type is."""
    if is_non_null_type(kind):
        return _input_itself(kind.of_type, deep)
    return _or_null(_input_itself(kind, deep))


def _input_itself(kind: Any, deep: int = 0) -> Schema:
    """What it is where it is not null."""
    if not isinstance(kind, GraphQLInputObjectType):
        return _named(kind, lambda inner: _input(inner, deep + 1))
    if deep >= _DEEPEST_INPUT:
        return {"type": "object"}
    fields = {name: _input(one.type, deep + 1) for name, one in kind.fields.items()}
    required = [
        name for name, one in kind.fields.items()
        if is_non_null_type(one.type) and (one.ast_node is None or one.ast_node.default_value is None)
    ]  # fmt: skip
    return {"type": "object", "properties": fields} | ({"required": required} if required else {})


def _named(kind: Any, inner: Any) -> Schema:
    """What a scalar, an enum or a list of something is."""
    if is_list_type(kind):
        return {"type": "array", "items": inner(kind.of_type)}
    if isinstance(kind, GraphQLEnumType):
        return {"type": "string", "enum": list(kind.values)}
    known = _SCALARS.get(kind.name)
    return dict(known) if known is not None else {"title": kind.name}


def _or_null(schema: Schema) -> Schema:
    """The same, or null."""
    if "type" not in schema:
        return schema
    made = schema | {"type": [schema["type"], "null"]}
    return made | {"enum": [*schema["enum"], None]} if "enum" in schema else made


class _Answers:
    """The schema of an answer, by the fields that a document asks for."""

    def __init__(self, graph: Graph, text: str) -> None:
        self.graph = graph
        parsed = parse(text)
        self.fragments = {one.name.value: one for one in parsed.definitions if isinstance(one, FragmentDefinitionNode)}
        self.operation = next(one for one in parsed.definitions if isinstance(one, OperationDefinitionNode))

    def of(self, kind: Any, sets: Sequence[tuple[SelectionSetNode, str]]) -> Schema:
        """What a value of a type is, of which some selections are asked for."""
        if isinstance(kind, GraphQLNonNull):
            return self._itself(kind.of_type, sets)
        return _or_null(self._itself(kind, sets))

    def _itself(self, kind: Any, sets: Sequence[tuple[SelectionSetNode, str]]) -> Schema:
        if not sets or is_list_type(kind):
            return _named(kind, lambda inner: self.of(inner, sets))
        return self.object(sets, is_abstract_type(kind))

    def object(self, sets: Sequence[tuple[SelectionSetNode, str]], varies: bool) -> Schema:
        """What an object is; of one whose type varies none of its fields is certain."""
        found: dict[str, list[tuple[FieldNode, str]]] = {}
        certain: set[str] = set()
        for node, parent in sets:
            self._collect(node, parent, not varies, found, certain)
        properties = {}
        for key, nodes in found.items():
            first, parent = nodes[0]
            name = first.name.value
            if name.startswith("__"):
                properties[key] = {"type": "string"}
                continue
            told: Any = self.graph.schema.type_map[parent]
            field = told.fields[name]
            of = self.graph.fields[parent][name].of
            below = [(node.selection_set, of) for node, _ in nodes if node.selection_set is not None]
            schema = self.of(field.type, below)
            properties[key] = schema | ({"description": field.description} if field.description else {})
        required = [key for key in found if key in certain]
        return {"type": "object", "properties": properties} | ({"required": required} if required else {})

    def _collect(
        self,
        node: SelectionSetNode,
        parent: str,
        always: bool,
        found: dict[str, list[tuple[FieldNode, str]]],
        certain: set[str],
    ) -> None:
        for one in node.selections:
            sure = always and not one.directives
            if isinstance(one, FieldNode):
                key = one.alias.value if one.alias is not None else one.name.value
                found.setdefault(key, []).append((one, parent))
                if sure:
                    certain.add(key)
                continue
            fragment: Any = self.fragments[one.name.value] if isinstance(one, FragmentSpreadNode) else one
            on = fragment.type_condition.name.value if fragment.type_condition is not None else parent
            self._collect(fragment.selection_set, on, sure and on == parent, found, certain)


def _answer(view: RestView, graph: Graph) -> Schema:
    answers = _Answers(graph, view.text)
    root = graph.roots[answers.operation.operation.value]
    whole = answers.object([(answers.operation.selection_set, root)], False)
    if view.gives == "data":
        return whole
    value: Schema = whole["properties"][view.key]
    kind = value.get("type")
    return value | {"type": kind[0]} if isinstance(kind, list) else value


def check_views(document: Document, graph: Graph | None) -> list[str]:
    """What is wrong with the views of a description, in words."""
    found = []
    for call, (text, gives) in views_in(document).items():
        if graph is None:
            found.append(f"{call} is a view of a GraphQL document, and the schema is not known")
            continue
        try:
            view_of(call, text, gives, graph)
        except ViewProblem as problem:
            found.append(f"{call}: {problem}")
    return found
