"""GraphQL limits: how deep, wide and costly a document may be, how many come at once, and if the schema is told."""

from collections.abc import Collection, Mapping, Sequence
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import Field, PlainSerializer, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Check, Part, Screening
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.graphql.calls.asked import GraphAsked
from tamarack.core.graphql.document import DEEPEST, DEFAULT_SIZE, LARGEST
from tamarack.core.graphql.names import FIELD
from tamarack.core.graphql.request import MOST_BATCHED
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Frozen, Name

MOST_WEIGHTS = 200


class FieldWeight(Frozen):
    """One line: `Query.vessels: 5`."""

    field: str
    weight: int

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        name, _, weight = (part.strip() for part in value.partition(":"))
        if not FIELD.fullmatch(name) or name.endswith("*") or not weight.isascii() or not weight.isdigit():
            raise ValueError(f"{value[:120]!r} is no weight; write a field and a number, like 'Query.vessels: 5'")
        if len(weight) > 6:
            raise ValueError(f"{weight[:20]} is more than a field may weigh; up to 999999")
        return {"field": name, "weight": int(weight)}

    def __str__(self) -> str:
        return f"{self.field}: {self.weight}"


class GraphqlLimits(Policy):
    """Bound what documents ask."""

    kind: Literal["graphql-limits"] = "graphql-limits"
    name: Name = Field(default="graphql-limits", title="Name", description=NAME_HELP)
    depth: int = Field(
        default=8,
        ge=1,
        le=DEEPEST,
        title="Depth",
        description="Levels of fields: `{ vessels { name } }` has 2. What it asks of the schema itself does not count.",
    )
    fields: int = Field(
        default=200,
        ge=1,
        le=100_000,
        title="Fields",
        description="All that are asked for, with those of fragments, as often as they are spread.",
    )
    cost: int = Field(
        default=1_000,
        ge=0,
        le=10**9,
        title="Cost",
        description="Each object weighs 1, each other field 0, and what is in a list counts as often as the list is"
        " long. 0 for no bound.",
    )
    list_size: int = Field(
        default=DEFAULT_SIZE,
        ge=1,
        le=10_000,
        title="A list is taken to be as long as",
        description="Where neither an argument (`first`, `last`, `limit`) nor the schema (`@listSize`) says it.",
    )
    weights: tuple[Annotated[FieldWeight, PlainSerializer(str, return_type=str)], ...] = Field(
        default=(),
        max_length=MOST_WEIGHTS,
        title="Weights",
        description="One a line, like `Query.vessels: 5`; they go before those of the schema (`@cost`).",
    )
    aliases: int = Field(
        default=30,
        ge=0,
        le=10_000,
        title="Aliases",
        description="Fields that are asked for under another name.",
        json_schema_extra=hints(rare=True),
    )
    roots: int = Field(
        default=10,
        ge=1,
        le=1_000,
        title="Fields of the root",
        description="Of an operation.",
        json_schema_extra=hints(rare=True),
    )
    longest: int = Field(
        default=10_000,
        ge=100,
        le=LARGEST,
        title="Characters of a document",
        description="Without its variables.",
        json_schema_extra=hints(rare=True),
    )
    batch: int = Field(
        default=1,
        ge=1,
        le=MOST_BATCHED,
        title="Documents in one call",
        description="Their fields, aliases and costs are counted together.",
        json_schema_extra=hints(rare=True),
    )
    introspection: Literal["open", "closed"] = Field(
        default="open",
        title="Asking for the schema",
        description="Open, callers are told of the part that is open to them, by the gateway.",
    )
    told_to: tuple[Name, ...] = Field(
        default=(),
        max_length=20,
        title="Groups that may ask all the same",
        description="Where it is closed: applications that carry one of these groups are told.",
        json_schema_extra=hints(rare=True),
    )

    def tells_schema(self, groups: Collection[str]) -> bool:
        """Whether the schema is told to a caller of some groups."""
        return self.introspection == "open" or not set(groups).isdisjoint(self.told_to)

    @property
    def by_field(self) -> dict[str, int]:
        """The weights by their fields."""
        return {one.field: one.weight for one in self.weights}


class Bound(NamedTuple):
    """One bound, and what a call has of it."""

    what: str
    has: int
    most: int
    mend: str

    @property
    def is_over(self) -> bool:
        """Whether the call is refused for it."""
        return self.has > self.most


def text_bounds(policy: GraphqlLimits, texts: Sequence[str]) -> list[Bound]:
    """The bounds that can be looked at before documents are read."""
    return [
        Bound("number of documents in the call", len(texts), policy.batch, "send them one by one"),
        Bound("length of the document in characters", max(map(len, texts)), policy.longest, "send a shorter one"),
    ]


def bounds(policy: GraphqlLimits, asked: GraphAsked, weights: Mapping[str, int]) -> list[Bound]:
    """Every bound of a policy with what a call has of it, in the order in which they are looked at. Notes the cost."""
    operations = [run.operation for run in asked.runs]
    asked.cost = sum(run.operation.cost(run.variables, policy.list_size, weights) for run in asked.runs)
    found = [
        *text_bounds(policy, [run.request.query for run in asked.runs]),
        Bound("depth", asked.depth, policy.depth, "ask for fewer levels"),
        Bound("number of root fields", max(one.roots for one in operations), policy.roots, "ask for fewer at once"),
        Bound("number of fields", sum(one.fields for one in operations), policy.fields, "ask for fewer"),
        Bound("number of aliases", sum(one.aliases for one in operations), policy.aliases, "ask for fewer at once"),
    ]  # fmt: skip
    if policy.cost:
        found.append(Bound("cost", asked.cost, policy.cost, "ask for fewer levels or shorter lists"))
    return found


def _groups(call: Call) -> Collection[str]:
    return call.caller.groups if call.caller is not None else ()


def _over(policy: GraphqlLimits, found: Sequence[Bound]) -> Refusal | None:
    """The refusal for the first bound that a call is over."""
    for bound in found:
        if bound.is_over:
            told = f"The {bound.what} is {bound.has:,}, and may be {bound.most:,}; {bound.mend}."
            return Refusal(REASONS["over-graphql-limit"], (), policy.name, f"{bound.what} {bound.has}", told)
    return None


def _compile(policy: GraphqlLimits, surroundings: Surroundings) -> list[Part]:
    weights, closed = policy.by_field, policy.introspection == "closed"

    def run(call: Call) -> Refusal | None:
        asked: GraphAsked | None = call.graph
        if asked is None:
            return None
        if closed and any(run.operation.introspects for run in asked.runs) and not policy.tells_schema(_groups(call)):
            return Refusal(REASONS["introspection-closed"], policy=policy.name)
        return _over(policy, bounds(policy, asked, weights))

    def reads(call: Call) -> list[tuple[str, str]]:
        asked: GraphAsked | None = call.graph
        if asked is None:
            return []
        operations = [run.operation for run in asked.runs]
        return [
            ("operation", asked.named),
            ("depth", str(asked.depth)),
            ("fields", str(sum(one.fields for one in operations))),
            ("aliases", str(sum(one.aliases for one in operations))),
        ]

    return [
        Screening(stage=Stage.PERMIT, look=lambda texts: _over(policy, text_bounds(policy, texts))),
        Check(stage=Stage.PERMIT, run=run, reads=reads),
    ]


def _bounds(policy: GraphqlLimits) -> list[str]:
    said = [f"{policy.depth} levels", f"{policy.fields} fields"]
    return said + ([f"the cost {policy.cost}"] if policy.cost else [])


def _sentence(policy: GraphqlLimits) -> str:
    some = f" except to the {'group' if len(policy.told_to) == 1 else 'groups'} {in_words(list(policy.told_to))}"
    schema = "" if policy.introspection == "open" else f" The schema is not told{some if policy.told_to else ''}."
    return f"A document may have {in_words(_bounds(policy))}.{schema}"


KIND = PolicyKind(
    kind="graphql-limits",
    title="GraphQL limits",
    stage=Stage.PERMIT,
    purpose="Bound the depth, the fields and the cost of documents, before the backend hears of them",
    model=GraphqlLimits,
    compile=_compile,
    brief=lambda policy: few([f"depth {policy.depth}", *([f"cost {policy.cost}"] if policy.cost else [])]),
    sentence=_sentence,
    sentence_outside=_sentence,
    reasons=("over-graphql-limit", "introspection-closed"),
    alone=True,
)
