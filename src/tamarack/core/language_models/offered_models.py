"""The models of a backend: under which name callers ask for one, and what targets call it.

Written as lines: `notices = quay-notices-1` for all targets, `notices = quay-fast at http://127.0.0.1:9000` for one of
them, or a name alone, which is called the same everywhere.
"""

import re
from typing import Annotated

from pydantic import Field, PlainSerializer, model_validator

from tamarack.core.types import Frozen, OneLine

_FORM = re.compile(r"(\S+?)(?:\s*=\s*(\S+))?(?:\s+at\s+(\S+))?")
_MODEL = re.compile(r"[!-<>-~]{1,120}")
MOST_MODELS = 200


class OfferedModel(Frozen):
    """One line: the name that callers ask by, what it is called by those who serve it, and where."""

    name: Annotated[str, Field(max_length=120), OneLine]
    model: Annotated[str, Field(max_length=120), OneLine]
    address: str = ""
    """The target that serves it so; empty for all of them."""

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: object) -> object:
        if not isinstance(value, str):
            return value
        found = _FORM.fullmatch(value.strip())
        if found is None or not all(_MODEL.fullmatch(part) for part in (found[1], found[2] or found[1])):
            raise ValueError(
                f"{value[:120]!r} is no model; write its name, like notices, or notices = quay-notices-1, with"
                " at http://127.0.0.1:9000 behind it where only that target serves it"
            )
        return {"name": found[1], "model": found[2] or found[1], "address": (found[3] or "").rstrip("/")}

    def __str__(self) -> str:
        said = self.name if self.model == self.name else f"{self.name} = {self.model}"
        return f"{said} at {self.address}" if self.address else said


ModelLine = Annotated[OfferedModel, PlainSerializer(str, return_type=str)]


def models_at(lines: tuple[OfferedModel, ...], address: str) -> dict[str, str] | None:
    """What a target calls the models that are offered there, by their names; None where any name goes on as it is."""
    if not lines:
        return None
    found = {line.name: line.model for line in lines if not line.address}
    return found | {line.name: line.model for line in lines if line.address == address}
