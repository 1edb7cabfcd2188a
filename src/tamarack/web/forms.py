"""Forms made from the core's models: the same fields, words and rules, checked by the model itself."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo
from werkzeug.datastructures import MultiDict

from tamarack.core.identity.secret_names import SecretReference
from tamarack.core.policies.guard.body_size import size_in_words
from tamarack.core.types import problems_of

Widget = Literal["text", "number", "check", "choice", "choices", "lines", "area", "secret"]


@dataclass(frozen=True, slots=True)
class FormField:
    """One field of a form."""

    name: str
    label: str
    help: str
    widget: Widget
    choices: tuple[str, ...] = ()
    required: bool = False
    rows: int = 3


@dataclass(slots=True)
class Form:
    """A form as it is shown: its fields, what was typed, and what is wrong with it."""

    fields: tuple[FormField, ...]
    values: dict[str, Any] = field(default_factory=dict)
    errors: dict[str, str] = field(default_factory=dict)
    error: str = ""
    """What is wrong with the whole, not with one field."""


def fields_of(model: type[BaseModel], without: tuple[str, ...] = ("kind",)) -> tuple[FormField, ...]:
    """The fields of a model's form."""
    found = []
    for name, info in model.model_fields.items():
        if name in without:
            continue
        widget, choices = _widget(info)
        label = info.title or name.replace("_", " ").capitalize()
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        rows = extra.get("rows")
        rows = rows if isinstance(rows, int) else 3
        found.append(FormField(name, label, info.description or "", widget, choices, info.is_required(), rows))
    if "kind" in model.model_fields:  # a policy: what it does first, what it is called last
        found.sort(key=lambda one: one.name == "name")
    return tuple(found)


def _widget(info: FieldInfo) -> tuple[Widget, tuple[str, ...]]:
    kind = info.annotation
    if get_origin(kind) is Literal:
        return "choice", tuple(str(choice) for choice in get_args(kind))
    if kind is bool:
        return "check", ()
    if any(isinstance(mark, SecretReference) for mark in info.metadata):
        return "secret", ()
    if get_origin(kind) is tuple:
        inner = get_args(kind)[0]
        if get_origin(inner) is Literal:
            return "choices", tuple(str(choice) for choice in get_args(inner))
        return "lines", ()
    if isinstance(info.json_schema_extra, dict) and "rows" in info.json_schema_extra:
        return "area", ()
    if kind is int and not info.metadata:
        return "number", ()
    return "text", ()


def values_of(model: BaseModel, fields: tuple[FormField, ...]) -> dict[str, Any]:
    """What a model's form shows."""
    dumped = model.model_dump(mode="json")
    return {one.name: _shown(dumped.get(one.name), one) for one in fields}


def blank(model: type[BaseModel], fields: tuple[FormField, ...]) -> dict[str, Any]:
    """What a new form shows: the model's defaults."""
    shown = {}
    for one in fields:
        info = model.model_fields[one.name]
        default = None if info.is_required() else info.get_default(call_default_factory=True)
        shown[one.name] = _shown(default, one)
    return shown


def _shown(value: Any, one: FormField) -> Any:
    if one.widget == "lines":
        return "\n".join(str(item) for item in value or ())
    if one.widget == "choices":
        return list(value or ())
    if one.widget == "check":
        return bool(value)
    if value is None:
        return ""
    return size_in_words(value) if one.name == "at_most" and isinstance(value, int) else str(value)


def read_form(
    model: type[BaseModel],
    fields: tuple[FormField, ...],
    typed: MultiDict[str, str],
    fixed: Mapping[str, Any] | None = None,
) -> tuple[BaseModel | None, Form]:
    """What was typed as a model, and the form with what is wrong with it; nothing typed is lost.

    `fixed` are fields that the form does not show.
    """
    data: dict[str, Any] = dict(fixed or {})
    form = Form(fields)
    for one in fields:
        if one.widget == "check":
            data[one.name] = form.values[one.name] = one.name in typed
            continue
        if one.widget == "choices":
            chosen = [choice for choice in typed.getlist(one.name) if choice]
            data[one.name] = form.values[one.name] = chosen
            continue
        if one.name not in typed and not one.required:
            continue  # not part of what was sent: the model's own default holds
        text = typed.get(one.name, "").strip()
        form.values[one.name] = text
        if one.widget == "lines":
            data[one.name] = [line.strip() for line in text.splitlines() if line.strip()]
        elif not text and not one.required and model.model_fields[one.name].annotation is int:
            continue  # an empty number is the model's own default
        elif text or not one.required:
            data[one.name] = text
    try:
        return model.model_validate(data), form
    except ValidationError as error:
        _note(form, fields, error)
        return None, form


def _note(form: Form, fields: tuple[FormField, ...], error: ValidationError) -> None:
    names = {one.name for one in fields}
    for problem in problems_of(error):
        name = str(problem.path[0]) if problem.path else ""
        if name in names:
            form.errors.setdefault(name, problem.message)
        else:
            form.error = form.error or problem.message


__all__ = ["Form", "FormField", "blank", "fields_of", "read_form", "values_of"]
