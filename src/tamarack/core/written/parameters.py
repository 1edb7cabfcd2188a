"""The parameters of a written kind: what whoever places it fills in, each with its type, rule and help."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from datetime import timedelta
from typing import Annotated, Any, Literal, get_args

from pydantic import BeforeValidator, Field, StringConstraints, model_validator
from pydantic.fields import FieldInfo

from tamarack.core.form_hints import hints
from tamarack.core.identity.secret_names import SecretName
from tamarack.core.linear_patterns import matcher
from tamarack.core.text import in_words, line_problem
from tamarack.core.types import Frozen, Line

Type = Literal["text", "whole number", "number", "yes or no", "choice", "list", "secret", "duration", "JSON"]
TYPES: tuple[Type, ...] = get_args(Type)
RULES: dict[Type, str] = {
    "text": "a pattern that the whole text matches, like [A-Z]{3}",
    "whole number": "the least and the most, like 1..50",
    "number": "the least and the most, like 0.5..20",
    "yes or no": "",
    "choice": "the choices, with commas between",
    "list": "a pattern that each line matches",
    "secret": "",
    "duration": "the least and the most, like 1 s..5 min",
    "JSON": "",
}
"""What the rule of each type says."""
CEL_TYPES: dict[Type, str] = {
    "text": "text",
    "whole number": "whole number",
    "number": "number",
    "yes or no": "yes or no",
    "choice": "text",
    "list": "list",
    "secret": "text",
    "duration": "duration",
    "JSON": "any",
}
RESERVED = frozenset(("kind", "name", "off"))
LONGEST_TEXT = 2_000
LONGEST_JSON = 20_000
MOST_LINES = 100
_NAME = r"^[a-z][a-z0-9_]{0,39}$"
_UNITS = {"ms": 0.001, "s": 1.0, "min": 60.0, "h": 3_600.0, "d": 86_400.0}
_DURATION = re.compile(r"([0-9]{1,9}(?:\.[0-9]{1,6})?)\s*(ms|s|min|h|d)")


def seconds_of(text: str) -> float:
    """A duration in seconds. Raises ValueError, in words."""
    found = _DURATION.fullmatch(text.strip())
    if found is None:
        raise ValueError(f"{text[:40]!r} is not a duration; write it like 250 ms, 30 s, 5 min, 2 h or 1 d")
    return float(found[1]) * _UNITS[found[2]]


class Parameter(Frozen):
    """One parameter. `rule` is a pattern, a range or choices, as the type has it; `default` is written as in a form."""

    name: Annotated[str, StringConstraints(pattern=_NAME)]
    title: Line = ""
    type: Type = "text"
    required: bool = False
    default: Annotated[str, StringConstraints(max_length=LONGEST_JSON)] = ""
    rule: Annotated[str, StringConstraints(strip_whitespace=True, max_length=1_000)] = ""
    help: Line = ""

    @model_validator(mode="after")
    def _whole(self) -> Parameter:
        if self.name in RESERVED:
            raise ValueError(f"{self.name!r} is a field of every policy; give the parameter another name")
        if self.rule and not RULES[self.type]:
            raise ValueError(f"{self.name}: a parameter of the type {self.type!r} has no rule; leave it empty")
        check = checker(self)
        if self.type == "secret" and self.default:
            raise ValueError(f"{self.name}: a secret is chosen where the kind is placed; leave its default empty")
        if self.default:
            try:
                check(self.default)
            except ValueError as error:
                raise ValueError(f"the default of {self.name}: {error}") from error
        elif self.type in ("whole number", "number", "choice", "duration", "JSON") and not self.required:
            raise ValueError(f"{self.name} is neither required nor has a default; give it one of them")
        return self

    @property
    def label(self) -> str:
        """What it is called in a form."""
        return self.title or self.name.replace("_", " ").capitalize()


def choices_of(parameter: Parameter) -> tuple[str, ...]:
    """The choices of a parameter of the type choice."""
    return tuple(dict.fromkeys(one.strip() for one in parameter.rule.split(",") if one.strip()))


Check = Callable[[Any], Any]


def checker(parameter: Parameter) -> Check:
    """What reads a value as it was typed: it returns the value to be kept. Raises ValueError, in words.

    Making it checks the rule itself.
    """
    match parameter.type:
        case "text":
            return _text(parameter)
        case "list":
            line = _text(parameter)
            return lambda value: _lines(value, line)
        case "whole number" | "number":
            return _number(parameter)
        case "choice":
            return _choice(parameter)
        case "duration":
            return _duration(parameter)
        case "JSON":
            return _json
        case "yes or no":
            return _yes
        case "secret":
            return lambda value: value


def _text(parameter: Parameter) -> Check:
    rule = parameter.rule
    fits = matcher(f"^(?:{rule})$") if rule else None

    def check(value: Any) -> str:
        text = str(value).strip() if isinstance(value, str | int | float) else ""
        if not isinstance(value, str | int | float) or isinstance(value, bool):
            raise ValueError(f"{str(value)[:40]!r} is not text")
        if len(text) > LONGEST_TEXT:
            raise ValueError(f"has {len(text):,} characters; at most {LONGEST_TEXT:,} fit")
        if wrong := line_problem(text):
            raise ValueError(wrong)
        if not text and parameter.required and parameter.type == "text":
            raise ValueError("is required; fill it in")
        if text and fits is not None and not fits(text):
            raise ValueError(f"{text[:60]!r} does not match {rule}")
        return text

    return check


def _lines(value: Any, line: Check) -> tuple[str, ...]:
    lines = value.splitlines() if isinstance(value, str) else value
    if not isinstance(lines, list | tuple):
        raise ValueError("is not a list; write one a line")
    found = tuple(line(one) for one in lines if str(one).strip())
    if len(found) > MOST_LINES:
        raise ValueError(f"has {len(found)} lines; at most {MOST_LINES} fit")
    return found


def _range(parameter: Parameter, read: Callable[[str], float]) -> tuple[float, float]:
    rule = parameter.rule
    if not rule:
        return float("-inf"), float("inf")
    least, dots, most = rule.partition("..")
    if not dots:
        raise ValueError(f"the rule of {parameter.name}: {rule!r} is not a range; write {RULES[parameter.type]}")
    try:
        found = (read(least.strip()) if least.strip() else float("-inf"), read(most.strip()) if most.strip() else
                 float("inf"))  # fmt: skip
    except ValueError as error:
        raise ValueError(f"the rule of {parameter.name}: {error}; write {RULES[parameter.type]}") from error
    if found[0] > found[1]:
        raise ValueError(f"the rule of {parameter.name}: {rule!r} ends before it begins; turn it round")
    return found


def _number(parameter: Parameter) -> Check:
    whole = parameter.type == "whole number"

    def read(text: str) -> float:
        try:
            found = int(text) if whole else float(text)
        except ValueError:
            raise ValueError(f"{text[:40]!r} is not a {parameter.type}") from None
        if not -(2**53) <= found <= 2**53:
            raise ValueError(f"{text[:40]!r} is too large a number")
        return found

    least, most = _range(parameter, read)

    def check(value: Any) -> float:
        if value == "" and parameter.default:
            value = parameter.default
        if isinstance(value, bool) or not isinstance(value, str | int | float):
            raise ValueError(f"{str(value)[:40]!r} is not a {parameter.type}")
        found = read(str(value).strip())
        if not least <= found <= most:
            raise ValueError(f"{str(value)[:40]} is not within {parameter.rule}")
        return found

    return check


def _choice(parameter: Parameter) -> Check:
    choices = choices_of(parameter)
    if len(choices) < 2:
        raise ValueError(f"the rule of {parameter.name}: write at least two choices, with commas between")

    def check(value: Any) -> str:
        if str(value) not in choices:
            raise ValueError(f"{str(value)[:40]!r} is not one of {in_words(choices)}")
        return str(value)

    return check


def _duration(parameter: Parameter) -> Check:
    least, most = _range(parameter, seconds_of)

    def check(value: Any) -> str:
        text = str(value).strip() or parameter.default
        if not least <= seconds_of(text) <= most:
            raise ValueError(f"{text} is not within {parameter.rule}")
        return text

    return check


def _yes(value: Any) -> bool:
    if value not in ("yes", "no", True, False):
        raise ValueError(f"{str(value)[:40]!r} is neither yes nor no")
    return value in ("yes", True)


def _json(value: Any) -> str:
    text = value.strip() if isinstance(value, str) else json.dumps(value)
    if len(text) > LONGEST_JSON:
        raise ValueError(f"has {len(text):,} characters; at most {LONGEST_JSON:,} fit")
    try:
        json.loads(text)
    except (ValueError, RecursionError):
        raise ValueError(f'{text[:40]!r} is not JSON; texts stand in "double quotes"') from None
    return text


def as_field(parameter: Parameter) -> tuple[Any, FieldInfo]:
    """The parameter as a field of the model of those who place the kind: annotation, and field."""
    check = BeforeValidator(checker(parameter))
    default: Any = ... if parameter.required and not parameter.default else _default(parameter)
    help = parameter.help or (f"{RULES[parameter.type].partition(',')[0]}: {parameter.rule}" if parameter.rule else "")
    extra: dict[str, Any] = {}
    annotation: Any = Annotated[str, check]
    match parameter.type:
        case "whole number":
            annotation = Annotated[int, check]
        case "number":
            annotation = Annotated[float, check]
        case "yes or no":
            annotation = bool
        case "choice":
            annotation = Literal[choices_of(parameter)]
        case "list":
            annotation = Annotated[tuple[str, ...], check]
        case "secret":
            annotation = SecretName
        case "JSON":
            extra = hints(rows=4)
    return annotation, Field(default=default, title=parameter.label, description=help, json_schema_extra=extra)


def _default(parameter: Parameter) -> Any:
    if parameter.type == "yes or no":
        return parameter.default == "yes"
    if not parameter.default:
        return () if parameter.type == "list" else ""
    return checker(parameter)(parameter.default)


def as_value(parameter: Parameter, kept: Any) -> Any:
    """A value that was kept, as expressions and texts know it."""
    match parameter.type:
        case "duration":
            return timedelta(seconds=seconds_of(kept))
        case "JSON":
            return json.loads(kept)
        case "list":
            return list(kept)
        case "number":
            return float(kept)
        case _:
            return kept
