"""Conditions and values in CEL (the Common Expression Language), checked and typed when they are saved.

What people write runs on a call's way and cannot be interrupted there, so what could take long is refused before:
macros that make lists, macros within macros, and macros that look at whole bodies for each item. What is left takes
time that grows with the call alone.
"""

from __future__ import annotations

import re
from collections.abc import Mapping
from datetime import datetime, timedelta
from functools import lru_cache
from hashlib import blake2b
from hmac import compare_digest
from secrets import token_bytes
from typing import Any, NamedTuple

from cel_expr_python import cel

from tamarack.core.errors import CoreError

LONGEST = 1_000
"""Characters of one expression."""
MOST_BODIES = 8
"""How often one expression may name a whole body."""
_TOKEN = re.compile(
    r"(?P<comment>//[^\n]*)|(?P<space>\s+)"
    r"|(?P<string>[rRbB]{0,2}(?:'''(?:[^\\]|\\.)*?'''|\"\"\"(?:[^\\]|\\.)*?\"\"\"|'(?:[^'\\\n]|\\.)*'|\"(?:[^\"\\\n]|\\.)*\"))"
    r"|(?P<number>0[xX][0-9a-fA-F]+[uU]?|[0-9]*\.?[0-9]+(?:[eE][+-]?[0-9]+)?[uU]?)"
    r"|(?P<name>[A-Za-z_][A-Za-z0-9_]*)|(?P<other>.)",
    re.DOTALL,
)
_LOOPS = frozenset(("exists", "all", "exists_one"))
_LISTS = frozenset(("map", "filter"))
_WHOLE = frozenset(("body", "vars", "claims"))
"""What may hold a body, or lists of any length."""
_PLACE = re.compile(r"<input>:(\d+):(\d+): ([^\n]*)")
_KEY = token_bytes(32)


class NotAnExpression(CoreError, ValueError):
    """What was written is no expression that can be used; `column` is where (from 1, 0 for unknown)."""

    def __init__(self, words: str, column: int = 0) -> None:
        super().__init__(words)
        self.words = words
        self.column = column


class ExpressionFailed(CoreError, ValueError):
    """An expression that has no value for a call; the message says why, for staff."""


TYPES: Mapping[str, Any] = {
    "text": cel.Type.STRING,
    "whole number": cel.Type.INT,
    "number": cel.Type.DOUBLE,
    "yes or no": cel.Type.BOOL,
    "list": cel.Type.List(cel.Type.STRING),
    "duration": cel.Type.DURATION,
    "texts": cel.Type.Map(cel.Type.STRING, cel.Type.STRING),
    "any": cel.Type.DYN,
}
"""What a variable may be, and how CEL calls it."""

_OF_A_CALL = {
    "path": "texts",
    "query": "texts",
    "header": "texts",
    "body": "any",
    "claims": "any",
    "caller.application": "text",
    "caller.organization": "text",
    "caller.user": "text",
    "caller.plan": "text",
    "call.id": "text",
    "call.method": "text",
    "call.path": "text",
    "call.time": "text",
}
_OF_AN_ANSWER = {"answer.status": "whole number", "answer.header": "texts", "answer.body": "any"}
_OF_AN_ERROR = {"error.status": "whole number", "error.reason": "text", "error.title": "text", "error.detail": "text"}
VARIABLES: Mapping[str, Mapping[str, str]] = {
    "request": _OF_A_CALL,
    "answer": _OF_A_CALL | _OF_AN_ANSWER,
    "error": _OF_A_CALL | _OF_AN_ERROR,
}
"""What an expression may name, by the side that it stands on, besides `params.` and `vars.`: the names of templates."""


def handle_of(secret: str | bytes) -> str:
    """What stands for a secret in an expression: nothing can be learned from it, whatever is done with it.

    Of several values that are accepted, the handles stand with blanks between.
    """
    data = secret.encode() if isinstance(secret, str) else secret
    return blake2b(data, key=_KEY, digest_size=24).hexdigest()


def _is_secret(handle: str, text: str) -> bool:
    """Whether a text is the secret that a handle stands for, in constant time; never for one that is not set."""
    own = handle_of(text)
    same = False
    for one in handle.split():  # each is compared, whichever fits
        same |= compare_digest(one, own)
    return same


_FUNCTIONS = [
    cel.FunctionDecl(
        "is_secret",
        [cel.Overload("is_secret_texts", cel.Type.BOOL, [cel.Type.STRING, cel.Type.STRING], False, _is_secret)],
    )
]


class _Token(NamedTuple):
    kind: str
    text: str
    at: int


class Expression:
    """An expression, ready. `names` are the variables that it reads."""

    __slots__ = ("_compiled", "kind", "names", "text")

    def __init__(self, text: str, compiled: Any, names: frozenset[str]) -> None:
        self.text = text
        self._compiled = compiled
        self.names = names
        self.kind: str = str(compiled.return_type().name())

    def value(self, values: Any) -> Any:
        """What it comes to, as JSON knows it. Raises `ExpressionFailed`."""
        return _plain(self._run(values).plain_value())

    def holds(self, values: Any) -> bool:
        """Whether it is true. Raises `ExpressionFailed`, also where it is neither true nor false."""
        found = self._run(values)
        if found.type().name() != "BOOL":
            raise ExpressionFailed(f"‘{self.text}’ is neither true nor false for this call")
        return bool(found.value())

    def _run(self, values: Any) -> Any:
        try:
            found = self._compiled.eval(values)
        except (RuntimeError, MemoryError) as error:
            raise ExpressionFailed(f"‘{self.text}’ was cut off: {_short(str(error))}") from error
        if found.type().name() == "ERROR":
            raise ExpressionFailed(f"‘{self.text}’: {_short(str(found.value()))}")
        return found


def _short(words: str) -> str:
    """The library's words for staff: the first line, without its codes."""
    first = words.strip().partition("\n")[0]
    if len(first) > 1 and first[0] == first[-1] and first[0] in "'\"":
        first = first[1:-1]
    first = re.sub(r"^[A-Z_]+: ", "", first)
    first = re.sub(r"\s*\[[A-Z_]+\]$", "", first)
    if missing := re.match(r"Key not found in map : \"?([^\"]*)", first):
        return f"there is no ‘{missing[1][:60]}’; ask has(…) for it first"
    if "non-message type" in first:
        return "a list or a plain value is asked for a name in it"
    return first[:200]


def _plain(value: Any) -> Any:
    if isinstance(value, dict):
        return {str(key): _plain(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_plain(inner) for inner in value]
    if isinstance(value, bytes | bytearray):
        return bytes(value).decode("utf-8", "replace")
    if isinstance(value, datetime):
        return value.isoformat().replace("+00:00", "Z")
    if isinstance(value, timedelta):
        return value.total_seconds()
    return value


class Language:
    """What expressions of one kind and side may name: a name of `VARIABLES`, a parameter or a variable of its own."""

    def __init__(self, variables: Mapping[str, str]) -> None:
        self._known = dict(variables)
        self._env = cel.NewEnv(variables={name: TYPES[kind] for name, kind in variables.items()}, functions=_FUNCTIONS)

    def compile(self, text: str, condition: bool = False) -> Expression:
        """An expression, checked; a `condition` is true or false. Raises `NotAnExpression`, in words."""
        if len(text) > LONGEST:
            raise NotAnExpression(f"has {len(text):,} characters; at most {LONGEST:,} fit")
        tokens = _tokens(text)
        _bounded(tokens)
        try:
            compiled = self._env.compile(text)
        except RuntimeError as error:
            raise _said(str(error), text) from error
        made = Expression(text, compiled, self._names(tokens))
        if condition and made.kind not in ("BOOL", "DYN"):
            raise NotAnExpression(f"is not true or false but {_kind_in_words(made.kind)}; compare it with something")
        return made

    def values(self, values: Mapping[str, Any]) -> Any:
        """Values by name, to be handed to expressions any number of times. Raises `ExpressionFailed`."""
        try:
            return self._env.Activation(values)
        except (RuntimeError, MemoryError) as error:
            raise ExpressionFailed(f"a value of the call cannot be used: {_short(str(error))}") from error

    def _names(self, tokens: list[_Token]) -> frozenset[str]:
        """The known names that tokens spell: alone, or with one dot."""
        found = set()
        for at, token in enumerate(tokens):
            if token.kind != "name" or (at and tokens[at - 1].text == "."):
                continue
            dotted = f"{token.text}.{tokens[at + 2].text}" if _followed(tokens, at, ".") else ""
            found |= {name for name in (token.text, dotted) if name in self._known}
        return frozenset(found)


def _followed(tokens: list[_Token], at: int, text: str) -> bool:
    return at + 2 < len(tokens) and tokens[at + 1].text == text


@lru_cache(maxsize=512)
def language(variables: tuple[tuple[str, str], ...]) -> Language:
    """The language with some variables, made once."""
    return Language(dict(variables))


def _tokens(text: str) -> list[_Token]:
    found = (_Token(str(one.lastgroup), one[0], one.start()) for one in _TOKEN.finditer(text))
    return [token for token in found if token.kind not in ("space", "comment")]


def _bounded(tokens: list[_Token]) -> None:
    """Refuse what could take long. Raises `NotAnExpression`."""
    if sum(token.text in _WHOLE and token.kind == "name" for token in tokens) > MOST_BODIES:
        raise NotAnExpression(f"names bodies, claims and variables more than {MOST_BODIES} times; write it in steps")
    for at, token in enumerate(tokens):
        if token.kind != "name" or not at or tokens[at - 1].text != "." or not _is_call(tokens, at):
            continue
        if token.text in _LISTS:
            words = (
                f"‘{token.text}’ makes lists, for which a call has no time; take values by a JSONPath (let … = path …)"
            )
            raise NotAnExpression(words, token.at + 1)
        if token.text in _LOOPS:
            _bounded_loop(tokens, at)


def _is_call(tokens: list[_Token], at: int) -> bool:
    return at + 1 < len(tokens) and tokens[at + 1].text == "("


def _bounded_loop(tokens: list[_Token], at: int) -> None:
    """Within a loop over items stand no other loop, and nothing that may be as long as the list."""
    depth, place = 0, at + 1
    name = tokens[at].text
    while place < len(tokens):
        token = tokens[place]
        depth += {"(": 1, ")": -1}.get(token.text, 0)
        if depth == 0:
            return
        if token.kind == "name":
            after_dot = tokens[place - 1].text == "."
            if after_dot and token.text in _LOOPS and _is_call(tokens, place):
                raise NotAnExpression(f"‘{token.text}’ stands within ‘{name}’; write it in two steps", token.at + 1)
            whole = not after_dot and (token.text in _WHOLE or _whole_map(tokens, place))
            if whole or (after_dot and token.text in ("body", "header") and tokens[place - 2].text == "answer"):
                words = f"‘{token.text}’ stands within ‘{name}’, where it would be looked through for each item"
                raise NotAnExpression(f"{words}; set a parameter or write it in two steps", token.at + 1)
        place += 1


def _whole_map(tokens: list[_Token], at: int) -> bool:
    """Whether a name stands for all fields of a call, rather than one of them."""
    following = tokens[at + 1].text if at + 1 < len(tokens) else ""
    return tokens[at].text in ("path", "query", "header") and following not in (".", "[")


def _kind_in_words(kind: str) -> str:
    return {"STRING": "text", "INT": "a whole number", "DOUBLE": "a number", "TIMESTAMP": "a time",
            "DURATION": "a duration"}.get(kind, "a list or an object")  # fmt: skip


def _said(words: str, text: str) -> NotAnExpression:
    """The library's complaint with its place, in words of ours where there are some."""
    found = _PLACE.search(words)
    if "recursion" in words:
        return NotAnExpression("is nested too deeply, or too long a chain; write it in steps")
    if found is None:
        return NotAnExpression(_short(words) or "cannot be read")
    line, column, said = int(found[1]), int(found[2]), found[3]
    before = sum(len(one) + 1 for one in text.split("\n")[: line - 1]) if line > 0 else 0
    said = re.sub(r" \(in container ''\)$", "", said)
    if name := re.search(r"undeclared reference to '([^']*)'", said):
        said = f"‘{name[1]}’ is not known here"
    elif kinds := re.search(r"found no matching overload for '([^']*)' applied to '\(([^']*)\)'", said):
        operator = kinds[1].strip("_") or kinds[1]
        hint = "; write whole numbers as 3.0 beside numbers" if {"int", "double"} <= set(kinds[2].split(", ")) else ""
        said = f"‘{operator}’ does not go with {kinds[2].replace(', ', ' and ')}{hint}"
    elif said.startswith("Syntax error"):
        unexpected = re.search(
            r"(?:mismatched|extraneous) input '([^']*)'|no viable alternative at input '([^']*)'", said
        )
        sign = (unexpected[1] or unexpected[2] or "") if unexpected else ""
        ended = not sign or "<EOF>" in sign
        said = (
            "cannot be read: it ends too early, or a quote or bracket is open"
            if ended
            else f"cannot be read at {sign!r}"
        )
    return NotAnExpression(said[:200], before + column if line > 0 else 0)
