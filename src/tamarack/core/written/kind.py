"""A written kind: what its author says of it, its parameters, and its steps on request, answer and error."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import Annotated, Literal, NamedTuple, cast

from pydantic import Field, StringConstraints, ValidationInfo, field_validator, model_validator

from tamarack.core.stages import Stage
from tamarack.core.types import Frozen, Line, Name, Readable, Text, Title
from tamarack.core.written.parameters import CEL_TYPES, Parameter
from tamarack.core.written.steps import LONGEST, SIDES, Side, Step, read_steps, variables_in

PREFIX = "written:"
"""How the kind of a policy begins whose kind is a written one."""
MOST_PARAMETERS = 30
MOST_KINDS = 200
Level = Literal["everywhere", "api", "operation"]
LEVELS: tuple[Level, ...] = ("everywhere", "api", "operation")
_STAGES: Mapping[Side, Stage] = {"request": Stage.SHAPE, "answer": Stage.RETURN, "error": Stage.ON_ERROR}
Steps = Annotated[str, StringConstraints(max_length=LONGEST), Readable]


class Program(NamedTuple):
    """The steps of each side, ready."""

    request: tuple[Step, ...]
    answer: tuple[Step, ...]
    error: tuple[Step, ...]

    def side(self, side: Side) -> tuple[Step, ...]:
        """The steps of one side."""
        return {"request": self.request, "answer": self.answer, "error": self.error}[side]


class WrittenKind(Frozen):
    """One kind. `api` names the API that it is private to, empty where all may use it."""

    name: Name
    title: Title
    help: Text = ""
    api: Name | Literal[""] = ""
    levels: Annotated[tuple[Level, ...], Field(min_length=1)] = LEVELS
    version: int = Field(default=1, ge=1)
    """Counts the changes of it that were saved."""
    parameters: Annotated[tuple[Parameter, ...], Field(max_length=MOST_PARAMETERS)] = ()
    request: Steps = ""
    answer: Steps = ""
    error: Steps = ""

    @field_validator("parameters")
    @classmethod
    def _apart(cls, value: tuple[Parameter, ...]) -> tuple[Parameter, ...]:
        names = [one.name for one in value]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"two parameters are named {twice!r}; give each its own name")
        return value

    @field_validator("levels")
    @classmethod
    def _in_order(cls, value: tuple[Level, ...]) -> tuple[Level, ...]:
        return tuple(level for level in LEVELS if level in value)

    @field_validator("request", "answer", "error")
    @classmethod
    def _readable(cls, value: str, info: ValidationInfo) -> str:
        text = "\n".join(line.rstrip() for line in value.replace("\r\n", "\n").strip("\n").split("\n"))
        if "parameters" in info.data:  # else their mistakes are said first
            before = [info.data.get(side, "") for side in SIDES[: SIDES.index(cast(Side, info.field_name))]]
            read_side(text, cast(Side, info.field_name), _types(info.data["parameters"]), tuple(before))
        return text

    @model_validator(mode="after")
    def _whole(self) -> WrittenKind:
        if not any(self.program):
            raise ValueError("it does nothing; write at least one step on request, answer or error")
        return self

    @property
    def kind(self) -> str:
        """What policies of it say that they are."""
        return f"{PREFIX}{self.name}"

    @property
    def program(self) -> Program:
        """Its steps. Raises `StepProblem`."""
        types = _types(self.parameters)
        return Program(
            read_side(self.request, "request", types, ()),
            read_side(self.answer, "answer", types, (self.request,)),
            read_side(self.error, "error", types, (self.request, self.answer)),
        )

    @property
    def stage(self) -> Stage:
        """Where a policy of it stands in the call path: where it has its first steps."""
        return next(_STAGES[side] for side in SIDES if self.program.side(side))

    @property
    def summary(self) -> Line:
        """What it does, in one line."""
        return self.help.partition("\n")[0].strip().rstrip(".") or self.title


_Types = tuple[tuple[str, str], ...]


def _types(parameters: Sequence[Parameter]) -> _Types:
    return tuple((one.name, "secret" if one.type == "secret" else CEL_TYPES[one.type]) for one in parameters)


@lru_cache(maxsize=1024)
def read_side(text: str, side: Side, types: _Types, before: tuple[str, ...]) -> tuple[Step, ...]:
    """The steps of a side, read once; they know the variables that are set `before`. Raises `StepProblem`."""
    return read_steps(text, side, dict(types), variables_in((*before, text)))
