"""A document laid out for readers: operations by tag, parameters, bodies and answers as readable schemas."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any
from urllib.parse import quote, urlsplit

from tamarack.core.openapi.example_bodies import body_text, content_type
from tamarack.core.openapi.example_values import Side, example_of, named_examples
from tamarack.core.openapi.parameter_styles import in_path, pairs_of, text_of
from tamarack.core.openapi.plain import dict_of, list_of
from tamarack.core.openapi.plain import text_of as plain_text
from tamarack.core.openapi.read import METHODS
from tamarack.core.openapi.references import path_item, pointer_of, resolve, target
from tamarack.core.openapi.schema_view import SchemaView, view_schema

Document = dict[str, Any]
_OPEN = "-._~!$'()*,:@"
"""Characters that may stand in a query's value as they are."""

MOST_CALLBACKS = 20
MOST_EXAMPLES = 20
_PLACES = ("path", "query", "header", "cookie")


@dataclass(slots=True)
class ParameterView:
    """A parameter: where it goes, its schema and an example of it."""

    name: str
    place: str
    required: bool
    description: str
    schema: SchemaView
    example: str
    deprecated: bool = False
    examples: dict[str, str] = field(default_factory=dict)
    """Those that the document gives by name."""
    style: str = ""
    explode: bool = False
    many: bool = False
    """Whether it is a list, written by `style`; as text its items stand between commas."""
    value: Any = None
    """The example as a value."""

    def pairs(self, typed: str) -> list[tuple[str, str]]:
        """Names and texts of what was typed, as the query carries them."""
        value = [part.strip() for part in typed.split(",")] if self.many else typed
        return pairs_of(self.name, value, self.style, self.explode)

    def example_pairs(self) -> list[tuple[str, str]]:
        return pairs_of(self.name, self.value if self.value is not None else self.name, self.style, self.explode)


@dataclass(slots=True)
class BodyView:
    """A body in one media type, with an example as text ("" where none can be made)."""

    media: str
    schema: SchemaView
    example: str
    examples: dict[str, str] = field(default_factory=dict)
    """All that the document gives by name, as they are sent."""

    @property
    def content_type(self) -> str:
        """What a call with the example says in its field."""
        return content_type(self.media)


@dataclass(slots=True)
class LinkView:
    """Where an answer leads: an operation that can be called with what it holds."""

    name: str
    operation: str
    description: str
    parameters: tuple[tuple[str, str], ...] = ()


@dataclass(slots=True)
class AnswerView:
    """One documented answer."""

    status: str
    description: str
    bodies: list[BodyView]
    headers: list[ParameterView] = field(default_factory=list)
    links: list[LinkView] = field(default_factory=list)


@dataclass(slots=True)
class CallbackView:
    """A call that the backend makes to its caller: its name, where to, and what it carries."""

    name: str
    method: str
    address: str
    summary: str
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
    bodies: list[BodyView] = field(default_factory=list)
    body_required: bool = False
    body_description: str = ""
    answers: list[AnswerView] = field(default_factory=list)
    callbacks: list[CallbackView] = field(default_factory=list)
    more_at: tuple[str, str] = ("", "")
    """Address and words of documentation elsewhere."""

    @property
    def body(self) -> BodyView | None:
        """The body in the first media type, None where there is none."""
        return self.bodies[0] if self.bodies else None

    def example_path(self) -> str:
        """The path with example values, and the query parameters that are required."""
        path = self.path
        query = []
        for parameter in self.parameters:
            if parameter.place == "path":
                value = parameter.example or parameter.name
                path = path.replace("{" + parameter.name + "}", quote(value, safe=";=,." if parameter.style else ""))
            elif parameter.place == "query" and parameter.required:
                query += [f"{quote(name, safe='[]')}={quote(text, safe=_OPEN)}"
                          for name, text in parameter.example_pairs()]  # fmt: skip
        return path + ("?" + "&".join(query) if query else "")

    def example_headers(self) -> dict[str, str]:
        """The header fields that a call needs, with the cookies that it needs."""
        found = {
            one.name.lower(): one.example or one.name
            for one in self.parameters
            if one.place == "header" and one.required and one.name.lower() not in ("content-type", "authorization")
        }
        cookies = [f"{one.name}={quote(one.example or one.name, safe=_OPEN)}"
                   for one in self.parameters if one.place == "cookie" and one.required]  # fmt: skip
        return found | ({"cookie": "; ".join(cookies)} if cookies else {})


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
    for path, item in dict_of(document.get("paths")).items():
        item = path_item(document, item)
        for method in METHODS:
            if isinstance(item.get(method), dict):
                yield path, method, item[method], item.get("parameters")


def outline(document: Document) -> list[OutlineEntry]:
    """Every operation of a document that `read.describe` brought to 3.x, without what is inside."""
    return [
        OutlineEntry(f"{method} {path}", method, path, plain_text(item.get("summary")), next(iter(_tags(item)), ""),
                     item.get("deprecated") is True)
        for path, method, item, _ in _found(document)
    ]  # fmt: skip


def outline_texts(document: Document) -> dict[str, tuple[str, str, str]]:
    """For search: each call's summary, its id, and the words of its description, tags, parameters and answers."""
    found = {}
    for path, method, item, common in _found(document):
        named = [dict_of(resolve(document, one)) for one in [*list_of(common), *list_of(item.get("parameters"))]]
        answers = [dict_of(resolve(document, one)) for one in dict_of(item.get("responses")).values()]
        words = [plain_text(item.get("description")), *_tags(item)]
        words += [f"{plain_text(one.get('name'))}: {plain_text(one.get('description'))}" for one in named]
        words += [plain_text(one.get("description")) for one in answers]
        summary, id = plain_text(item.get("summary")), plain_text(item.get("operationId"))
        found[f"{method} {path}"] = (summary, id, " · ".join(filter(None, words)))
    return found


def tag_descriptions(document: Document) -> dict[str, str]:
    """What the document says of its tags, in its order."""
    named = [dict_of(one) for one in list_of(document.get("tags"))]
    return {plain_text(one.get("name")): plain_text(one.get("description")) for one in named}


def webhooks(document: Document) -> list[CallbackView]:
    """The calls that a backend makes of itself (OpenAPI 3.1, 4.8.1)."""
    found = []
    for name, item in list(dict_of(document.get("webhooks")).items())[:MOST_CALLBACKS]:
        found += _calls(document, name, "", path_item(document, item), f"/webhooks{pointer_of((name,))}")
    return found


def more_at(holder: Document) -> tuple[str, str]:
    """Address and words of documentation elsewhere; ("", "") where there is none that a page may lead to."""
    said = dict_of(holder.get("externalDocs"))
    address = plain_text(said.get("url"))
    try:
        fit = urlsplit(address).scheme in ("http", "https")
    except ValueError:
        fit = False
    return (address, plain_text(said.get("description")) or "More about it") if fit else ("", "")


def view_operation(document: Document, call: str) -> OperationView | None:
    """One operation in full, or None where the document does not describe it."""
    method, _, path = call.partition(" ")
    item = path_item(document, dict_of(document.get("paths")).get(path))
    if method not in METHODS or not isinstance(item.get(method), dict):
        return None
    return _operation(document, path, method, item[method], item.get("parameters"))


def view_at(document: Document, pointer: str) -> SchemaView | None:
    """The schema at a pointer, laid out from there; None where there is none."""
    schema = target(document, "#" + quote(pointer, safe="/~"))
    return view_schema(document, schema, pointer) if isinstance(schema, dict | bool) else None


def _tags(item: Document) -> tuple[str, ...]:
    return tuple(plain_text(tag) for tag in list_of(item.get("tags")))


def _operation(document: Document, path: str, method: str, item: Document, common: Any) -> OperationView:
    at = pointer_of(("paths", path, method))
    parameters: dict[tuple[str, str], ParameterView] = {}
    for holder, where in ((common, pointer_of(("paths", path))), (item.get("parameters"), at)):
        for place, parameter in enumerate(list_of(holder)):
            view = _parameter(
                document, dict_of(resolve(document, parameter)), _way(parameter, f"{where}/parameters/{place}")
            )
            if view.name and view.place in _PLACES:
                parameters[view.place, view.name] = view
    body = dict_of(resolve(document, item.get("requestBody")))
    body_at = _way(item.get("requestBody"), f"{at}/requestBody")
    answers = [
        _answer(document, str(status), answer, at + pointer_of(("responses", str(status))))
        for status, answer in dict_of(item.get("responses")).items()
        if not str(status).startswith("x-")
    ]
    callbacks: list[CallbackView] = []
    for name, callback in list(dict_of(item.get("callbacks")).items())[:MOST_CALLBACKS]:
        way = _way(callback, at + pointer_of(("callbacks", name)))
        for address, inner in dict_of(resolve(document, callback)).items():
            if not address.startswith("x-"):
                callbacks += _calls(document, name, address, path_item(document, inner), way + pointer_of((address,)))
    return OperationView(
        call=f"{method} {path}",
        method=method,
        path=path,
        summary=plain_text(item.get("summary")),
        description=plain_text(item.get("description")),
        tags=_tags(item),
        deprecated=item.get("deprecated") is True,
        parameters=list(parameters.values()),
        bodies=_bodies(document, body, body_at, "request"),
        body_required=body.get("required") is True,
        body_description=plain_text(body.get("description")),
        answers=answers,
        callbacks=callbacks,
        more_at=more_at(item),
    )


def _way(written: Any, at: str) -> str:
    """Where a part stands, as a pointer: where its reference leads, or at its own place."""
    reference = dict_of(written).get("$ref")
    return reference[1:] if isinstance(reference, str) and reference.startswith("#") else at


def _answer(document: Document, status: str, written: Any, at: str) -> AnswerView:
    answer = dict_of(resolve(document, written))
    at = _way(written, at)
    headers = [
        _parameter(document, {**dict_of(resolve(document, header)), "name": name, "in": "header"},
                   _way(header, at + pointer_of(("headers", name))))
        for name, header in dict_of(answer.get("headers")).items()
    ]  # fmt: skip
    links = []
    for name, link in list(dict_of(answer.get("links")).items())[:MOST_EXAMPLES]:
        link = dict_of(resolve(document, link))
        leads = plain_text(link.get("operationId")) or plain_text(link.get("operationRef"))
        given = tuple((plain_text(key), text_of(value)) for key, value in dict_of(link.get("parameters")).items())
        links.append(LinkView(name, leads, plain_text(link.get("description")), given))
    bodies = _bodies(document, answer, at, "answer")
    return AnswerView(status, plain_text(answer.get("description")), bodies, headers, links)


def _calls(document: Document, name: str, address: str, item: Document, at: str) -> list[CallbackView]:
    found = []
    for method in METHODS:
        one = item.get(method)
        if isinstance(one, dict):
            written = one.get("requestBody")
            body = dict_of(resolve(document, written))
            bodies = _bodies(document, body, _way(written, f"{at}/{method}/requestBody"), "answer")
            summary = plain_text(one.get("summary")) or plain_text(one.get("description"))
            found.append(CallbackView(name, method, address, summary, bodies))
    return found


def _parameter(document: Document, parameter: Document, at: str) -> ParameterView:
    schema: Any = parameter.get("schema")
    schema_at = f"{at}/schema"
    content = dict_of(parameter.get("content"))
    if schema is None and content:
        media = next(iter(content))
        schema, schema_at = dict_of(content[media]).get("schema", {}), at + pointer_of(("content", media, "schema"))
    place = plain_text(parameter.get("in"))
    named = named_examples(document, parameter)
    value = next(iter(named.values())) if named else example_of(document, schema, "request")
    style = plain_text(parameter.get("style")) or ("form" if place in ("query", "cookie") else "simple")
    explode = parameter.get("explode", style == "form") is True and not content
    shown = (
        text_of(value)
        if content or place == "query"
        else in_path(plain_text(parameter.get("name")), value, style, explode)
    )
    if isinstance(value, list) and place == "query":
        shown = ",".join(map(text_of, value))
    return ParameterView(
        name=plain_text(parameter.get("name")),
        place=place,
        required=parameter.get("required") is True or place == "path",
        description=plain_text(parameter.get("description")),
        schema=view_schema(document, {} if schema is None else schema, schema_at),
        example=shown if value is not None else "",
        deprecated=parameter.get("deprecated") is True,
        examples={name: text_of(one) for name, one in list(named.items())[:MOST_EXAMPLES] if name},
        style=style,
        explode=explode,
        many=isinstance(value, list) and not content,
        value=text_of(value) if content and value is not None else value,
    )


def _bodies(document: Document, holder: Document, at: str, side: Side) -> list[BodyView]:
    found = []
    for media, content in list(dict_of(holder.get("content")).items())[:MOST_EXAMPLES]:
        content = dict_of(content)
        schema = content.get("schema", {})
        encoding = content.get("encoding")
        named = named_examples(document, content)
        value = next(iter(named.values())) if named else example_of(document, schema, side)
        view = view_schema(document, schema, at + pointer_of(("content", media, "schema")))
        texts = {
            name: body_text(document, media, schema, one, encoding)
            for name, one in list(named.items())[:MOST_EXAMPLES]
            if name
        }
        found.append(BodyView(media, view, body_text(document, media, schema, value, encoding), texts))
    return found
