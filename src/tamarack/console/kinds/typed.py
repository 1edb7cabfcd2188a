"""What is typed of a written kind: its fields, its parameters in rows, and an example call to try it on."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, fields
from typing import Any

from flask import request

from tamarack.core.trying.kind_trial import Example
from tamarack.core.types import Problem
from tamarack.core.written.kind import LEVELS, WrittenKind
from tamarack.core.written.steps import SIDES
from tamarack.web.numbers import whole

BLANK_ROWS = 2
MOST_ROWS = 40
_ROW = ("name", "title", "type", "required", "default", "rule", "help")
_TEXTS = ("title", "help", "api", *SIDES)


@dataclass(slots=True)
class TypedKind:
    """A kind as it stands in the form."""

    name: str = ""
    title: str = ""
    help: str = ""
    api: str = ""
    levels: list[str] = field(default_factory=lambda: list(LEVELS))
    parameters: list[dict[str, str]] = field(default_factory=list)
    request: str = ""
    answer: str = ""
    error: str = ""

    @classmethod
    def blank(cls) -> TypedKind:
        """A new one, which may be private to the API that it is written for."""
        return cls(api=request.args.get("api", ""))

    @classmethod
    def of(cls, kind: WrittenKind) -> TypedKind:
        """A kind as it is kept."""
        rows = [one.model_dump(mode="json") | {"required": "yes" if one.required else ""} for one in kind.parameters]
        texts = {name: getattr(kind, name) for name in _TEXTS}
        return cls(name=kind.name, levels=list(kind.levels), parameters=rows, **texts)

    @property
    def rows(self) -> list[dict[str, str]]:
        """Its parameters, and some blank rows."""
        return [*self.parameters, *[dict.fromkeys(_ROW, "") | {"type": "text"} for _ in range(BLANK_ROWS)]]

    def as_data(self, version: int) -> dict[str, Any]:
        """As the core reads it."""
        parameters = [row | {"required": row["required"] == "yes"} for row in self.parameters]
        texts = {name: getattr(self, name) for name in _TEXTS}
        return {"name": self.name, "levels": self.levels, "parameters": parameters, "version": version} | texts

    def errors_of(self, problems: Iterable[Problem]) -> dict[str, str]:
        """What is wrong, by the names of fields: `parameters.2`, `request`; the empty name for the whole."""
        found: dict[str, str] = {}
        for problem in problems:
            path = problem.path
            if path[:1] == ("parameters",) and len(path) > 1:
                named = f"{path[2]} " if len(path) > 2 and path[2] != "name" else ""
                found.setdefault(f"parameters.{path[1]}", f"{named}{problem.message}")
            else:
                found.setdefault(str(path[0]) if path else "", problem.message)
        return found


def typed_kind(name: str) -> TypedKind:
    """The form as it was sent; the name of one that is there stays."""
    form = request.form
    rows = []
    for at in range(MOST_ROWS):
        row = {key: form.get(f"{key}-{at}", "").strip() for key in _ROW}
        if any(value for key, value in row.items() if key != "type") and not form.get(f"gone-{at}"):
            rows.append(row)
    texts = {key: form.get(key, "").replace("\r\n", "\n") for key in _TEXTS}
    levels: list[str] = [level for level in LEVELS if level in form.getlist("levels")]
    return TypedKind(name or form.get("name", "").strip(), levels=levels, parameters=rows, **texts)


def example_typed() -> Example:
    """The example call as it stands in the form; the one that comes first where none was sent."""
    typed: dict[str, Any] = {}
    for one in fields(Example):
        sent = request.form.get(f"example_{one.name}")
        if sent is not None:
            typed[one.name] = (whole(sent) or 0) if one.name == "status" else sent.strip().replace("\r\n", "\n")
    return Example(**typed)


def values_typed(kind: WrittenKind) -> dict[str, Any]:
    """The values of its parameters for the example: lines of `name: value`; those left out have their defaults."""
    lines = [line for line in request.form.get("example_values", "").splitlines() if line.strip()]
    typed = {name.strip(): value.strip() for line in lines for name, _, value in (line.partition(":"),)}
    found: dict[str, Any] = {}
    types = {one.name: one.type for one in kind.parameters}
    for name, value in typed.items():
        if types.get(name) == "yes or no":
            found[name] = value == "yes"
        elif types.get(name) == "list":
            found[name] = [one.strip() for one in value.split(",") if one.strip()]
        else:
            found[name] = value
    return found
