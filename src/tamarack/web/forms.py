"""Forms made from the core's models: the same fields, words and rules, checked by the model itself."""

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, get_args, get_origin

from pydantic import BaseModel, ValidationError
from pydantic.fields import FieldInfo
from werkzeug.datastructures import MultiDict

from tamarack.core.form_hints import FirstChoice
from tamarack.core.identity.secret_names import SecretReference
from tamarack.core.limits.window import Window
from tamarack.core.policies.guard.body_size import size_in_words
from tamarack.core.types import problems_of

Widget = Literal["text", "number", "check", "choice", "choices", "lines", "area", "secret", "rates"]


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
    rare: bool = False
    """Folded away, as it is seldom touched."""
    only: tuple[str, tuple[str, ...]] | None = None
    """The field, and its values, that it is shown with; it counts as empty with others."""
    fits: Mapping[str, tuple[str, ...]] = field(default_factory=dict)
    """For each of its choices, with which answers to the first choice it is shown."""
    suggests: str = ""
    """Which names that exist are offered for it (`core.form_hints.Suggests`)."""
    in_model: bool = True
    """False of a first choice, which only steers the form."""


@dataclass(slots=True)
class Form:
    """A form as it is shown: its fields, what was typed, and what is wrong with it."""

    fields: tuple[FormField, ...]
    values: dict[str, Any] = field(default_factory=dict)
    errors: dict[str, str] = field(default_factory=dict)
    error: str = ""
    """What is wrong with the whole, not with one field."""

    def shows(self, one: FormField) -> bool:
        """Whether a field is of use with what is filled in."""
        return one.only is None or self.values.get(one.only[0], "") in one.only[1]

    @property
    def unfolded(self) -> bool:
        """Whether the rare fields are shown at once: one of them is wrong."""
        return any(one.rare and one.name in self.errors for one in self.fields)


def fields_of(
    model: type[BaseModel], without: tuple[str, ...] = ("kind", "off"), first: FirstChoice | None = None
) -> tuple[FormField, ...]:
    """The fields of a model's form, after what it asks first."""
    found = []
    if first is not None:
        found.append(FormField(first.name, first.title, "", "choice", first.options, in_model=False))
    for name, info in model.model_fields.items():
        if name in without:
            continue
        widget, choices = _widget(info)
        label = info.title or name.replace("_", " ").capitalize()
        extra = info.json_schema_extra if isinstance(info.json_schema_extra, dict) else {}
        rows = extra.get("rows")
        rows = rows if isinstance(rows, int) else 3
        rare = bool(extra.get("rare")) or (name == "name" and "kind" in model.model_fields)
        found.append(
            FormField(
                name,
                label,
                info.description or "",
                widget,
                choices,
                info.is_required(),
                rows,
                rare,
                _only(extra),
                _fits(extra),
                str(extra.get("suggests", "")),
            )
        )
    if "kind" in model.model_fields:  # a policy: what it does first, what it is called last
        found.sort(key=lambda one: (one.rare, one.name == "name"))
    return tuple(found)


def _only(extra: Mapping[str, Any]) -> tuple[str, tuple[str, ...]] | None:
    said = extra.get("only")
    return (said[0], tuple(said[1])) if said else None


def _fits(extra: Mapping[str, Any]) -> dict[str, tuple[str, ...]]:
    return {choice: tuple(answers.split(",")) for choice, answers in extra.get("fits", {}).items()}


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
        return "rates" if inner is Window else "lines", ()
    if isinstance(info.json_schema_extra, dict) and "rows" in info.json_schema_extra:
        return "area", ()
    if kind is int and not info.metadata:
        return "number", ()
    return "text", ()


def values_of(model: BaseModel, fields: tuple[FormField, ...], first: FirstChoice | None = None) -> dict[str, Any]:
    """What a model's form shows."""
    dumped = model.model_dump(mode="json")
    values = {one.name: _shown(dumped.get(one.name), one) for one in fields if one.in_model}
    return values | ({first.name: first.of(model)} if first is not None else {})


def blank(model: type[BaseModel], fields: tuple[FormField, ...]) -> dict[str, Any]:
    """What a new form shows: the model's defaults."""
    shown = {}
    for one in fields:
        if not one.in_model:
            shown[one.name] = one.choices[0]
            continue
        info = model.model_fields[one.name]
        default = None if info.is_required() else info.get_default(call_default_factory=True)
        shown[one.name] = _shown(default, one)
    return shown


def _shown(value: Any, one: FormField) -> Any:
    if one.widget in ("lines", "rates"):
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
            form.values[one.name] = [choice for choice in typed.getlist(one.name) if choice]
            data[one.name] = [choice for choice in form.values[one.name] if _goes(one, choice, form)]
            continue
        if not one.in_model:
            form.values[one.name] = typed.get(one.name, one.choices[0])
            continue
        if one.name not in typed and not one.required:
            continue  # not part of what was sent: the model's own default holds
        text = "\n".join(typed.getlist(one.name)).strip() if one.widget == "lines" else typed.get(one.name, "").strip()
        form.values[one.name] = text
        if not form.shows(one):
            continue  # typed before another choice was made: kept in the form, of no use now
        if one.widget in ("lines", "rates"):
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


def _goes(one: FormField, choice: str, form: Form) -> bool:
    """Whether a choice goes with the answer to what was asked first."""
    fitting = one.fits.get(choice)
    return fitting is None or any(form.values.get(first.name) in fitting for first in form.fields if not first.in_model)


def _note(form: Form, fields: tuple[FormField, ...], error: ValidationError) -> None:
    names = {one.name for one in fields}
    for problem in problems_of(error):
        name = str(problem.path[0]) if problem.path else ""
        if name in names:
            form.errors.setdefault(name, problem.message)
        else:
            form.error = form.error or problem.message


__all__ = ["Form", "FormField", "blank", "fields_of", "read_form", "values_of"]
