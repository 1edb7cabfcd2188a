"""The effective rules of an operation in plain sentences, each with where it comes from."""

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, replace

from tamarack.core.configuration.backend import Backend
from tamarack.core.configuration.effective import (
    Held,
    Placement,
    answers_alone,
    closed,
    held,
    in_force,
    is_open,
    on_fields,
    tried_freely,
)
from tamarack.core.configuration.model import FIELD_METHOD, Api, Configuration, Operation, Version
from tamarack.core.configuration.plans import Plan
from tamarack.core.life_cycle.ending import ending_of, standing_successor
from tamarack.core.limits.window import in_words
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.stages import Stage
from tamarack.core.text import in_words as words_of
from tamarack.core.text import time_in_words

SUBSCRIPTION_REASONS = ("not-subscribed", "subscription-paused", "application-paused")
PLAN_REASONS = ("over-plan", "over-quota", "over-tokens", "too-many-tokens")


@dataclass(frozen=True, slots=True)
class Sentence:
    """One rule in words; `source` names where it was placed."""

    text: str
    source: str
    reasons: tuple[str, ...] = ()
    """The reasons that a call can be refused for by it."""


def source_of(placement: Placement) -> str:
    """A placement in words: "everywhere", "sailings 2", "get /sailings"."""
    if placement.level == "everywhere":
        return "everywhere"
    return placement.call or f"{placement.api} {placement.version}"


def explain(
    configuration: Configuration,
    api: Api,
    version: Version,
    operation: Operation | None = None,
    plan: Plan | None = None,
) -> list[Sentence]:
    """What holds for an operation (or the whole API), for a subscriber of `plan` where one is given."""
    rows = held(configuration, api, version, operation)
    sentences = []
    if version.state == "draft":
        sentences.append(Sentence("This version is a draft: it is not rolled out and takes no calls.", "state"))
    if version.state == "retired":
        successor = standing_successor(api, version)
        named = f", which names version {successor.version}" if successor is not None else ""
        return [Sentence(f"This version is retired: every call is answered 410{named}.", "state")]
    if ending := ending_of(version):
        sentences.append(Sentence(f"This version {ending}; its answers say so.", "state"))
    if version.state == "deprecated":
        sentences += [
            Sentence(f"It is switched off on {one.said}: calls are answered 410.", "state")
            for one in version.brown_outs
        ]
    if closed(version, rows):
        sentences.append(
            Sentence("Nobody may call: nothing here says how a caller is identified (403, closed).", "built in")
        )
    for cap in configuration.caps:
        text = f"In {cap.environment} all callers together may call {in_words(cap.limits)}; beyond that, 503."
        sentences.append(Sentence(text, f"cap of {cap.environment}"))
    sentences += _of_policies(in_force(rows), _in_full)
    sentences += _of_fields(api, version, operation, _in_full)
    trial = version.open_trial
    if trial is not None:
        sentences.append(Sentence(trial.said, "state"))
    if not closed(version, rows) and not is_open(rows) and (trial is None or trial.invited):
        text = f"The caller's application needs a subscription in force to a product with {api.title}."
        if trial is not None:
            text = f"Any other application needs a subscription in force to a product with {api.title}."
        later = (Stage.PERMIT, Stage.METER)
        after = sum(1 for row in in_force(rows) if row.stage in later)
        sentences.insert(len(sentences) - after, Sentence(text, "built in"))
        if plan is not None:
            said = plan.in_words(api.name, operation.call if operation is not None else "")
            sentences.append(Sentence(f"Under the plan {plan.title}, a subscription {said}.", f"plan {plan.title}"))
    backend = configuration.backend(version.backend)
    if backend is not None and not answers_alone(rows):
        sentences += [Sentence(text, f"backend {backend.name}") for text in of_backend(backend)]
    return sentences


def of_backend(backend: Backend) -> list[str]:
    """Where calls go on to, how long that may take, and which target has its turn."""
    said = [
        f"The call goes on to {backend.name}, which has {time_in_words(backend.connect_timeout_ms)} to take the"
        f" connection and {time_in_words(backend.first_timeout_ms or backend.read_timeout_ms)} to answer."
        + (f" The whole call may take {time_in_words(backend.whole_timeout_ms)}." if backend.whole_timeout_ms else "")
        + _signs_in(backend)
    ]
    if len(backend.targets) > 1:
        priorities = sorted({target.priority for target in backend.targets})
        among = f"{len(backend.targets)} targets"
        if len(priorities) > 1:
            among += f" of {len(priorities)} priorities, of which the lowest that is well takes the calls"
        turns = "by weight" if backend.sharing == "by weight" else "to the one with the fewest calls under way"
        same = f"; calls of {backend.same_for} go to the same one" if backend.same_for == "the same caller" else ""
        if backend.same_header:
            same = f"; calls with the same value of `{backend.same_header}` go to the same one"
        said.append(f"It has {among}; turns go {turns}{same}.")
    if backend.turned_away == "ask the next target":
        said.append("A call that a target turns away (429, or 503 with Retry-After) goes to the next one.")
    for target in backend.targets:
        if target.capacity:
            kept = (
                f", of which what is left from {backend.kept_from} % on is kept for {words_of(list(backend.kept_for))}"
            )
            many = f"{target.capacity:,}".replace(",", " ")
            said.append(f"{target.address} has {many} tokens a minute{kept if backend.kept_for else ''}.")
    if backend.models:
        said.append(f"Models are asked for by other names there: {', '.join(map(str, backend.models))}.")
    rules = backend.breaker
    if rules is not None:
        opens = [f"{rules.in_a_row} failures in a row"] if rules.in_a_row else []
        if rules.share:
            opens.append(f"{rules.share} % of at least {rules.at_least} calls failed within {rules.within_s} s")
        opens += ["an answer 429 or 503 with Retry-After"] if rules.heed_retry_after else []
        said.append(f"A target is spared for {rules.open_s} s after {' or '.join(opens) or 'nothing'}, then tried.")
    if backend.health is not None:
        said.append(f"Targets are asked for `{backend.health.path}` every {backend.health.every_s} s.")
    return said


def explain_outside(
    configuration: Configuration, api: Api, version: Version, operation: Operation, plans: Sequence[Plan] = ()
) -> list[Sentence]:
    """What holds for an operation as its callers may know it, with what each of their plans lets them do.

    Nothing of backends, of the platform's own caps, and of what is the business of other organizations.
    """
    rows = held(configuration, api, version, operation)
    if closed(version, rows):
        return [Sentence("Nobody may call this operation at the moment.", "built in")]
    sentences = explain_ways(configuration, api, version, operation) if not tried_freely(version) else []
    others = [row for row in in_force(rows) if row.stage is not Stage.IDENTIFY or kind_of(row.policy).opens]
    sentences += _of_policies(others, _outside)
    sentences += _of_fields(api, version, operation, _outside)
    trial = version.open_trial
    if trial is not None:
        sentences.append(Sentence(trial.said_outside, "state", ("over-rate",)))
    elif not is_open(rows):
        needed = f"The caller's application needs a subscription in force to a product with {api.title}."
        sentences.append(Sentence(needed, "built in", SUBSCRIPTION_REASONS))
    if not is_open(rows):
        for plan in plans:
            said = plan.in_words(api.name, operation.call)
            text = f"Under your plan {plan.title}, a subscription {said}."
            sentences.append(Sentence(text, f"plan {plan.title}", PLAN_REASONS))
    return sentences


def explain_ways(
    configuration: Configuration, api: Api, version: Version, operation: Operation | None = None
) -> list[Sentence]:
    """How callers show who they are, as they may know it: one sentence for all ways, or none where anyone may call."""
    rows = [row for row in in_force(held(configuration, api, version, operation)) if row.stage is Stage.IDENTIFY]
    return _of_policies([row for row in rows if not kind_of(row.policy).opens], _outside)


def _in_full(policy: AnyPolicy) -> str:
    return kind_of(policy).sentence(policy)


def _of_fields(
    api: Api, version: Version, operation: Operation | None, say: Callable[[AnyPolicy], str]
) -> list[Sentence]:
    """What holds where a document asks for a field of a graph."""
    if operation is not None and operation.method == FIELD_METHOD:
        return []  # its own are among those that are told
    found = []
    for row in in_force(on_fields(api, version)):
        words = say(row.policy)
        if words:
            asked = row.placement.call.partition(" ")[2]
            source, reasons = source_of(row.placement), kind_of(row.policy).reasons
            found.append(Sentence(f"Where a document asks for `{asked}`: {words}", source, reasons))
    return found


def _outside(policy: AnyPolicy) -> str:
    kind = kind_of(policy)
    return (kind.sentence_outside or kind.sentence)(policy)


_SHOWS = "The caller shows "
"""How the sentence of every way to identify begins."""


def _of_policies(rows: Iterable[Held], say: Callable[[AnyPolicy], str]) -> list[Sentence]:
    """A sentence for each policy; the ways to identify, any one of which will do, in one sentence together."""
    sentences: list[Sentence] = []
    ways: list[Sentence] = []
    at = 0
    for row in rows:
        kind = kind_of(row.policy)
        words = say(row.policy)
        if not words:
            continue  # nothing that its reader should know
        said = Sentence(words, source_of(row.placement), kind.reasons)
        if row.stage is Stage.IDENTIFY and not kind.opens:
            at = at if ways else len(sentences)
            ways.append(said)
        else:
            sentences.append(said)
    if ways:
        sentences.insert(at, _either(ways))
    return sentences


def _either(ways: list[Sentence]) -> Sentence:
    reasons = tuple(dict.fromkeys(("no-credential", *(code for way in ways for code in way.reasons))))
    if len(ways) == 1:
        return replace(ways[0], reasons=reasons)
    parts = [way.text.removeprefix(_SHOWS).removesuffix(".") for way in ways]
    mark = "; " if any("; " in part for part in parts) else ", "
    text = f"{_SHOWS}{'either ' if len(parts) == 2 else ''}{mark.join(parts[:-1])}{mark}or {parts[-1]}."
    return Sentence(text, ways[0].source, reasons)


def _signs_in(backend: Backend) -> str:
    own = [f"`{target.secret}` at {target.address}" for target in backend.targets if target.secret]
    secrets = words_of([*([f"`{backend.sign_in_secret}`"] if backend.sign_in_secret else []), *own])
    secret = f"the secret{'s' if len(own) + bool(backend.sign_in_secret) > 1 else ''} {secrets}"
    match backend.sign_in:
        case "header":
            return f" The gateway signs in with {secret} in `{backend.sign_in_name}`."
        case "basic":
            return f" The gateway signs in as `{backend.sign_in_name}` with {secret}."
        case "bearer":
            return f" The gateway signs in with {secret} as Bearer."
    return ""
