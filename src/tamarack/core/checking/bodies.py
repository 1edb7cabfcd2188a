"""Bodies held against what is said of them, of requests and answers alike: by their media type, and by a schema."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import orjson

from tamarack.core.checking.described import DescribedBody
from tamarack.core.checking.misfit import Misfit, Side, misfit
from tamarack.core.checking.schemas import Schemas


def body_for(bodies: tuple[DescribedBody, ...], media: str) -> DescribedBody | None:
    """What is said of a body of some media type: by its name, by a range, or by `*/*` (OpenAPI 3.1, 4.8.14)."""
    for wanted in (media, f"{media.partition('/')[0]}/*", "*/*"):
        for one in bodies:
            if one.media == wanted:
                return one
    return None


def media_of(value: bytes) -> str:
    """A media type without its parameters, in lower case, as text."""
    return value.partition(b";")[0].strip().lower().decode("latin-1")


def is_json(media: str) -> bool:
    """Whether bodies of a media type are JSON (RFC 6839, 3.1)."""
    return media.endswith(("/json", "+json"))


def undescribed(side: Side, media: str, bodies: tuple[DescribedBody, ...]) -> Misfit:
    """That a body is of a media type that is not described."""
    described = ", ".join(one.media for one in bodies[:6])
    words = f"of the type {media[:60] or 'that it does not say'} is not described; these are: {described}"
    return misfit(side, "body", "", words, True)


def in_schema(schemas: Schemas, key: str, value: Any, side: Side, place: str, name: str) -> Iterator[Misfit]:
    """What of a value does not fit its schema."""
    if key and not schemas.fits(key, value):
        for one in schemas.problems(key, value):
            if place == "body":
                yield misfit(side, place, one.pointer, one.words)
            else:
                yield misfit(side, place, name, f"{one.pointer} {one.words}".strip())


def in_json(schemas: Schemas, said: DescribedBody, body: bytes, side: Side) -> Iterator[Misfit]:
    """What of a JSON body does not fit what is said of it."""
    try:
        value = orjson.loads(body)
    except ValueError:
        yield misfit(side, "body", "", "is not JSON")
        return
    yield from in_schema(schemas, said.schema_key, value, side, "body", "")
