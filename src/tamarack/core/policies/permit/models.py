"""Models: which models of a language model's API callers may ask for, and under which plans."""

import json
import re
from typing import Annotated, Literal

from pydantic import Field, PlainSerializer, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Answerer, Check, Part, Reply
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings, few
from tamarack.core.policies.meter.token_count import reading
from tamarack.core.stages import Stage
from tamarack.core.text import in_words
from tamarack.core.types import Frozen, Name, OneLine

_FORM = re.compile(r"(\S+?)\s*(?::\s*(.+))?")
_PLAN = re.compile(r"[a-z][a-z0-9-]{0,62}(?:/[a-z][a-z0-9-]{0,62})?")
MOST_MODELS = 100
_LISTED_AT = 1_700_000_000
"""When models are said to have been made, in a list that has a place for it: nobody knows."""


class OpenModel(Frozen):
    """One line: a model's name, and the plans that it is open to; without any, all."""

    model: Annotated[str, Field(min_length=1, max_length=120), OneLine]
    plans: tuple[str, ...] = ()
    """Names of plans, or `product/plan`."""

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, value: object) -> object:
        if not isinstance(value, str):
            return value
        found = _FORM.fullmatch(value.strip())
        if found is None:
            raise ValueError(f"{value[:120]!r} is no model; write its name, with : and plans where it is not for all")
        plans = tuple(plan.strip() for plan in (found[2] or "").split(",") if plan.strip())
        wrong = next((plan for plan in plans if not _PLAN.fullmatch(plan)), None)
        if wrong is not None:
            raise ValueError(
                f"{wrong[:80]!r} is no plan; write its name, like cutter, or product and name: notices/cutter"
            )
        return {"model": found[1], "plans": plans}

    def __str__(self) -> str:
        return f"{self.model}: {', '.join(self.plans)}" if self.plans else self.model

    def is_open_to(self, plan: str) -> bool:
        """Whether callers of a plan (`product/plan`; empty for none) may ask for it."""
        return not self.plans or (bool(plan) and (plan in self.plans or plan.partition("/")[2] in self.plans))


ModelOfAPlan = Annotated[OpenModel, PlainSerializer(str, return_type=str)]


class Models(Policy):
    """Offer some models."""

    kind: Literal["models"] = "models"
    name: Name = Field(default="models", title="Name", description=NAME_HELP)
    offered: tuple[ModelOfAPlan, ...] = Field(
        min_length=1,
        max_length=MOST_MODELS,
        title="Models",
        description="One a line, by the name that callers ask for; behind it the plans that it is for, like"
        " `quay-notices-1-long: cutter, liner`. What targets call it stands on the backend's page.",
    )
    listed: bool = Field(
        default=True,
        title="Answer the list of models here",
        description="`GET /models`, with those that the caller may ask for, without asking the backend.",
    )

    @field_validator("offered")
    @classmethod
    def _one_each(cls, offered: tuple[OpenModel, ...]) -> tuple[OpenModel, ...]:
        names = [one.model for one in offered]
        twice = next((name for name in names if names.count(name) > 1), None)
        if twice is not None:
            raise ValueError(f"{twice!r} has two lines; put all of its plans on one")
        return offered


def _plan_of(call: Call) -> str:
    return call.grant.plan if call.grant is not None else ""


def _compile(policy: Models, surroundings: Surroundings) -> list[Part]:
    offered = {one.model: one for one in policy.offered}

    def run(call: Call) -> Refusal | None:
        prompt = call.prompt
        if prompt is None:
            return None
        plan = _plan_of(call)
        one = offered.get(prompt.model)
        prompt.known = one is not None
        if one is not None and one.is_open_to(plan):
            return None
        named = [known.model for known in policy.offered if known.is_open_to(plan)]
        may = f"it may ask for {in_words(named)}" if named else "its plan opens none"
        asked = f"{prompt.model!r}" if prompt.model else "no model"
        if one is None:
            return Refusal(
                REASONS["unknown-model"], (), policy.name, f"asked for {asked}", f"The call asks for {asked}; {may}."
            )
        return Refusal(
            REASONS["model-not-open"], (), policy.name, f"asked for {asked} under {plan or 'no plan'}",
            f"The model {asked} is not open to the plan of the call's application; {may}.",
        )  # fmt: skip

    def answer(call: Call) -> Reply | Refusal | None:
        operation = call.operation
        if call.method != "GET" or operation is None or not operation.name.startswith("get /models"):
            return None
        plan = _plan_of(call)
        named = [one.model for one in policy.offered if one.is_open_to(plan)]
        if operation.name == "get /models":
            body: dict[str, object] = {"object": "list", "data": [_listed(name) for name in named]}
        else:
            wanted = call.path.rpartition(b"/")[2].decode("latin-1")
            if wanted not in named:
                return Refusal(REASONS["unknown-model"], (), policy.name, f"asked for {wanted[:100]!r}")
            body = _listed(wanted)
        return Reply(200, b"content-type: application/json\r\n", json.dumps(body).encode())

    parts: list[Part] = [
        reading(),
        Check(
            stage=Stage.PERMIT,
            run=run,
            reads=lambda call: [("model", call.prompt.model or "none")] if call.prompt is not None else [],
        ),
    ]
    return [*parts, Answerer(stage=Stage.ANSWER, answer=answer)] if policy.listed else parts


def _listed(name: str) -> dict[str, object]:
    return {"id": name, "object": "model", "created": _LISTED_AT, "owned_by": "gateway"}


def _sentence(policy: Models) -> str:
    said = [f"`{one.model}`" + (f" ({', '.join(one.plans)})" if one.plans else "") for one in policy.offered]
    return (
        f"Callers may ask for the models {in_words(said)}."
        if len(said) > 1
        else f"Callers may ask for {said[0]} alone."
    )


KIND = PolicyKind(
    kind="models",
    title="Models",
    stage=Stage.PERMIT,
    purpose="Say which models callers may ask for, under which plans, and list them",
    model=Models,
    compile=_compile,
    reasons=("unknown-model", "model-not-open", "too-large"),
    brief=lambda policy: few([one.model for one in policy.offered]),
    sentence=_sentence,
    reads_prompts=True,
)
