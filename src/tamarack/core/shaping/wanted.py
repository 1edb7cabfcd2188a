"""What kinds share that change or answer: for which calls they are, and when they need the request's body."""

from collections.abc import Sequence
from typing import Annotated

from pydantic import Field

from tamarack.core.form_hints import hints
from tamarack.core.text import in_words
from tamarack.core.values.call_values import LARGEST_BODY
from tamarack.core.values.conditions import Condition
from tamarack.core.values.template import Template

When = Annotated[
    tuple[Condition, ...],
    Field(
        max_length=12,
        title="Only for calls where",
        description="All of them hold; none for every call. Like `query port equals HBR`, `header x-trial is present`"
        " or `body /cars/0/length is more than 6`.",
        json_schema_extra=hints(rows=2, rare=True),
    ),
]


def where_in_words(when: Sequence[Condition]) -> str:
    """For which calls, as the rest of a sentence; empty for all."""
    return f" of calls where {in_words([f'`{one}`' for one in when])}" if when else ""


def body_wanted(when: Sequence[Condition], *texts: str) -> int:
    """The most bytes of the request's body that conditions and texts need; 0 where they look at none."""
    named = any("body" in Template(text).names for text in texts)
    return LARGEST_BODY if named or any(one.place == "body" for one in when) else 0
