"""Texts with values of the call put in: `Good morning, {{ caller.application }}`.

The language is minijinja's, without loops that do not end: each text may take a bounded number of steps. It reads what
`core.values.call_values.known_of` holds, and nothing else.
"""

from __future__ import annotations

import re
from collections.abc import Collection
from typing import Any, Literal

import minijinja
import orjson

from tamarack.core.carrying.call import Call
from tamarack.core.errors import CoreError
from tamarack.core.values.call_values import KNOWN, known_of, text_of

STEPS = 50_000
"""Steps of one text; a bomb is stopped within milliseconds."""
LARGEST = 1_000_000
"""Bytes that a text may come to."""
_NAME = "text"
_OF_THE_LANGUAGE = frozenset(("range", "dict", "namespace"))


class TemplateFailed(CoreError, ValueError):
    """A text that could not be made for a call."""


Into = Literal["text", "json", "markup"]
"""What a text is: values put into JSON or markup are written so that they stay values."""


def into(media: str) -> Into:
    """What a text of a media type is."""
    kind = media.partition(";")[0].strip().lower()
    if kind.endswith(("/json", "+json")):
        return "json"
    return "markup" if kind.endswith(("/html", "/xml", "+xml")) else "text"


def _in_json(value: Any) -> Any:
    """A value within JSON: text so that it stays within its quotes, lists and objects as JSON."""
    if isinstance(value, str):
        return orjson.dumps(value).decode()[1:-1]
    return value if value is None or isinstance(value, int | float) else orjson.dumps(value, default=str).decode()


def _environment(text: str, kind: Into = "text") -> minijinja.Environment:
    made = minijinja.Environment(debug=False, undefined_behavior="lenient", fuel=STEPS)
    made.auto_escape_callback = lambda name: kind == "markup"
    if kind == "json":
        made.finalizer = _in_json
    made.add_template(_NAME, text)
    return made


def check_template_text(text: str, also: Collection[str] = ()) -> str:
    """The text, where it can be used; it may take from names besides. Raises ValueError, in words."""
    if not is_template(text):
        return text
    try:
        made = _environment(text)
        names = made.undeclared_variables_in_str(text)
    except minijinja.TemplateError as error:
        where = f"line {error.line}: " if error.line else ""
        raise ValueError(f"{where}{error.detail or error.message or 'it cannot be read'}") from error
    strange = sorted(names - set(KNOWN) - _OF_THE_LANGUAGE - set(also))
    if strange:
        raise ValueError(f"{strange[0]!r} is not known of a call; take from {', '.join(KNOWN)}, like query.port")
    return text


def is_template(text: str) -> bool:
    """Whether a text has places for values."""
    return "{{" in text or "{%" in text or "{#" in text


_SIMPLE = re.compile(
    r"\{\{ *(path|query|header|caller|call)(?:\.([A-Za-z_]\w*)|\[(?:'([^'\\]+)'|\"([^\"\\]+)\")\]) *\}\}"
)
"""A place that takes one text of the call as it is: no language is needed for it."""


def _pieces(text: str) -> list[str | tuple[str, str]] | None:
    """A text as pieces that stand and names to be looked up; None where it says more than that."""
    pieces: list[str | tuple[str, str]] = []
    at = 0
    for found in _SIMPLE.finditer(text):
        pieces += [text[at : found.start()], (found[1], found[2] or found[3] or found[4])]
        at = found.end()
    pieces.append(text[at:])
    return None if any(isinstance(one, str) and is_template(one) for one in pieces) else pieces


class Template:
    """A text ready to be made for calls; one without places for values is ready as it is."""

    __slots__ = ("_environment", "_simple", "names", "plain")

    def __init__(self, text: str, kind: Into = "text") -> None:
        self.plain: bytes | None = None if is_template(text) else text.encode()
        self._environment = None if self.plain is not None else _environment(text, kind)
        self.names: frozenset[str] = frozenset()
        """What it has to be given of a call: some of `call_values.KNOWN`."""
        if self._environment is not None:
            self.names = frozenset(KNOWN) & frozenset(self._environment.undeclared_variables_in_str(text))
        self._simple = _pieces(text) if self._environment is not None and kind == "text" else None
        if self._simple is not None:
            self.names = frozenset()

    def made_for(self, call: Call, known: dict[str, Any] | None = None) -> bytes:
        """The text for a call. Raises `TemplateFailed`."""
        if self.plain is not None:
            return self.plain
        if self._simple is not None:
            return _bounded("".join([one if isinstance(one, str) else text_of(call, *one) for one in self._simple]))
        assert self._environment is not None
        try:
            held = known if known is not None else known_of(call, self.names)
            made = self._environment.render_template(_NAME, **held)
        except minijinja.TemplateError as error:
            raise TemplateFailed(f"the text could not be made: {error.detail or error.message}") from error
        return _bounded(made)


def _bounded(made: str) -> bytes:
    if len(made) > LARGEST:
        raise TemplateFailed(f"the text came to more than {LARGEST} characters")
    return made.encode("utf-8", "replace")
