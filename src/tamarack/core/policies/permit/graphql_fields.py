"""GraphQL fields: fields and types that are open to some plans, groups or scopes alone."""

import re
from collections.abc import Sequence
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import Field, PlainSerializer, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Answerer, Change, Check, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.graphql.calls.asked import Closed, GraphAsked
from tamarack.core.graphql.calls.whole_answers import LARGEST
from tamarack.core.graphql.closed.withholding import fill, nothing_left, withhold, withholds
from tamarack.core.graphql.names import FIELD
from tamarack.core.identity.claims import scopes_of
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Frozen, Name

MOST_RULES = 200
MOST_TOLD = 10
_FORM = re.compile(r"(\S{1,170})\s*:\s*(?:(nobody)|(plans|groups|scopes)\s+(.+))", re.DOTALL)
_NAMED = {"plans": re.compile(r"(?:[a-z][a-z0-9-]{0,62}/)?[a-z][a-z0-9-]{0,62}"),
          "groups": re.compile(r"[a-z][a-z0-9-]{0,62}"), "scopes": re.compile(r"[!#-\[\]-~]{1,100}")}  # fmt: skip
_TYPENAME = ".__typename"
To = Literal["nobody", "plans", "groups", "scopes"]


class Standing(NamedTuple):
    """Who asks: the plan (`product/plan`; empty for none), the groups, and the scopes of the token."""

    plan: str = ""
    groups: frozenset[str] = frozenset()
    scopes: frozenset[str] = frozenset()


class FieldRule(Frozen):
    """One line: `Berth.*: plans harbour/pier`, `Mutation.*: groups harbour-staff`, `Vessel.oldName: nobody`."""

    field: str
    to: To
    names: tuple[str, ...] = ()

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: Any) -> Any:
        if not isinstance(value, str):
            return value
        found = _FORM.fullmatch(value.strip())
        if found is None or not FIELD.fullmatch(found[1]):
            raise ValueError(
                f"{value[:120]!r} is no rule; write a field or a whole type and to whom it is open, like"
                " 'Berth.*: plans harbour/pier', 'Port.berths: groups harbour-staff', 'Vessel.crew: scopes crew:read'"
                " or 'Vessel.oldName: nobody'"
            )
        if found[2]:
            return {"field": found[1], "to": "nobody"}
        names = tuple(dict.fromkeys(name.strip() for name in found[4].split(",") if name.strip()))
        wrong = next((name for name in names if not _NAMED[found[3]].fullmatch(name)), None)
        if wrong is not None or not names:
            raise ValueError(f"{found[1]}: {(wrong or '')[:80]!r} is no name of {found[3]}")
        return {"field": found[1], "to": found[3], "names": names}

    def __str__(self) -> str:
        return f"{self.field}: {self.to}{' ' if self.names else ''}{', '.join(self.names)}"

    def is_open_to(self, who: Standing) -> bool:
        """Whether someone may ask for it."""
        if self.to == "plans":
            return bool(who.plan) and (who.plan in self.names or who.plan.partition("/")[2] in self.names)
        held = who.groups if self.to == "groups" else who.scopes if self.to == "scopes" else frozenset()
        return not held.isdisjoint(self.names)

    @property
    def said(self) -> str:
        """To whom it is open, in words."""
        return "to nobody" if self.to == "nobody" else f"to the {self.to} {in_words(list(self.names))}"


class GraphqlFields(Policy):
    """Close fields."""

    kind: Literal["graphql-fields"] = "graphql-fields"
    name: Name = Field(default="graphql-fields", title="Name", description=NAME_HELP)
    rules: tuple[Annotated[FieldRule, PlainSerializer(str, return_type=str)], ...] = Field(
        min_length=1,
        max_length=MOST_RULES,
        title="Who may ask for what",
        description="One a line: `Berth.*: plans harbour/pier`, `Port.berths: groups harbour-staff`, `Vessel.crew:"
        " scopes crew:read`, `Vessel.oldName: nobody`. What no line names is open; of several lines for a field one is"
        " enough.",
    )
    closed: Literal["refuses the call", "comes back null"] = Field(
        default="refuses the call",
        title="What is closed",
        description="Null, with an error that names it, while the rest is answered; the backend is not asked for it. A"
        " subscription is refused all the same. Where the schema allows no null, the value around it becomes null.",
    )

    @property
    def refuses(self) -> bool:
        """Whether a call that asks for what is closed is refused."""
        return self.closed == "refuses the call"


def closed_to(rules: Sequence[FieldRule], who: Standing) -> Closed:
    """What some rules close to someone."""
    open_ = {rule.field for rule in rules if rule.is_open_to(who)}
    shut = {rule.field for rule in rules} - open_

    def closed(name: str) -> bool:
        return name in shut or f"{name.partition('.')[0]}.*" in shut

    return closed


def either(one: Closed, other: Closed) -> Closed:
    """What one of two closes."""
    return lambda name: one(name) or other(name)


def closed_of(asked: GraphAsked, closed: Closed) -> list[str]:
    """What a call asks for that is closed, as `Type.field`; a type of which nothing else is named by its name alone."""
    wrong = [name for name in asked.used() if closed(name)]
    named = [name for name in wrong if not name.endswith(_TYPENAME)]
    types = {name.partition(".")[0] for name in named}
    return named + [
        kind for name in wrong if name.endswith(_TYPENAME) and (kind := name[: -len(_TYPENAME)]) not in types
    ]


def _compile(policy: GraphqlFields, surroundings: Surroundings) -> list[Part]:
    unknown = Refusal(
        REASONS["closed-field"],
        (),
        policy.name,
        "the schema is not known",
        "Some fields are closed here, and the schema is not known, so none can be told from the others.",
    )

    def run(call: Call) -> Refusal | None:
        asked: GraphAsked | None = call.graph
        if asked is None:
            return None
        if not asked.typed:
            return unknown
        caller, grant = call.caller, call.grant
        closed = closed_to(
            policy.rules,
            Standing(
                grant.plan if grant is not None else "",
                caller.groups if caller is not None else frozenset(),
                frozenset(scopes_of(call.claims)) if call.claims is not None else frozenset(),
            ),
        )
        asked.closed = closed if asked.closed is None else either(asked.closed, closed)
        plan = grant.plan.partition("/")[2] if grant is not None else ""
        whom = f"the plan {plan}" if plan else "this caller"
        if not policy.refuses and all(one.operation.kind != "subscription" for one in asked.runs):
            found = withhold(call, asked, closed, policy.name, whom)
            if found:
                call.note = f"not told: {', '.join(found[:MOST_TOLD])}"
            return None
        wrong = closed_of(asked, closed)
        if not wrong:
            return None
        of = [
            f"`{field}` of `{kind}`" if field else f"`{kind}`" for kind, _, field in (w.partition(".") for w in wrong)
        ]
        named = in_words(of[:MOST_TOLD]) if len(of) <= MOST_TOLD else f"{', '.join(of[:MOST_TOLD])} and more"
        are, them = ("is", "it") if len(of) == 1 else ("are", "them")
        told = f"{named} {are} not open to {whom}; leave {them} out."
        return Refusal(REASONS["closed-field"], (), policy.name, ", ".join(wrong[:MOST_TOLD]), told)

    parts: list[Part] = [
        Check(stage=Stage.PERMIT, run=run, reads=lambda call: [("fields", ", ".join(list(call.graph.used())[:20]))]
              if call.graph is not None else [])
    ]  # fmt: skip
    if not policy.refuses:
        parts += [
            Answerer(stage=Stage.ANSWER, answer=nothing_left),
            Change(stage=Stage.RETURN, answer=fill, answer_body=LARGEST, first=True, wanted=withholds),
        ]
    return parts


def _sentence(policy: GraphqlFields) -> str:
    told = [f"`{rule.field}` is open {rule.said}" for rule in policy.rules[:6]]
    more = f", and {len(policy.rules) - 6} more rules hold" if len(policy.rules) > 6 else ""
    null = "" if policy.refuses else " What is closed comes back null, with an error that names it."
    return f"{in_words(told)}{more}.{null}"


KIND = PolicyKind(
    kind="graphql-fields",
    title="GraphQL fields",
    stage=Stage.PERMIT,
    purpose="Close fields and types to all but some plans, groups or scopes",
    model=GraphqlFields,
    compile=_compile,
    brief=lambda policy: few([rule.field for rule in policy.rules]) + ("" if policy.refuses else ", null"),
    sentence=_sentence,
    sentence_outside=lambda policy: (
        "Some fields are open to some plans alone; the schema that you are told shows yours."
        + ("" if policy.refuses else " Those that are closed to you come back null, with an error that names them.")
    ),
    reasons=("closed-field",),
)
