"""Cost of a call: how many calls one call counts as, under every limit that holds for it."""

from collections.abc import Callable, Sequence
from typing import Any, Literal

from pydantic import Field, model_validator

from tamarack.core.carrying.call import Call, Watching
from tamarack.core.carrying.parts import Cost, Part, Watch
from tamarack.core.http.answer_values import documents_of
from tamarack.core.http.fields import Header
from tamarack.core.http.names import header_name
from tamarack.core.json_pointer import at_pointer
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name

MOST_COST = 10_000


class CallCost(Policy):
    """Count each call as several."""

    kind: Literal["cost"] = "cost"
    name: Name = Field(default="cost", title="Name", description=NAME_HELP)
    counts_as: int = Field(
        default=1,
        ge=1,
        le=MOST_COST,
        title="Counts as",
        description="Calls that one call counts as, under every limit, when it comes.",
    )
    by_graphql: bool = Field(
        default=False,
        title="Or as its GraphQL document costs",
        description="As GraphQL limits count it. One that costs more than a limit ever lets through takes all of it.",
    )
    answer_header: str = Field(
        default="",
        max_length=100,
        title="Or as its answer says, in the header",
        description="A whole number in this field of the answer. What it says beyond the above is counted afterwards.",
    )
    answer_value: str = Field(
        default="",
        max_length=200,
        title="Or at the place in its JSON",
        description="A JSON Pointer (RFC 6901) into the answer, or into each event of a stream, like `/usage/units`."
        " Answers and events over 1 MB are not looked into.",
    )

    @model_validator(mode="after")
    def _one_place(self) -> "CallCost":
        if self.answer_header and self.answer_value:
            raise ValueError("the cost comes from a header or from a place in the JSON, not from both; empty one")
        if self.answer_header:
            header_name(self.answer_header)
        if self.answer_value and not self.answer_value.startswith("/"):
            raise ValueError(f"{self.answer_value!r} is not a JSON Pointer; it starts with /, like /usage/units")
        if self.counts_as == 1 and not self.by_graphql and not self.answer_header and not self.answer_value:
            raise ValueError("a call counts as 1 anyway; give a higher number, or where its answer says one")
        return self


def whole_number(value: Any) -> int:
    """A cost as an answer says it: 0 where it is no whole number above 0, at most `MOST_COST`."""
    if isinstance(value, bytes | str):
        text = value.decode("latin-1") if isinstance(value, bytes) else value
        text = text.strip()
        value = int(text) if text.isascii() and text.isdigit() and len(text) <= 9 else 0
    if isinstance(value, bool) or not isinstance(value, int):
        return 0
    return min(MOST_COST, max(0, value))


def _watch(policy: CallCost) -> Watch:
    """What reads a cost off answers: the highest that one tells."""
    header, pointer = header_name(policy.answer_header).encode(), policy.answer_value

    def begin(call: Call, status: int, headers: Sequence[Header]) -> Watching | None:
        def note(document: Any) -> None:
            call.cost = max(call.cost, whole_number(at_pointer(document, pointer)))

        if pointer:
            return documents_of(headers, note)
        call.cost = next((whole_number(value) for field, value in headers if field == header), 0)
        return None

    return Watch(stage=Stage.METER, begin=begin)


def _of_document(least: int) -> Callable[[Call], int]:
    """What a call counts as by its document: what its limits counted, else by the schema's own weights."""

    def of(call: Call) -> int:
        asked = call.graph
        if asked is None:
            return least
        cost: int = asked.cost or sum(run.operation.cost(run.variables) for run in asked.runs)
        asked.cost = cost
        return max(least, min(MOST_COST, cost))

    return of


def _compile(policy: CallCost, surroundings: Surroundings) -> list[Part]:
    of = _of_document(policy.counts_as) if policy.by_graphql else None
    parts: list[Part] = [Cost(stage=Stage.METER, calls=policy.counts_as, of=of)]
    return [*parts, _watch(policy)] if policy.answer_header or policy.answer_value else parts


def _brief(policy: CallCost) -> str:
    said = policy.answer_header or policy.answer_value
    if policy.by_graphql and not said:
        return "as its document costs"
    return f"as its answer's {said} says" if said else f"counts as {policy.counts_as}"


def _sentence(policy: CallCost) -> str:
    first = f"Each call counts as {policy.counts_as} under every limit"
    if policy.by_graphql:
        least = f", and as {policy.counts_as} at least" if policy.counts_as > 1 else ""
        first = f"Each call counts as its GraphQL document costs under every limit{least}"
    if policy.answer_header:
        return f"{first}, and afterwards as what its answer says in `{policy.answer_header}`, where that is more."
    if policy.answer_value:
        return f"{first}, and afterwards as the number at `{policy.answer_value}` of its answer, where that is more."
    return f"{first}."


KIND = PolicyKind(
    kind="cost",
    title="Cost of a call",
    stage=Stage.METER,
    purpose="Count each call as several, by a number or by what its answer says",
    model=CallCost,
    compile=_compile,
    brief=_brief,
    sentence=_sentence,
    alone=True,
)
