"""What a description says of an operation's messages, as a snapshot holds it: nodes need no document.

Schemas stand once for a version, in two sets (what is required differs by direction: OpenAPI 3.1, 4.8.24), and are
named by their keys in them.
"""

from __future__ import annotations

from typing import Any, Literal

from tamarack.core.types import Frozen

Place = Literal["path", "query", "header", "cookie"]
Kind = Literal["text", "integer", "number", "boolean", "null", "array", "object", "any"]


class DescribedParameter(Frozen):
    """One parameter: how it is written, and of which kinds its values are."""

    name: str
    place: Place
    required: bool = False
    style: str = "form"
    explode: bool = True
    as_json: bool = False
    """Its value is a JSON document (`content` in place of `schema`)."""
    kinds: tuple[Kind, ...] = ("any",)
    items: tuple[Kind, ...] = ("any",)
    """The kinds of a list's items."""
    inner: tuple[tuple[str, tuple[Kind, ...]], ...] = ()
    """The kinds of an object's values by name."""
    schema_key: str = ""
    """Empty where it may be anything."""


class DescribedBody(Frozen):
    """A body of one media type."""

    media: str
    """In lower case, without parameters; may be a range like `image/*` or `*/*`."""
    schema_key: str = ""
    """Empty where nothing can be checked."""


class DescribedAnswer(Frozen):
    """An answer of one status."""

    status: str
    """A number, a class like `2XX`, or `default`."""
    bodies: tuple[DescribedBody, ...] = ()
    fields: tuple[DescribedParameter, ...] = ()


class DescribedMessages(Frozen):
    """What an operation takes and gives."""

    parameters: tuple[DescribedParameter, ...] = ()
    bodies: tuple[DescribedBody, ...] = ()
    body_required: bool = False
    answers: tuple[DescribedAnswer, ...] = ()


class SchemaSets(Frozen):
    """The schemas of a version: by key, with what they refer to under `$defs`."""

    requests: dict[str, Any] = {}
    answers: dict[str, Any] = {}
    unusable: tuple[str, ...] = ()
    """What of the description cannot be checked, in words, for whoever places a check."""
