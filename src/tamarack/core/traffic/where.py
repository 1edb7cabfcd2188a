"""Conditions on calls: a field and what it has to be, that read and write as text.

`api is sailings`, `status is 429, 503`, `reason is not over-rate`, `operation starts with get /sail`,
`path contains /brae-haven`, `status from 400 to 499`, `took from 1 s`, `application is none` for calls that have none.
A value with a comma stands in double quotes.
"""

import csv
import io
import re
from collections.abc import Mapping
from typing import Annotated, Literal

from pydantic import BeforeValidator, Field, PlainSerializer, StringConstraints, field_validator

from tamarack.core.traffic.fields import CALL_FIELDS, CLASSES, OUTCOMES
from tamarack.core.types import Frozen, Readable

_FORM = re.compile(r"^\s*([a-z-]+)\s+(is not|is|starts with|contains|from)\s+(.*?)\s*$")
_AMOUNT = re.compile(r"^(\d+(?:\.\d+)?)\s*([a-zµA-Z]*)$")
How = Literal["is", "is not", "starts with", "contains", "from"]
MOST_VALUES = 50
NONE = "none"

_UNITS: Mapping[str, Mapping[str, int]] = {
    "time": {"µs": 1, "us": 1, "ms": 1000, "s": 1_000_000, "min": 60_000_000},
    "size": {"": 1, "B": 1, "kB": 1000, "MB": 1_000_000, "GB": 1_000_000_000},
    "number": {"": 1},
}
_WRITTEN = {"time": ("s", "ms", "µs"), "size": ("MB", "kB", "B"), "number": ("",)}
_LIKE = {"time": "200 ms or 1.5 s", "size": "500 kB", "number": "429"}


class Where(Frozen):
    """Which calls: a field and what it has to be. Amounts are kept in microseconds and bytes."""

    field: str
    how: How
    values: tuple[Annotated[str, StringConstraints(max_length=300), Readable], ...] = Field(
        min_length=1, max_length=MOST_VALUES
    )

    @field_validator("field")
    @classmethod
    def _known(cls, field: str) -> str:
        if field not in CALL_FIELDS or field == "time":
            known = ", ".join(name for name in CALL_FIELDS if name != "time")
            raise ValueError(f"{field!r} is not a field of calls; those are {known}")
        return field

    @property
    def rolled(self) -> bool:
        """Whether roll-ups can answer it."""
        return CALL_FIELDS[self.field].rolled

    @property
    def is_number(self) -> bool:
        return CALL_FIELDS[self.field].kind != "text"

    def __str__(self) -> str:
        kind = CALL_FIELDS[self.field].kind
        shown = [_amount(value, kind) if self.is_number else value for value in self.values]
        if self.how == "from":
            return f"{self.field} from {shown[0]}" + (f" to {shown[1]}" if shown[1] else "")
        if self.how in ("starts with", "contains"):
            return f"{self.field} {self.how} {shown[0]}"
        out = io.StringIO()
        csv.writer(out, lineterminator="").writerow([value or NONE for value in shown])
        listed = out.getvalue()
        return f"{self.field} {self.how} {listed if any(',' in one for one in shown) else listed.replace(',', ', ')}"


def _amount(value: str, kind: str) -> str:
    """An amount in the largest unit that says it without a fraction."""
    if not value:
        return ""
    many = int(value)
    units = _UNITS[kind]
    unit = next(unit for unit in _WRITTEN[kind] if many % units[unit] == 0)
    return f"{many // units[unit]} {unit}".strip()


def _read_amount(text: str, field: str, kind: str) -> str:
    found = _AMOUNT.match(text)
    if found is None or found[2] not in _UNITS[kind]:
        raise ValueError(f"{text!r} is not a value for {field}; write it like {_LIKE[kind]}")
    return str(round(float(found[1]) * _UNITS[kind][found[2]]))


def read_where(text: str) -> Where:
    """A condition from its text. Raises ValueError that says how it is written."""
    found = _FORM.match(text)
    if found is None or not found[3]:
        raise ValueError(
            f"{text!r} is not a condition; write it like 'api is sailings', 'status from 400 to 499' or"
            " 'operation starts with get /sailings'"
        )
    field, how, rest = found.groups()
    if field not in CALL_FIELDS:
        return Where(field=field, how="is", values=(rest,))  # says which fields there are
    kind = CALL_FIELDS[field].kind
    is_number = kind in _UNITS
    if how == "from":
        if not is_number:
            raise ValueError(f"{text!r}: a range is for numbers, like 'status from 400 to 499'; say 'starts with' here")
        low, has_end, high = rest.partition(" to ")
        values = [
            _read_amount(low.strip(), field, kind),
            _read_amount(high.strip(), field, kind) if has_end else "",
        ]
        if values[1] and int(values[1]) < int(values[0]):
            raise ValueError(f"{text!r} ends below where it begins; put the smaller value first")
    elif how in ("starts with", "contains"):
        if is_number:
            raise ValueError(f"{text!r}: {field} is a number; say 'is' or 'from … to …'")
        values = [rest]
    else:
        values = [part.strip() for part in next(csv.reader([rest], skipinitialspace=True))]
        values = ["" if part == NONE else part for part in values]
        if is_number:
            values = [_read_amount(part, field, kind) for part in values]
        for known, name in ((OUTCOMES, "outcome"), (CLASSES, "class")):
            wrong = next((part for part in values if field == name and part not in known), None)
            if wrong is not None:
                raise ValueError(f"{text!r}: {wrong!r} is no {CALL_FIELDS[name].title}; those are {', '.join(known)}")
    return Where(field=field, how=how, values=tuple(values))  # type: ignore[arg-type]


def _where(value: object) -> object:
    return read_where(value) if isinstance(value, str) else value


Condition = Annotated[Where, BeforeValidator(_where), PlainSerializer(str, return_type=str)]
"""A condition that models hold, as text where they are written."""


def of_status(text: str) -> Where | None:
    """A condition on the status as it is often typed: 401, or 4xx for a whole class. Raises ValueError."""
    if not text:
        return None
    field = "class" if text[1:] == "xx" else "status"
    return read_where(f"{field} is {text}")


def lines(text: str) -> list[str]:
    """The conditions of a text: one on each line."""
    return [line.strip() for line in text.splitlines() if line.strip()]
