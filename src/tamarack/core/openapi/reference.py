"""A document laid out for readers: operations by tag, parameters, bodies and answers as readable schemas."""

import json
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote

from tamarack.core.openapi.read import METHODS, resolve

DEEPEST = 6
MOST_PROPERTIES = 200

Document = dict[str, Any]


@dataclass(slots=True)
class SchemaView:
    """A schema in words, with what is inside it. `circular` where it holds itself and is not shown again."""

    words: str
    description: str = ""
    rules: tuple[str, ...] = ()
    enum: tuple[str, ...] = ()
    properties: list[tuple[str, bool, "SchemaView"]] = field(default_factory=list)
    others: "SchemaView | None" = None
    """What properties of other names hold, where the schema says so."""
    left_out: int = 0
    """How many properties are not shown, where there are very many."""
    variants: list["SchemaView"] = field(default_factory=list)
    variants_words: str = ""
    circular: bool = False
    deprecated: bool = False

    @property
    def opens(self) -> bool:
        """Whether there is something inside to show."""
        return bool(self.properties or self.variants or self.others is not None)


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
    headers: list[ParameterView] = field(default_factory=list)


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
    bodies: list[BodyView] = field(default_factory=list)
    body_required: bool = False
    answers: list[AnswerView] = field(default_factory=list)

    @property
    def body(self) -> BodyView | None:
        """The body in the first media type, None where there is none."""
        return self.bodies[0] if self.bodies else None

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


@dataclass(frozen=True, slots=True)
class OutlineEntry:
    """An operation in a list: its call, what it is called, and its first tag."""

    call: str
    method: str
    path: str
    summary: str
    tag: str
    deprecated: bool


def _found(document: Document) -> Iterator[tuple[str, str, Document, Any]]:
    """Path, method, operation and the parameters common to its path, in the document's order."""
    for path, item in _dict(document.get("paths")).items():
        item = _dict(resolve(document, item))
        for method in METHODS:
            if isinstance(item.get(method), dict):
                yield path, method, item[method], item.get("parameters")


def outline(document: Document) -> list[OutlineEntry]:
    """Every operation of a document that `read.describe` brought to 3.x, without what is inside."""
    return [
        OutlineEntry(f"{method} {path}", method, path, _text(item.get("summary")), next(iter(_tags(item)), ""),
                     item.get("deprecated") is True)
        for path, method, item, _ in _found(document)
    ]  # fmt: skip


def outline_texts(document: Document) -> dict[str, tuple[str, str, str]]:
    """For search: each call's summary, its id, and the words of its description, tags, parameters and answers."""
    found = {}
    for path, method, item, common in _found(document):
        named = [_dict(resolve(document, one)) for one in [*(common or []), *(item.get("parameters") or [])]]
        answers = [_dict(resolve(document, one)) for one in _dict(item.get("responses")).values()]
        words = [_text(item.get("description")), *_tags(item)]
        words += [f"{_text(one.get('name'))}: {_text(one.get('description'))}" for one in named]
        words += [_text(one.get("description")) for one in answers]
        summary, id = _text(item.get("summary")), _text(item.get("operationId"))
        found[f"{method} {path}"] = (summary, id, " · ".join(filter(None, words)))
    return found


def tag_descriptions(document: Document) -> dict[str, str]:
    """What the document says of its tags, in its order."""
    tags = document.get("tags")
    named = [_dict(one) for one in (tags if isinstance(tags, list) else [])]
    return {_text(one.get("name")): _text(one.get("description")) for one in named}


def view_operation(document: Document, call: str) -> OperationView | None:
    """One operation in full, or None where the document does not describe it."""
    method, _, path = call.partition(" ")
    item = _dict(resolve(document, _dict(document.get("paths")).get(path)))
    if method not in METHODS or not isinstance(item.get(method), dict):
        return None
    return _operation(document, path, method, item[method], item.get("parameters"))


def _tags(item: Document) -> tuple[str, ...]:
    tags = item.get("tags")
    return tuple(str(tag) for tag in tags) if isinstance(tags, list) else ()


def _operation(document: Document, path: str, method: str, item: Document, common: Any) -> OperationView:
    own = [*(common if isinstance(common, list) else []), *(item.get("parameters") or [])]
    parameters: dict[tuple[str, str], ParameterView] = {}
    for parameter in (_dict(resolve(document, one)) for one in own):
        view = _parameter(document, parameter)
        parameters[view.place, view.name] = view
    body = _dict(resolve(document, item.get("requestBody")))
    answers = []
    for status, answer in _dict(item.get("responses")).items():
        answer = _dict(resolve(document, answer))
        headers = [
            _parameter(document, {**_dict(resolve(document, header)), "name": name, "in": "header"})
            for name, header in _dict(answer.get("headers")).items()
        ]
        answers.append(AnswerView(str(status), _text(answer.get("description")), _bodies(document, answer), headers))
    return OperationView(
        call=f"{method} {path}",
        method=method,
        path=path,
        summary=_text(item.get("summary")),
        description=_text(item.get("description")),
        tags=_tags(item),
        deprecated=item.get("deprecated") is True,
        parameters=list(parameters.values()),
        bodies=_bodies(document, body),
        body_required=body.get("required") is True,
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
    if schema is True or schema == {}:
        return SchemaView("anything")
    if schema is False:
        return SchemaView("nothing")
    schema = _dict(schema)
    reference = schema.get("$ref")
    if isinstance(reference, str):
        name = reference.rpartition("/")[2]
        if reference in inside or depth > DEEPEST:
            return SchemaView(name, circular=True)
        view = view_schema(document, resolve(document, schema), depth, (*inside, reference))
        if view.words.startswith("object") or view.words in ("any", "one of several"):
            view.words = name
        view.description = _text(schema.get("description")) or view.description
        return view
    enum = schema.get("enum")
    view = SchemaView(
        _words(schema),
        _text(schema.get("description")),
        _rules(schema),
        tuple(_value(one) for one in enum) if isinstance(enum, list) else (),
        deprecated=schema.get("deprecated") is True,
    )
    for part in schema.get("allOf") or []:
        _merge(view, view_schema(document, part, depth, inside))
    if depth >= DEEPEST:
        return view
    required = schema.get("required")
    required = required if isinstance(required, list) else []
    properties = _dict(schema.get("properties"))
    for name, inner in list(properties.items())[:MOST_PROPERTIES]:
        view.properties.append((name, name in required, view_schema(document, inner, depth + 1, inside)))
    # What another part of an allOf describes may be required here.
    view.properties = [(name, must or name in required, inner) for name, must, inner in view.properties]
    view.left_out += max(0, len(properties) - MOST_PROPERTIES)
    if isinstance(schema.get("additionalProperties"), dict) and schema["additionalProperties"]:
        view.others = view_schema(document, schema["additionalProperties"], depth + 1, inside)
    for key, words in (("oneOf", "exactly one of"), ("anyOf", "one or more of")):
        if isinstance(schema.get(key), list) and schema[key]:
            view.variants_words = words + _told_apart(schema)
            view.variants = [view_schema(document, one, depth + 1, inside) for one in schema[key]]
    if isinstance(schema.get("items"), dict):
        inner = view_schema(document, schema["items"], depth, inside)
        view.words = f"list of {inner.words}"
        view.properties, view.circular, view.others = inner.properties, inner.circular, inner.others
        view.variants, view.variants_words = inner.variants, inner.variants_words
        view.enum, view.left_out = view.enum or inner.enum, inner.left_out
        view.rules += tuple(f"each {rule}" for rule in inner.rules)
    return view


def _merge(view: SchemaView, part: SchemaView) -> None:
    """Take a part of an allOf into the whole: everything that any part says holds."""
    known = {name for name, _, _ in view.properties}
    view.properties += [one for one in part.properties if one[0] not in known]
    view.rules += tuple(rule for rule in part.rules if rule not in view.rules)
    view.enum = view.enum or part.enum
    view.description = view.description or part.description
    view.others = view.others or part.others
    view.left_out += part.left_out
    if part.variants and not view.variants:
        view.variants, view.variants_words = part.variants, part.variants_words
    if view.words == "any":
        view.words = "object" if part.properties else part.words
    view.circular = view.circular or (part.circular and not part.properties)


def _told_apart(schema: Document) -> str:
    by = _dict(schema.get("discriminator")).get("propertyName")
    return f" (`{by}` tells which)" if isinstance(by, str) else ""


def _words(schema: Document) -> str:
    kind = schema.get("type")
    if isinstance(kind, list):
        words = " or ".join(str(one) for one in kind)
    elif kind is not None:
        words = str(kind) + (" or null" if schema.get("nullable") is True else "")
    elif "properties" in schema:
        words = "object"
    elif "enum" in schema or "const" in schema:
        values = schema.get("enum") or [schema.get("const")]
        words = "string" if all(isinstance(one, str) for one in values) else "value"
    else:
        words = "one of several" if schema.get("oneOf") or schema.get("anyOf") else "any"
    return f"{words}, {schema['format']}" if isinstance(schema.get("format"), str) else words


_RULES = {
    "minimum": "at least {}",
    "maximum": "at most {}",
    "exclusiveMinimum": "more than {}",
    "exclusiveMaximum": "less than {}",
    "multipleOf": "a multiple of {}",
    "minLength": "at least {} characters",
    "maxLength": "at most {} characters",
    "minItems": "at least {} items",
    "maxItems": "at most {} items",
    "minProperties": "at least {} properties",
    "maxProperties": "at most {} properties",
    "pattern": "matches {}",
    "const": "always {}",
    "default": "{} unless given",
}
_MARKS = {"uniqueItems": "no item twice", "readOnly": "only in answers", "writeOnly": "only in requests"}


def _value(value: Any) -> str:
    return value if isinstance(value, str) else json.dumps(value, ensure_ascii=False)


def _rules(schema: Document) -> tuple[str, ...]:
    known = {key: words for key, words in _RULES.items() if key in schema and not isinstance(schema[key], bool)}
    rules = [words.format(_value(schema[key])) for key, words in known.items()]
    if isinstance(schema.get("default"), bool):
        rules.append(f"{_value(schema['default'])} unless given")
    return (*rules, *(words for key, words in _MARKS.items() if schema.get(key) is True))


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
