"""The steps of a written kind as text: conditions in CEL, each with the actions below it, read line by line.

    when query.port == ""
      refuse 400: Name a port.
    let longest = pointer /cars/0/length
    when vars.longest > params.most
      set header X-Long: yes

What is indented below a condition is done where it holds, all else for every call. A text goes on in lines that begin
with `|`; a line that begins with `#` is a remark.
"""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Literal, NamedTuple

from tamarack.core.errors import CoreError
from tamarack.core.shaping import field_edits, json_edits
from tamarack.core.shaping.field_edits import FieldEdit
from tamarack.core.shaping.json_edits import JsonEdit, check_pointer
from tamarack.core.values.template import check_template_text
from tamarack.core.written.expressions import VARIABLES, Expression, Language, NotAnExpression, language
from tamarack.core.written.json_path import compile_path

Side = Literal["request", "answer", "error"]
SIDES: tuple[Side, ...] = ("request", "answer", "error")
MOST_STEPS = 60
MOST_ACTIONS = 40
LONGEST = 20_000
"""Characters of a side's steps."""
ROOTS: Mapping[Side, tuple[str, ...]] = {
    "request": ("params", "vars"),
    "answer": ("params", "vars", "answer"),
    "error": ("params", "vars", "error"),
}
"""What texts may take from, besides the call."""
_LET = re.compile(r"let\s+([a-z][a-z0-9_]{0,39})\s*=\s*(?:(pointer|path)\s+(?=[/$])(\S.*)|(.+))", re.DOTALL)
_SET_FIELD = re.compile(r"(set|add)\s+(header|query)\s+([^\s:=]+)\s*=\s*(.+)", re.DOTALL)
_SET_JSON = re.compile(r"set\s+(/\S*)\s*=\s*(.+)", re.DOTALL)
_STATUS = re.compile(r"set\s+status\s+([0-9]{3})")
_REFUSE = re.compile(r"refuse\s+([0-9]{3})\s*:\s*(.+)", re.DOTALL)
_ANSWER = re.compile(
    r"answer\s+([0-9]{3})(?:\s+([!#$&^_.+A-Za-z0-9-]+/[!#$&^_.+A-Za-z0-9-]+))?\s*(?::\s*(.*))?", re.DOTALL
)
_NAME = re.compile(r"let\s+([a-z][a-z0-9_]{0,39})\s*=")
_WITHOUT_BODY = frozenset((204, 205, 304))
_KNOWN_VERBS = "let, set, add, rename, remove, keep, refuse, answer, stop"


class StepProblem(CoreError, ValueError):
    """What is wrong in a line of steps; `line` counts from 1, `column` too (0 for unknown)."""

    def __init__(self, line: int, column: int, words: str) -> None:
        place = f"line {line}, column {column}" if column else f"line {line}"
        super().__init__(f"{place}: {words}")
        self.line = line
        self.column = column


@dataclass(frozen=True, slots=True)
class Let:
    """A variable gets a value: of an expression, or of a place in the body."""

    name: str
    expression: Expression | None = None
    pointer: str = ""
    path: str = ""


@dataclass(frozen=True, slots=True)
class EditField:
    """A field or parameter is changed; with an expression that is its value."""

    edit: FieldEdit
    expression: Expression | None = None


@dataclass(frozen=True, slots=True)
class EditJson:
    """The body is changed at a place; with an expression that is what is put there."""

    edit: JsonEdit | None = None
    pointer: str = ""
    expression: Expression | None = None


@dataclass(frozen=True, slots=True)
class SetStatus:
    """The answer gets another status."""

    status: int


@dataclass(frozen=True, slots=True)
class Refuse:
    """The call is refused with a status and words."""

    status: int
    words: str


@dataclass(frozen=True, slots=True)
class GiveAnswer:
    """The call is answered here."""

    status: int
    media: str
    body: str


@dataclass(frozen=True, slots=True)
class Stop:
    """No more steps of this side are taken."""


Action = Let | EditField | EditJson | SetStatus | Refuse | GiveAnswer | Stop


class Numbered(NamedTuple):
    """An action, and the line that says it."""

    line: int
    action: Action


class Step(NamedTuple):
    """A condition (none for every call) and what is done where it holds."""

    line: int
    when: Expression | None
    actions: tuple[Numbered, ...]


class _Line(NamedTuple):
    number: int
    indent: int
    text: str


def _lines(text: str) -> list[_Line]:
    """The lines that say something, with those that go on put together."""
    found: list[_Line] = []
    for number, raw in enumerate(text.replace("\r\n", "\n").split("\n"), 1):
        plain = raw.strip()
        if plain.startswith("|") and found:
            last = found[-1]
            more = plain[1:].removeprefix(" ")
            found[-1] = last._replace(text=f"{last.text}\n{more}")
        elif plain and not plain.startswith("#"):
            found.append(_Line(number, len(raw) - len(raw.lstrip()), plain))
    return found


def variables_in(texts: Sequence[str]) -> tuple[str, ...]:
    """The variables that steps set, on whichever side."""
    return tuple(
        dict.fromkeys(found[1] for text in texts for line in _lines(text) if (found := _NAME.match(line.text)))
    )


def read_steps(text: str, side: Side, parameters: Mapping[str, str], variables: Sequence[str]) -> tuple[Step, ...]:
    """The steps of a side. `parameters` are the types of the kind's own, by name. Raises `StepProblem`."""
    if len(text) > LONGEST:
        raise StepProblem(1, 0, f"the steps have {len(text):,} characters; at most {LONGEST:,} fit")
    return _Reader(side, parameters, variables).read(_lines(text))


class _Reader:
    def __init__(self, side: Side, parameters: Mapping[str, str], variables: Sequence[str]) -> None:
        self.side = side
        self.secrets = tuple(name for name, kind in parameters.items() if kind == "secret")
        known = dict(VARIABLES[side])
        known |= {f"params.{name}": "text" if kind == "secret" else kind for name, kind in parameters.items()}
        known |= {f"vars.{name}": "any" for name in variables}
        self.language: Language = language(tuple(known.items()))
        self.roots = ROOTS[side]

    def read(self, lines: Sequence[_Line]) -> tuple[Step, ...]:
        steps: list[Step] = []
        condition: tuple[_Line, Expression] | None = None
        done: list[Numbered] = []
        for line in lines:
            word, _, rest = line.text.partition(" ")
            below = condition is not None and line.indent > condition[0].indent
            if word == "when" and below:
                raise StepProblem(line.number, 0, "conditions do not stand within others; put them together with &&")
            if word == "when" or not below:
                steps += self._step(condition, done)
                if word == "when" or condition is not None:
                    condition, done = None, []
            if word == "when":
                condition = line, self._expression(line, rest, len(word) + 1, True)
                continue
            done.append(Numbered(line.number, self._action(line)))
            if condition is None:
                steps.append(Step(line.number, None, (done.pop(),)))
        steps += self._step(condition, done)
        if len(steps) > MOST_STEPS:
            raise StepProblem(lines[-1].number, 0, f"at most {MOST_STEPS} steps fit on one side")
        return tuple(steps)

    def _step(self, condition: tuple[_Line, Expression] | None, done: Sequence[Numbered]) -> list[Step]:
        """What a condition does, where one has ended."""
        if condition is None:
            return []
        line, when = condition
        if not done:
            raise StepProblem(line.number, 0, "nothing is done here; indent what is, below the condition")
        if len(done) > MOST_ACTIONS:
            raise StepProblem(line.number, 0, f"at most {MOST_ACTIONS} actions fit below a condition")
        return [Step(line.number, when, tuple(done))]

    def _expression(self, line: _Line, text: str, before: int, condition: bool = False) -> Expression:
        offset = len(text) - len(text.lstrip())
        try:
            made = self.language.compile(text.strip(), condition)
        except NotAnExpression as error:
            column = line.indent + before + offset + error.column if error.column else 0
            raise StepProblem(line.number, column, error.words) from error
        if not condition:
            self._no_secret(line, made.names)
        return made

    def _no_secret(self, line: _Line, names: frozenset[str]) -> None:
        for secret in self.secrets:
            if f"params.{secret}" in names:
                words = f"the secret ‘{secret}’ stands only in conditions: is_secret(params.{secret}, …)"
                raise StepProblem(line.number, 0, words)

    def _action(self, line: _Line) -> Action:
        try:
            return self._read_action(line)
        except StepProblem:
            raise
        except ValueError as error:
            raise StepProblem(line.number, 0, str(error)) from error

    def _read_action(self, line: _Line) -> Action:
        text = line.text
        if text == "stop":
            return Stop()
        if found := _LET.fullmatch(text):
            return self._let(line, found)
        if found := _STATUS.fullmatch(text):
            if self.side == "request":
                raise ValueError("a request has no status; ‘answer’ and ‘refuse’ say one")
            status = _status(found[1], 200)
            if status in _WITHOUT_BODY:
                raise ValueError(f"an answer {status} has no body, and this one may have; write ‘answer {status}’")
            return SetStatus(status)
        if found := _REFUSE.fullmatch(text):
            if self.side == "error":
                raise ValueError("the call is refused already; write ‘answer’, or set status, fields or the body")
            return Refuse(_status(found[1], 400), self._text(line, found[2].replace("\n", " "), "the words"))
        if found := _ANSWER.fullmatch(text):
            status, body = _status(found[1], 200), self._text(line, found[3] or "", "the body", several=True)
            if status in _WITHOUT_BODY and body:
                raise ValueError(f"an answer {status} has no body; leave out what follows the colon")
            return GiveAnswer(status, found[2] or "application/json", body)
        if found := _SET_FIELD.fullmatch(text):
            return self._field_of_expression(line, found)
        if found := _SET_JSON.fullmatch(text):
            expression = self._expression(line, found[2], found.start(2))
            return EditJson(pointer=check_pointer(found[1]), expression=expression)
        words = text.split(None, 2)
        if len(words) > 1 and words[0] in ("set", "remove", "rename", "keep") and words[1].startswith("/"):
            json_edit = json_edits.parse(text, self.roots)
            self._no_secret_text(line, json_edit.value)
            return EditJson(edit=json_edit)
        if len(words) > 1 and words[0] in ("set", "add", "remove", "rename") and words[1] in ("header", "query"):
            return EditField(self._allowed(line, field_edits.parse(text, self.roots)))
        raise ValueError(f"{text[:60]!r} is no action; they begin with {_KNOWN_VERBS}")

    def _let(self, line: _Line, found: re.Match[str]) -> Let:
        name, place, where, rest = found.groups()
        if place == "pointer":
            return Let(name, pointer=check_pointer(where.strip()))
        if place == "path":
            compile_path(where.strip())
            return Let(name, path=where.strip())
        return Let(name, self._expression(line, rest, found.start(4)))

    def _field_of_expression(self, line: _Line, found: re.Match[str]) -> EditField:
        do, where, name, rest = found.groups()
        edit = self._allowed(line, field_edits.parse(f"{do} {where} {name}:"))
        return EditField(edit, self._expression(line, rest, found.start(4)))

    def _allowed(self, line: _Line, edit: FieldEdit) -> FieldEdit:
        wrong = field_edits.request_problem(edit) if self.side == "request" else field_edits.answer_problem(edit)
        if wrong:
            raise ValueError(wrong)
        self._no_secret_text(line, edit.value)
        return edit

    def _text(self, line: _Line, text: str, what: str, several: bool = False) -> str:
        if any(letter < " " and letter not in ("\t", "\n" if several else "\t") for letter in text):
            raise ValueError(f"{what} hold a control character, or more than one line; write them in one")
        check_template_text(text, self.roots)
        self._no_secret_text(line, text)
        return text

    def _no_secret_text(self, line: _Line, text: str) -> None:
        for secret in self.secrets:
            if re.search(rf"params\s*(?:\.\s*{secret}\b|\[)", text):
                words = f"the secret ‘{secret}’ stands only in conditions: is_secret(params.{secret}, …)"
                raise StepProblem(line.number, 0, words)


def _status(written: str, least: int) -> int:
    number = int(written)
    if not least <= number <= 599:
        raise ValueError(f"{number} cannot be the status here; write one from {least} to 599")
    return number
