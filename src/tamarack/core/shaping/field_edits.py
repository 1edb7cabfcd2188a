"""Edits of fields, as short lines: `set header X-Ship: {{ path.ship }}`, `rename query q to s`, `remove query debug`.

Whatever is typed, or comes from a call, a value stays one line and a query's value one value, and no edit reaches a
field by which the message is read, a credential, or what the gateway says itself.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from typing import Any, Literal, cast
from urllib.parse import quote_from_bytes

from pydantic import GetCoreSchemaHandler
from pydantic_core import CoreSchema, core_schema

from tamarack.core.carrying.call import Call
from tamarack.core.http.fields import (
    ALWAYS_SECRET,
    NOT_SENT_BACK,
    NOT_SENT_ON,
    OF_THIS_MESSAGE,
    Header,
    one_field,
)
from tamarack.core.http.names import header_name
from tamarack.core.http.query import name_of, without_query
from tamarack.core.text import in_words
from tamarack.core.values.call_values import known_of
from tamarack.core.values.template import Template, check_template_text

Do = Literal["set", "add", "rename", "remove"]
Where = Literal["header", "query"]
_FORM = re.compile(r"(set|add|rename|remove)\s+(header|query)\s+([^\s:]+)(?:\s*:\s*(.*)|\s+to\s+(\S+))?", re.DOTALL)
LONGEST_VALUE = 2_000
MOST_EDITS = 40
_QUERY_NAME = re.compile(r"[A-Za-z0-9._~\[\]-]{1,100}")
_OF_THE_GATEWAY = frozenset((b"date", b"cache-status", b"tamarack-call-id"))
"""Fields of answers that the gateway writes."""
_HELD = OF_THIS_MESSAGE | _OF_THE_GATEWAY
EXAMPLES = "set header X-Ship: {{ path.ship }}, add query lang: en, rename header X-Old to X-New or remove query debug"


@dataclass(frozen=True, slots=True)
class FieldEdit:
    """One line. `value` is a text with values of the call; `to` the new name of a field that is renamed."""

    do: Do
    where: Where
    name: str
    value: str = ""
    to: str = ""

    def __str__(self) -> str:
        more = f": {self.value}" if self.do in ("set", "add") else f" to {self.to}" if self.do == "rename" else ""
        return f"{self.do} {self.where} {self.name}{more}".rstrip()

    @classmethod
    def __get_pydantic_core_schema__(cls, source: Any, handler: GetCoreSchemaHandler) -> CoreSchema:
        return core_schema.no_info_plain_validator_function(
            parse, serialization=core_schema.plain_serializer_function_ser_schema(str)
        )


def parse(value: Any, also: Collection[str] = ()) -> FieldEdit:
    """An edit from its line; its value may take from names besides those of a call. Raises ValueError, in words."""
    if isinstance(value, FieldEdit):
        return value
    text = str(value).strip()
    found = _FORM.fullmatch(text)
    if found is None:
        raise ValueError(f"{text[:80]!r} is not an edit of a field; write it like {EXAMPLES}")
    do, where, name, typed, to = cast(tuple[Do, Where, str, str | None, str | None], found.groups())
    if do in ("set", "add") and typed is None:
        raise ValueError(f"{text[:80]!r} has no value; write {do} {where} {name}: and the value")
    if do == "rename" and not to:
        raise ValueError(f"{text[:80]!r} has no new name; write rename {where} {name} to and the name")
    if (do == "remove" and (typed is not None or to)) or (do == "rename" and typed is not None):
        raise ValueError(f"{text[:80]!r} says more than a {do} needs; leave out what follows the name")
    name, to = _named(where, name), _named(where, to) if to else ""
    value = (typed or "").strip()
    if len(value) > LONGEST_VALUE:
        raise ValueError(f"the value of {name} has {len(value):,} characters; at most {LONGEST_VALUE:,} fit")
    if any(letter < " " and letter != "\t" for letter in value):
        raise ValueError(f"the value of {name} has more than one line, or a control character; write it in one")
    check_template_text(value, also)
    return FieldEdit(do, where, name, value, to)


def _named(where: Where, name: str) -> str:
    if where == "header":
        return header_name(name)
    if not _QUERY_NAME.fullmatch(name):
        raise ValueError(f"{name[:40]!r} is not a name of a parameter; use letters, digits and - . _ ~ [ ]")
    return name


def in_brief(edits: Sequence[FieldEdit]) -> str:
    """The edits for a narrow place: what is done to which field, or how many there are."""
    first = edits[0]
    return f"{first.do} {first.name}"[:30] if len(edits) == 1 else f"{len(edits)} changes of fields"


def in_full(edits: Sequence[FieldEdit]) -> str:
    """The edits within a sentence: the first four as they are typed, and how many follow."""
    said = in_words([f"`{edit}`" for edit in edits[:4]])
    return f"{said} and {len(edits) - 4} more changes" if len(edits) > 4 else said


def request_problem(edit: FieldEdit) -> str:
    """Why an edit cannot be made of requests; empty where it can."""
    for name in (edit.name, edit.to) if edit.where == "header" else ():
        as_bytes = name.encode()
        plain = as_bytes.replace(b"_", b"-")
        if as_bytes in NOT_SENT_ON or plain in NOT_SENT_ON:
            return f"{name} is written or taken off by the gateway itself; leave it out"
        if name in ALWAYS_SECRET and not (edit.do == "remove" and name == edit.name):
            return f"{name} carries a credential; the backend's own are set under Backends, where secrets are kept"
    return ""


def answer_problem(edit: FieldEdit) -> str:
    """Why an edit cannot be made of answers; empty where it can."""
    if edit.where == "query":
        return "an answer has no query; edit its header fields"
    for name in filter(None, (edit.name, edit.to)):
        as_bytes = name.encode()
        if as_bytes in NOT_SENT_BACK or as_bytes in _HELD:
            return f"{name} is written or taken off by the gateway itself; leave it out"
    return ""


Fields = Callable[..., tuple[list[Header], bytes]]
"""Edits made: header fields and query before, the call, and values besides it; header fields and query after."""


def compiled(edits: Sequence[FieldEdit]) -> Fields:
    """The edits as one function, made in their order. It raises `TemplateFailed`.

    A value that comes out empty sets nothing, and takes away what was set before: `set` of a value that a call lacks
    removes the field.
    """
    made = [_made(edit) for edit in edits]
    names = frozenset[str]().union(*(Template(edit.value).names for edit in edits if edit.value))

    def change(
        headers: list[Header], query: bytes, call: Call, also: dict[str, Any] | None = None
    ) -> tuple[list[Header], bytes]:
        known = known_of(call, names) if names else None
        if also is not None:
            known = (known or {}) | also
        for one in made:
            headers, query = one(headers, query, call, known)
        return headers, query

    return change


_One = Callable[[list[Header], bytes, Call, "dict[str, Any] | None"], tuple[list[Header], bytes]]


def _made(edit: FieldEdit) -> _One:
    name, to = edit.name.encode(), edit.to.encode()
    if edit.do == "remove":
        if edit.where == "header":
            return lambda headers, query, call, known: ([one for one in headers if one[0] != name], query)
        return lambda headers, query, call, known: (headers, without_query(query, name) if query else query)
    if edit.do == "rename":
        return _renamed_header(name, to) if edit.where == "header" else _renamed_query(name, to)
    template, replaces = Template(edit.value), edit.do == "set"
    return _put_header(name, template, replaces) if edit.where == "header" else _put_query(name, template, replaces)


Put = Callable[[list[Header], bytes, bytes], tuple[list[Header], bytes]]
"""A value put into a field or parameter: header fields and query before, and the value; both after."""


def putter(edit: FieldEdit) -> Put:
    """What sets, or adds, a value that is there already; an empty one takes away what is set."""
    name, replaces = edit.name.encode(), edit.do == "set"
    if edit.where == "query":
        shown = quote_from_bytes(name, safe="").encode()
        return lambda headers, query, value: (headers, _in_query(query, name, shown, value, replaces))

    def put(headers: list[Header], query: bytes, value: bytes) -> tuple[list[Header], bytes]:
        kept = [one for one in headers if one[0] != name] if replaces else headers
        field = one_field(name, value)
        return ([*kept, field] if field[1] else kept), query

    return put


def _in_query(query: bytes, name: bytes, shown: bytes, value: bytes, replaces: bool) -> bytes:
    written = quote_from_bytes(value, safe="").encode()
    kept = without_query(query, name) if replaces and query else query
    if written:
        kept = b"%b&%b=%b" % (kept, shown, written) if kept else b"%b=%b" % (shown, written)
    return kept


def _renamed_header(name: bytes, to: bytes) -> _One:
    def rename(
        headers: list[Header], query: bytes, call: Call, known: dict[str, Any] | None
    ) -> tuple[list[Header], bytes]:
        if any(one[0] == name for one in headers):
            headers = [one for one in headers if one[0] != to or one[0] == name]
            headers = [(to, one[1]) if one[0] == name else one for one in headers]
        return headers, query

    return rename


def _renamed_query(name: bytes, to: bytes) -> _One:
    def rename(
        headers: list[Header], query: bytes, call: Call, known: dict[str, Any] | None
    ) -> tuple[list[Header], bytes]:
        parts = query.split(b"&") if query else []
        if any(name_of(part) == name for part in parts):
            parts = [part for part in parts if name_of(part) != to or to == name]
            parts = [_with_name(part, to) if name_of(part) == name else part for part in parts]
            query = b"&".join(parts)
        return headers, query

    return rename


def _with_name(part: bytes, to: bytes) -> bytes:
    _, equals, value = part.partition(b"=")
    return to + equals + value


def _put_header(name: bytes, template: Template, replaces: bool) -> _One:
    if template.plain:
        ready = one_field(name, template.plain)
        if replaces:
            return lambda headers, query, call, known: ([*[one for one in headers if one[0] != name], ready], query)
        return lambda headers, query, call, known: ([*headers, ready], query)

    def put(
        headers: list[Header], query: bytes, call: Call, known: dict[str, Any] | None
    ) -> tuple[list[Header], bytes]:
        field = one_field(name, template.made_for(call, known))
        kept = [one for one in headers if one[0] != name] if replaces else headers
        return ([*kept, field] if field[1] else kept), query

    return put


def _put_query(name: bytes, template: Template, replaces: bool) -> _One:
    shown = quote_from_bytes(name, safe="").encode()
    return lambda headers, query, call, known: (
        headers, _in_query(query, name, shown, template.made_for(call, known), replaces)
    )  # fmt: skip
