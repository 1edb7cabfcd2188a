"""A document laid out for readers: operations by tag, parameters, bodies and answers as readable schemas."""

import json
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote

from tamarack.core.openapi.read import METHODS, resolve

DEEPEST = 6
MOST_PROPERTIES = 60

Document = dict[str, Any]


@dataclass(slots=True)
class SchemaView:
    """A schema in words, with what is inside it. `circular` where it holds itself and is not shown again."""

    words: str
    description: str = ""
    rules: tuple[str, ...] = ()
    properties: list[tuple[str, bool, "SchemaView"]] = field(default_factory=list)
    variants: list["SchemaView"] = field(default_factory=list)
    variants_words: str = ""
    circular: bool = False


@dataclass(slots=True)
class ParameterView:
    """A parameter: where it goes, its schema and an example of it."""

    name: str
    place: str
    required: bool
    description: str
    schema: SchemaView
    example: str


@dataclass(slots=True)
class BodyView:
    """A body in one media type, with an example as text ("" where none can be made)."""

    media: str
    schema: SchemaView
    example: str
    description: str = ""


@dataclass(slots=True)
class AnswerView:
    """One documented answer."""

    status: str
    description: str
    bodies: list[BodyView]


@dataclass(slots=True)
class OperationView:
    """An operation as readers see it."""

    call: str
    method: str
    path: str
    summary: str
    description: str
    tags: tuple[str, ...]
    deprecated: bool
    parameters: list[ParameterView] = field(default_factory=list)
    body: BodyView | None = None
    answers: list[AnswerView] = field(default_factory=list)

    def example_path(self) -> str:
        """The path with example values, and the query parameters that are required or have an example."""
        path = self.path
        query = []
        for parameter in self.parameters:
            value = quote(parameter.example or parameter.name, safe="")
            if parameter.place == "path":
                path = path.replace("{" + parameter.name + "}", value)
            elif parameter.place == "query" and parameter.required:
                query.append(f"{quote(parameter.name)}={value}")
        return path + ("?" + "&".join(query) if query else "")


def _dict(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}


def _text(value: Any) -> str:
    return str(value).strip() if value is not None else ""


def lay_out(document: Document) -> list[OperationView]:
    """Every operation of a document that `read.describe` brought to 3.x, in its order."""
    found = []
    for path, item in _dict(document.get("paths")).items():
        item = _dict(resolve(document, item))
        for method in METHODS:
            if isinstance(item.get(method), dict):
                found.append(_operation(document, path, method, item[method], item.get("parameters")))
    return found


def _operation(document: Document, path: str, method: str, item: Document, common: Any) -> OperationView:
    own = [*(common if isinstance(common, list) else []), *(item.get("parameters") or [])]
    parameters: dict[tuple[str, str], ParameterView] = {}
    for parameter in (_dict(resolve(document, one)) for one in own):
        view = _parameter(document, parameter)
        parameters[view.place, view.name] = view
    tags = item.get("tags")
    body = _dict(resolve(document, item.get("requestBody")))
    bodies = _bodies(document, body)
    answers = []
    for status, answer in _dict(item.get("responses")).items():
        answer = _dict(resolve(document, answer))
        answers.append(AnswerView(str(status), _text(answer.get("description")), _bodies(document, answer)))
    return OperationView(
        call=f"{method} {path}",
        method=method,
        path=path,
        summary=_text(item.get("summary")),
        description=_text(item.get("description")),
        tags=tuple(str(tag) for tag in tags) if isinstance(tags, list) else (),
        deprecated=item.get("deprecated") is True,
        parameters=list(parameters.values()),
        body=bodies[0] if bodies else None,
        answers=answers,
    )


def _parameter(document: Document, parameter: Document) -> ParameterView:
    schema = _dict(parameter.get("schema"))
    if not schema and _dict(parameter.get("content")):
        schema = _dict(next(iter(parameter["content"].values()), {})).get("schema", {})
    example = parameter.get("example", _first_example(parameter))
    if example is None:
        example = example_of(document, schema)
    shown = example if isinstance(example, str) else json.dumps(example) if example is not None else ""
    return ParameterView(
        name=_text(parameter.get("name")),
        place=_text(parameter.get("in")),
        required=parameter.get("required") is True or parameter.get("in") == "path",
        description=_text(parameter.get("description")),
        schema=view_schema(document, schema),
        example=shown,
    )


def _first_example(value: Document) -> Any:
    examples = value.get("examples")
    if isinstance(examples, dict):
        return next((_dict(one).get("value") for one in examples.values()), None)
    return examples[0] if isinstance(examples, list) and examples else None


def _bodies(document: Document, holder: Document) -> list[BodyView]:
    found = []
    for media, content in _dict(holder.get("content")).items():
        content = _dict(content)
        schema = content.get("schema", {})
        example = content.get("example", _first_example(content))
        if example is None:
            example = example_of(document, schema)
        text = example if isinstance(example, str) else json.dumps(example, indent=2, ensure_ascii=False)
        shown = "" if example is None else text
        found.append(BodyView(media, view_schema(document, schema), shown, _text(holder.get("description"))))
    return found


def view_schema(document: Document, schema: Any, depth: int = 0, inside: tuple[str, ...] = ()) -> SchemaView:
    """A schema in words. What holds itself is named and not opened again; so is what lies too deep."""
    reference = _dict(schema).get("$ref")
    if isinstance(reference, str):
        name = reference.rpartition("/")[2]
        if reference in inside or depth > DEEPEST:
            return SchemaView(name, circular=True)
        inside = (*inside, reference)
        view = view_schema(document, resolve(document, schema), depth, inside)
        if view.words.startswith("object"):
            view.words = name
        return view
    schema = _dict(schema)
    view = SchemaView(_words(document, schema), _text(schema.get("description")), _rules(schema))
    required = schema.get("required")
    required = required if isinstance(required, list) else []
    for part in schema.get("allOf") or []:
        inner = view_schema(document, part, depth, inside)
        view.properties += inner.properties
        view.words = "object" if view.words == "any" else view.words
    if depth < DEEPEST:
        for name, inner in list(_dict(schema.get("properties")).items())[:MOST_PROPERTIES]:
            view.properties.append((name, name in required, view_schema(document, inner, depth + 1, inside)))
        for key, words in (("oneOf", "one of"), ("anyOf", "any of")):
            if isinstance(schema.get(key), list):
                view.variants_words = words
                view.variants = [view_schema(document, one, depth + 1, inside) for one in schema[key]]
        items = schema.get("items")
        if isinstance(items, dict):
            inner = view_schema(document, items, depth, inside)
            view.words = f"list of {inner.words}"
            view.properties = inner.properties
            view.circular = inner.circular
    return view


def _words(document: Document, schema: Document) -> str:
    kind = schema.get("type")
    if isinstance(kind, list):
        words = " or ".join(str(one) for one in kind)
    elif kind is not None:
        words = str(kind) + (" or null" if schema.get("nullable") is True else "")
    elif "properties" in schema:
        words = "object"
    elif "enum" in schema:
        words = "string"
    else:
        words = (schema.get("oneOf") and "one of several") or "any"
    return f"{words}, {schema['format']}" if isinstance(schema.get("format"), str) else words


_RULES = {
    "minimum": "at least {}",
    "maximum": "at most {}",
    "minLength": "at least {} characters",
    "maxLength": "at most {} characters",
    "minItems": "at least {} items",
    "maxItems": "at most {} items",
    "pattern": "matches {}",
    "default": "{} unless given",
}


def _rules(schema: Document) -> tuple[str, ...]:
    rules = [words.format(schema[key]) for key, words in _RULES.items() if key in schema]
    if isinstance(schema.get("enum"), list):
        rules.insert(0, "one of " + ", ".join(str(one) for one in schema["enum"][:20]))
    return tuple(rules)


_BY_FORMAT = {
    "date": "2026-11-23",
    "date-time": "2026-11-23T07:45:00Z",
    "time": "07:45",
    "email": "m.tern@tern-trips.example",
    "uri": "https://skerry.example/",
    "uuid": "3d6f0c1e-4b1a-4d27-9a57-0c9a3f1d2b77",
}
_BY_TYPE: dict[str, Any] = {"integer": 1, "number": 1.5, "boolean": True, "null": None}


def example_of(document: Document, schema: Any, depth: int = 0) -> Any:
    """A value that fits a schema: its own example, else one made from its type; None where it cannot be told."""
    schema = _dict(resolve(document, schema))
    if "example" in schema:
        return schema["example"]
    first = _first_example(schema)
    if first is not None:
        return first
    for key in ("default", "const"):
        if key in schema:
            return schema[key]
    if isinstance(schema.get("enum"), list) and schema["enum"]:
        return schema["enum"][0]
    for key in ("oneOf", "anyOf"):
        if isinstance(schema.get(key), list) and schema[key]:
            return example_of(document, schema[key][0], depth)
    parts = [example_of(document, part, depth) for part in schema.get("allOf") or []]
    merged = {name: value for part in parts if isinstance(part, dict) for name, value in part.items()}
    kind = schema.get("type")
    kind = next((one for one in kind if one != "null"), None) if isinstance(kind, list) else kind
    if kind == "object" or "properties" in schema or merged:
        if depth >= DEEPEST:
            return merged
        own = _dict(schema.get("properties"))
        return merged | {name: example_of(document, inner, depth + 1) for name, inner in own.items()}
    if kind == "array":
        return [example_of(document, schema.get("items"), depth + 1)] if depth < DEEPEST else []
    if kind == "string":
        return _BY_FORMAT.get(str(schema.get("format")), "text")
    return _BY_TYPE.get(str(kind))
