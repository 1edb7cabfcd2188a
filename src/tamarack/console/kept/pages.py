"""What response caches save, what they keep at this moment, and purging it."""

from collections.abc import Iterator
from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from flask import Blueprint, abort, request, url_for

from tamarack.console.limits.asking_nodes import NodeAnswer, ask
from tamarack.console.page import acting, back_to, done, environment, may, refuse, render, requires, running
from tamarack.core.caching.memory import Listed
from tamarack.core.configuration.effective import Placement, held, in_force
from tamarack.core.configuration.model import Configuration
from tamarack.core.policies import kind_of
from tamarack.core.policies.answer.near_equal_prompts import NearEqualPrompts
from tamarack.core.policies.answer.response_cache import ResponseCache
from tamarack.core.traffic.totals import Totals, together
from tamarack.store.audit import log as auditing
from tamarack.store.feed.purges import purge
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.nodes.tables import Node
from tamarack.store.traffic import overview as watching
from tamarack.web.application import db

pages = Blueprint("kept", __name__, url_prefix="/kept")

MOST_SHOWN = 200
DAY = timedelta(days=1)


@dataclass(slots=True)
class CachePolicy:
    """A policy that runs and keeps answers: where it is placed, for which operations, and what it saved in a day."""

    placement: Placement
    policy: ResponseCache | NearEqualPrompts
    operations: list[tuple[str, str, str]] = field(default_factory=list)
    totals: Totals = field(default_factory=Totals)

    @property
    def id(self) -> str:
        """What nodes keep its answers under."""
        return f"{self.placement.id}/{self.policy.name}"

    @property
    def where(self) -> str:
        return self.placement.call or self.placement.id

    @property
    def of_prompts(self) -> bool:
        """Whether it keeps answers of language models."""
        return isinstance(self.policy, NearEqualPrompts)

    @property
    def is_shared(self) -> bool:
        """Whether all nodes share what it keeps."""
        return isinstance(self.policy, ResponseCache) and self.policy.where == "shared by all nodes"

    @property
    def brief(self) -> str:
        """What it does, in few words."""
        return kind_of(self.policy).brief(self.policy)

    @property
    def saved_us(self) -> float | None:
        """The time that callers did not wait. A model's answers tell it; else each hit is taken to have saved what the
        backend takes in the mean."""
        totals = self.totals
        if self.of_prompts:
            return totals.saved_us or None
        return totals.hits * totals.backend_us / totals.asked if totals.asked and totals.hits else None


def cache_policies(configuration: Configuration) -> dict[str, CachePolicy]:
    """The policies in force that keep answers, by their id."""
    found: dict[str, CachePolicy] = {}
    for api in configuration.apis:
        for version in api.versions:
            for operation in version.operations:
                for row in in_force(held(configuration, api, version, operation)):
                    if isinstance(row.policy, ResponseCache | NearEqualPrompts):
                        made = CachePolicy(row.placement, row.policy)
                        place = (api.name, version.version, operation.call)
                        found.setdefault(made.id, made).operations.append(place)
    return found


def _with_totals(policies: dict[str, CachePolicy], where: str) -> list[CachePolicy]:
    """The caches with what they did within a day, the busiest first."""
    span = watching.until_now(DAY, {"environment": where})
    fields, sums = (
        ("api", "version", "operation"),
        ("hits", "misses", "asked", "backend_us", "saved_tokens", "saved_us"),
    )
    used = {busy.name: busy.totals for busy in watching.busiest(db(), span, fields, most=500, sums=sums)}
    for policy in policies.values():
        policy.totals = together([used[place] for place in policy.operations if place in used])
    return sorted(policies.values(), key=lambda one: (-one.totals.hits, one.id))


def _nodes(where: str) -> list[Node]:
    return known_nodes.there(db(), where)


def _answers(where: str, policy: CachePolicy, search: str) -> Iterator[tuple[Node, NodeAnswer]]:
    nodes = _nodes(where)
    for node in nodes[:1] if policy.is_shared else nodes:
        yield node, ask(node, "kept", most=MOST_SHOWN, search=search, id=policy.id)


@pages.get("/")
@requires("see")
def index() -> Any:
    where = environment()
    return render("kept/index.html", policies=_with_totals(cache_policies(running(where)[1]), where))


def _the_policy(where: str) -> CachePolicy:
    found = cache_policies(running(where)[1]).get(request.values.get("policy", ""))
    if found is None:
        abort(404, f"No policy so named keeps answers in {where}; it may not be rolled out yet.")
    return found


@pages.get("/policy")
@requires("see")
def policy() -> Any:
    where = environment()
    found = _the_policy(where)
    search = request.args.get("search", "").strip()[:200]
    answers = list(_answers(where, found, search))
    rows: list[tuple[Listed, str]] = [(one, node.name) for node, answer in answers for one in answer.kept]
    rows.sort(key=lambda row: (-row[0].hits, row[0].key))
    place = found.placement
    level = place.level
    edit = url_for("policies.edit", api=place.api, version=place.version, level=level, policy=found.policy.name,
                   operation=place.call or None) if place.api else ""  # fmt: skip
    return render(
        "kept/policy.html",
        policy=_with_totals({found.id: found}, where)[0],
        rows=rows[:MOST_SHOWN],
        more=max(0, len(rows) - MOST_SHOWN),
        many=sum(answer.kept_many for _, answer in answers),
        size=sum(answer.kept_bytes for _, answer in answers),
        problems=[answer.problem for _, answer in answers if answer.problem],
        nodes=len(answers),
        shared=found.is_shared,
        search=search,
        edit=edit,
        purging=may("edit"),
    )


@pages.post("/purge")
@requires("edit")
def forget() -> Any:
    """Make every node forget answers: one by its key, those whose keys begin alike, or all of a policy."""
    where = environment()
    found = _the_policy(where)
    key, how = request.form.get("key", ""), request.form.get("how", "")
    if how not in ("one", "prefix", "all") or (how != "all" and not key.strip()):
        refuse("Say which answers to forget: one, those whose keys begin with something, or all.")
        return back_to("kept.policy", policy=found.id)
    purge(db(), found.id, "" if how == "all" else key, how == "one")
    words = {"one": f"the answer {key}", "prefix": f"what begins with {key}", "all": "all of it"}[how]
    auditing.record(db(), acting(), "purge kept answers", found.id, environment=where, what=words)
    db().commit()
    done(f"All nodes of {where} forget {words}, within a second.")
    return back_to("kept.policy", policy=found.id, search=request.form.get("search", ""))
