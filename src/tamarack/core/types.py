"""What every configuration model is built from: a frozen base, names, and the errors of checking one."""

from datetime import date, datetime
from typing import Annotated, Any

from pydantic import AfterValidator, BaseModel, BeforeValidator, ConfigDict, StringConstraints, ValidationError
from pydantic_core import ErrorDetails

from tamarack.core.text import line_problem, text_problem

NAME_PATTERN = r"^[a-z][a-z0-9-]{0,62}$"

Name = Annotated[str, StringConstraints(pattern=NAME_PATTERN)]
"""A name used in addresses and files: lower-case letters, digits and hyphens, from a letter on."""


_NO_ENVIRONMENT = ("all", "capacity", "draft", "everywhere", "priority", "secret", "weight")
"""Words that mean something else where environments are named."""


def _environment(value: str) -> str:
    if value in _NO_ENVIRONMENT:
        raise ValueError(f"{value!r} means something else where environments are named; choose another name")
    return value


EnvironmentName = Annotated[str, StringConstraints(pattern=r"^[a-z][a-z0-9-]{0,29}$"), AfterValidator(_environment)]
"""A name of an environment: lower-case letters, digits and hyphens, from a letter on, at most 30."""


def _line(value: str) -> str:
    wrong = line_problem(value)
    if wrong:
        raise ValueError(wrong)
    return value


def _text(value: str) -> str:
    wrong = text_problem(value)
    if wrong:
        raise ValueError(wrong)
    return value


OneLine = AfterValidator(_line)
"""Marks a text that has to be one line; after its other constraints."""

Readable = AfterValidator(_text)
"""Marks a text that holds nothing that no page and no database takes."""

Line = Annotated[str, StringConstraints(strip_whitespace=True, max_length=300), OneLine]
"""One line of at most 300 characters: it may come to stand in a field, a log, a mail or a title."""

Text = Annotated[str, StringConstraints(strip_whitespace=True, max_length=2000), Readable]
"""A line or paragraphs for people, at most 2,000 characters."""

Title = Annotated[str, StringConstraints(strip_whitespace=True, min_length=1, max_length=120), AfterValidator(_line)]
"""What people call a thing, 1 to 120 characters in one line."""


def _day(value: object) -> object:
    if value is None or value == "":
        return None
    if isinstance(value, date) and not isinstance(value, datetime):
        return value
    try:
        return datetime.strptime(str(value).strip(), "%Y-%m-%d").date()
    except ValueError:
        raise ValueError(f"{str(value)[:40]!r} is not a date; write year, month and day, like 2027-02-28") from None


Day = Annotated[date | None, BeforeValidator(_day)]
"""A date, which begins at midnight UTC; None where it is left empty."""


class Frozen(BaseModel):
    """Base of every configuration model: immutable, and refusing fields it does not know."""

    model_config = ConfigDict(frozen=True, extra="forbid")


class Problem(Frozen):
    """One thing wrong with some input.

    `path` leads to it from the root (field names and indexes), `line` is its line in the file it came
    from (counted from 1, 0 where unknown), `message` names the value and the mend.
    """

    path: tuple[str | int, ...] = ()
    message: str
    line: int = 0

    @property
    def field(self) -> str:
        return ".".join(str(part) for part in self.path)


_WORDS = {
    "missing": "is missing; give it a value",
    "extra_forbidden": "is not a field here; remove it or correct its spelling",
    "string_pattern_mismatch": (
        "may hold only lower-case letters, digits and hyphens, starting with a letter (at most 63)"
    ),
    "int_parsing": "is not a whole number",
    "int_type": "is not a whole number",
    "string_type": "is not text",
    "bool_parsing": "is neither yes nor no",
}


def _shown(value: Any) -> str:
    text = repr(value)
    return text if len(text) <= 60 else text[:57] + "…"


def _in_words(error: ErrorDetails) -> str:
    kind = error["type"]
    if kind == "value_error" and "error" in error["ctx"]:
        return str(error["ctx"]["error"])
    if kind == "union_tag_invalid":
        context = error["ctx"]
        return f"{context['tag']!r} is not one of {context['expected_tags']}"
    if kind == "union_tag_not_found":
        return "has no kind; say which kind of policy it is"
    if kind == "missing":
        return _WORDS["missing"]
    if kind == "extra_forbidden":
        return _WORDS[kind]
    words = _WORDS.get(kind) or error["msg"][0].lower() + error["msg"][1:]
    return f"{_shown(error['input'])}: {words}"


def problems_of(error: ValidationError) -> list[Problem]:
    """A validation error as problems in plain words, each with the path to its field."""
    return [
        Problem(path=tuple(part for part in item["loc"] if part != "function-after"), message=_in_words(item))
        for item in error.errors(include_url=False)
    ]
