"""Editing a description in place: an operation added, taken out, called otherwise, described, with other parameters.

Works on a document that was brought to 3.x, and changes nothing of the one that it is given. What is not edited stays
as its author wrote it. Parameters that a path item holds for all of its operations become each operation's own as soon
as one of them is edited (OpenAPI 3.1, 4.8.9), and parameters by reference are written out.
"""

import re
from copy import deepcopy
from dataclasses import dataclass
from typing import Any, Literal

from tamarack.core.errors import CoreError
from tamarack.core.openapi.plain import dict_of, list_of, text_of
from tamarack.core.openapi.read import METHODS
from tamarack.core.openapi.references import path_item, resolve

Document = dict[str, Any]
Place = Literal["path", "query", "header", "cookie"]
PLACES: tuple[Place, ...] = ("path", "query", "header", "cookie")
KINDS: dict[str, dict[str, str]] = {
    "text": {"type": "string"},
    "whole number": {"type": "integer"},
    "number": {"type": "number"},
    "yes or no": {"type": "boolean"},
    "date": {"type": "string", "format": "date"},
    "time": {"type": "string", "format": "date-time"},
}
"""The kinds of value that a parameter can be given here, each as its schema."""
OTHER = "as described"
"""The kind of a parameter whose schema says more than these; it is left as it is."""
MOST_PARAMETERS = 60
_TEMPLATE = re.compile(r"\{([^{}/]+)\}")
_NAME = re.compile(r"[!#$%&'*+.^_`|~0-9A-Za-z\[\]@-]{1,100}")
_TAKEN_BY_HTTP = ("accept", "content-type", "authorization")


class NotEditable(CoreError, ValueError):
    """What was asked for cannot be described; `field` names the part at fault, like `call` or `parameters.2`."""

    def __init__(self, message: str, field: str) -> None:
        super().__init__(message)
        self.field = field


@dataclass(frozen=True, slots=True)
class ParameterEdit:
    """A parameter as it is to be. `was` is its place and name before, empty for a new one."""

    name: str
    place: str
    kind: str = OTHER
    required: bool = False
    description: str = ""
    was: tuple[str, str] = ("", "")


@dataclass(frozen=True, slots=True)
class OperationEdit:
    """An operation as it is to be; parameters that are not listed go."""

    call: str
    summary: str = ""
    description: str = ""
    deprecated: bool = False
    parameters: tuple[ParameterEdit, ...] = ()

    @property
    def method(self) -> str:
        return self.call.partition(" ")[0]

    @property
    def path(self) -> str:
        return self.call.partition(" ")[2]


def describable(call: str) -> bool:
    """Whether OpenAPI has words for a call: one method, and no path that stands for all below it."""
    method, _, path = call.partition(" ")
    return method in METHODS and not path.endswith("/*")


def editable(document: Document, call: str) -> OperationEdit:
    """An operation as it stands, bare where the document does not know it."""
    method, _, path = call.partition(" ")
    item = _with_own_parameters(document, dict_of(document.get("paths")).get(path))
    operation = dict_of(item.get(method))
    found = []
    for one in list_of(operation.get("parameters")):
        parameter = dict_of(one)
        name, place = text_of(parameter.get("name")), text_of(parameter.get("in"))
        found.append(
            ParameterEdit(
                name,
                place,
                _kind_of(document, parameter),
                parameter.get("required") is True,
                text_of(parameter.get("description")),
                (place, name),
            )
        )
    return OperationEdit(
        call,
        text_of(operation.get("summary")),
        text_of(operation.get("description")),
        operation.get("deprecated") is True,
        tuple(found),
    )


def new_document(title: str, version: str) -> Document:
    """What a version without a description begins with."""
    return {"openapi": "3.1.0", "info": {"title": title, "version": version}, "paths": {}}


def edited(document: Document, was: str, edit: OperationEdit) -> Document:
    """The document with an operation changed, or added where `was` is empty. Raises `NotEditable`."""
    if not describable(edit.call):
        raise NotEditable(f"{edit.call!r} cannot be described: one method, and a path without /* at its end", "call")
    if edit.call != was and describes(document, edit.call):
        raise NotEditable(f"{edit.call!r} is described already; choose another method or path", "call")
    was_method, _, was_path = was.partition(" ")
    item = _with_own_parameters(document, dict_of(document.get("paths")).get(was_path)) if was else {}
    operation = dict_of(item.get(was_method)) or {"responses": {"default": {"description": "The backend's answer"}}}
    operation["parameters"] = _parameters(document, operation, was_path, edit)
    for name, text in (("summary", edit.summary), ("description", edit.description)):
        operation.pop(name, None)
        if text:
            operation[name] = text
    operation.pop("deprecated", None)
    if edit.deprecated:
        operation["deprecated"] = True
    if not operation["parameters"]:
        del operation["parameters"]
    return _put(document, was, edit, item, _in_order(operation))


def without(document: Document, call: str) -> Document:
    """The document without an operation; its path goes with the last of them."""
    method, _, path = call.partition(" ")
    if not describes(document, call):
        return document
    paths = dict(dict_of(document.get("paths")))
    item = _with_own_parameters(document, paths[path])
    del item[method]
    if any(one in item for one in METHODS):
        paths[path] = item
    else:
        del paths[path]
    return _whole(document, paths)


def describes(document: Document, call: str) -> bool:
    """Whether a document holds an operation."""
    method, _, path = call.partition(" ")
    return isinstance(path_item(document, dict_of(document.get("paths")).get(path)).get(method), dict)


def _with_own_parameters(document: Document, written: Any) -> Document:
    """A copy of a path item in which each operation holds all of its parameters itself."""
    item = deepcopy(path_item(document, written))
    common = list_of(item.pop("parameters", None))
    for method in METHODS:
        operation = item.get(method)
        if not isinstance(operation, dict):
            continue
        own = [deepcopy(dict_of(resolve(document, one))) for one in list_of(operation.get("parameters"))]
        named = {_key(one) for one in own}
        shared = [deepcopy(dict_of(resolve(document, one))) for one in common]
        whole = [one for one in shared if _key(one) not in named] + own
        operation.pop("parameters", None)
        if whole:
            operation["parameters"] = whole
    return item


def _key(parameter: Document) -> tuple[str, str]:
    return text_of(parameter.get("in")), text_of(parameter.get("name"))


def _kind_of(document: Document, parameter: Document) -> str:
    schema = parameter.get("schema")
    return next((kind for kind, found in KINDS.items() if schema == found), OTHER)


def _parameters(document: Document, operation: Document, was_path: str, edit: OperationEdit) -> list[Document]:
    """The parameters as they are to be: those of the path are what its template names."""
    if len(edit.parameters) > MOST_PARAMETERS:
        raise NotEditable(f"an operation has at most {MOST_PARAMETERS} parameters here", "parameters")
    written = {_key(one): one for one in map(dict_of, list_of(operation.get("parameters")))}
    names = _TEMPLATE.findall(edit.path)
    before = _TEMPLATE.findall(was_path)
    renamed = dict(zip(before, names, strict=True)) if len(before) == len(names) else {}
    made: dict[tuple[str, str], Document] = {}
    for at, one in enumerate(edit.parameters):
        place, name = one.place, one.name
        if place == "path" and name not in names:
            name = renamed.get(name, name)
            if name not in names:
                if one.was[0] == "path":
                    continue  # its place in the path is gone
                known = ", ".join(names) or "none"
                raise NotEditable(f"the path names no parameter {name!r} (it names: {known})", f"parameters.{at}")
        _check(one, at)
        if (place, name) in made:
            raise NotEditable(
                f"two parameters of the {place} are named {name!r}; give each its own", f"parameters.{at}"
            )
        made[place, name] = _parameter(written.get(one.was, {}), one, name)
    for name in names:
        made.setdefault(("path", name), {"name": name, "in": "path", "required": True, "schema": dict(KINDS["text"])})
    return sorted(made.values(), key=lambda one: one["in"] != "path")


def _check(one: ParameterEdit, at: int) -> None:
    field = f"parameters.{at}"
    if one.place not in PLACES:
        raise NotEditable(f"{one.place[:20]!r} is no place of a parameter; choose {', '.join(PLACES)}", field)
    if not _NAME.fullmatch(one.name):
        raise NotEditable(f"{one.name[:40]!r} cannot be a parameter's name; use letters, digits, hyphens, dots", field)
    if one.place == "header" and one.name.lower() in _TAKEN_BY_HTTP:
        raise NotEditable(f"the header {one.name} is no parameter (OpenAPI 3.1, 4.8.12); leave it out", field)
    if one.kind != OTHER and one.kind not in KINDS:
        raise NotEditable(f"{one.kind[:20]!r} is no kind of value; choose {', '.join(KINDS)}", field)


def _parameter(written: Document, one: ParameterEdit, name: str) -> Document:
    made: Document = {"name": name, "in": one.place}
    if one.required or one.place == "path":
        made["required"] = True
    if one.description:
        made["description"] = one.description
    kept = {key: value for key, value in written.items() if key not in ("name", "in", "required", "description")}
    if one.place != one.was[0]:  # how it is written belongs to its place
        kept = {key: value for key, value in kept.items() if key not in ("style", "explode", "allowReserved")}
    if one.kind != OTHER:
        if kept.get("schema") != KINDS[one.kind]:
            kept = {key: value for key, value in kept.items() if key not in ("content", "example", "examples")}
        kept["schema"] = dict(KINDS[one.kind])
    elif "schema" not in kept and "content" not in kept:
        kept["schema"] = dict(KINDS["text"])
    return made | kept


_FIRST = ("tags", "summary", "description", "operationId", "deprecated", "parameters", "requestBody", "responses")


def _in_order(operation: Document) -> Document:
    """The operation with its fields as people write them: what it is, what it takes, what it answers."""
    rank = {name: place for place, name in enumerate(_FIRST)}
    return dict(sorted(operation.items(), key=lambda pair: rank.get(pair[0], len(rank))))


def _put(document: Document, was: str, edit: OperationEdit, item: Document, operation: Document) -> Document:
    was_method, _, was_path = was.partition(" ")
    paths = dict_of(document.get("paths"))
    if edit.path == was_path:
        item.pop(was_method, None)
        item[edit.method] = operation
        return _whole(document, {path: item if path == was_path else kept for path, kept in paths.items()} | (
            {was_path: item} if was_path not in paths else {}
        ))  # fmt: skip
    there = _with_own_parameters(document, paths.get(edit.path))
    there[edit.method] = operation
    item.pop(was_method, None)
    left = any(method in item for method in METHODS)
    made: Document = {}
    for path, kept in paths.items():
        if path == was_path:
            if left:
                made[path] = item
            if edit.path not in paths:
                made[edit.path] = there
        else:
            made[path] = there if path == edit.path else kept
    made.setdefault(edit.path, there)
    return _whole(document, made)


def _whole(document: Document, paths: Document) -> Document:
    kept = {key: value for key, value in document.items() if key not in ("swagger", "paths")}
    return {"openapi": "3.0.3", **kept, "paths": paths}
