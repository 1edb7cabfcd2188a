"""Limits: every limit of an environment with its layer, the platform's cap, and what is counted at this moment."""

from collections import defaultdict
from typing import Any

from flask import Blueprint, render_template, request, url_for
from pydantic import ValidationError

from tamarack.console.limits.asking_nodes import ask, counting_nodes
from tamarack.console.page import acting, back_to, done, draft, environment, may, refuse, render, requires, running
from tamarack.core.configuration.layers import LimitRow, all_limits
from tamarack.core.configuration.model import Cap
from tamarack.core.limits.live import LiveCounter
from tamarack.core.types import problems_of
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit import log as auditing
from tamarack.store.draft import queries as drafting
from tamarack.store.quotas import queries as quotas
from tamarack.web.application import db
from tamarack.web.rates import rate_rows

pages = Blueprint("limits", __name__, url_prefix="/limits")

MOST_SHOWN = 200


def _link(row: LimitRow) -> str:
    """Where a limit can be changed."""
    if row.product:
        return url_for("plans.plan_page", product=row.product, name=row.plan)
    place = row.placement
    if row.layer == "platform" or not place.api:
        return ""
    level = "operation" if place.call else "api"
    operation = place.call or None
    return url_for(
        "policies.edit", api=place.api, version=place.version, level=level, policy=row.name, operation=operation
    )


def _cap_text(where: str) -> str:
    cap = draft().cap(where)
    return "\n".join(map(str, cap.limits)) if cap is not None else ""


def _index(typed: str | None = None, error: str = "") -> str:
    where = environment()
    shown = request.values.get("show", "draft")
    configuration = running(where)[1] if shown == "running" else draft()
    rows = [(row, _link(row)) for row in all_limits(configuration, where)]
    return render(
        "limits/index.html",
        rows=rows,
        shown=shown,
        cap=_cap_text(where) if typed is None else typed,
        error=error,
        used=_used(where),
    )


def _used(where: str) -> list[tuple[Any, str, str]]:
    """What is used of quotas now: the row, whose it is, and a link to them."""
    found = []
    for row in quotas.policy_use(db(), where)[:MOST_SHOWN]:
        owner = quotas.owner_of(db(), row)
        title = f"{owner.title}" if owner is not None else row.key or "all together"
        found.append((row, title, url_for("subscribers.application", id=owner.id) if owner is not None else ""))
    return found


@pages.get("/rows")
@requires("see")
def rows() -> Any:
    """The picker's rows for limits that were typed as text."""
    text = next(iter(request.args.values()), "")  # the field that was typed into, whatever its name
    return render_template("rate_rows.html", rows=rate_rows(text[:2_000]))


@pages.get("/")
@requires("see")
def index() -> Any:
    return _index()


@pages.post("/cap")
@requires("edit")
def save_cap() -> Any:
    """Set or remove what an environment carries at most."""
    where = environment()
    typed = request.form.get("cap", "")
    lines = [line.strip() for line in typed.splitlines() if line.strip()]
    try:
        cap = Cap.model_validate({"environment": where, "limits": lines}) if lines else None
    except ValidationError as error:
        return _index(typed, problems_of(error)[0].message), 422
    words = ", ".join(map(str, cap.limits)) if cap is not None else "none"
    change = drafting.save(db(), acting(), "cap", where, cap, f"set the cap of {where} to {words}")
    db().commit()
    done(f"The cap of {where} is {words} in the draft. It holds after the next rollout." if change
         else "Nothing was different.", change)  # fmt: skip
    return back_to("limits.index")


@pages.get("/live")
@requires("see")
def live() -> Any:
    where = environment()
    search = request.args.get("search", "").strip()[:100]
    policy = request.args.get("policy", "")
    names = subscribers.caller_names(db())
    asked_for = _search_keys(search, names)
    nodes = counting_nodes(db(), where)
    answers = [(node, ask(node, "list", most=MOST_SHOWN, search=one)) for node in nodes for one in asked_for]
    found: dict[tuple[str, str, str, str], tuple[LiveCounter, str, str]] = {}
    for node, answer in answers:
        own = "" if answer.counting == "with all nodes" else node.name
        for one in answer.counters:
            found[one.id, one.window, one.key, own] = (one, own, names.get(one.key.removeprefix("="), ""))
    rows = sorted(found.values(), key=lambda row: row[0].share, reverse=True)
    ids = sorted({row[0].id for row in rows})
    groups: dict[str, int] = defaultdict(int)
    for row in rows:
        groups[row[0].id] += 1
    if policy:
        rows = [row for row in rows if row[0].id == policy]
    return render(
        "limits/live.html",
        rows=rows[:MOST_SHOWN],
        more=max(0, len(rows) - MOST_SHOWN),
        ids=ids,
        groups=groups,
        policy=policy,
        search=search,
        nodes=[(node, answer) for node, answer in answers],
        clearing=may("subscribers"),
        rows_only=request.headers.get("HX-Request") == "true",
    )


def _search_keys(search: str, names: dict[str, str]) -> list[str]:
    """What to look for in keys: what was typed, and the ids of applications so called."""
    if not search:
        return [""]
    called = [id for id, name in names.items() if search.lower() in name.lower()]
    return list(dict.fromkeys([search, *called]))[:12]


@pages.post("/live/clear")
@requires("subscribers")
def clear() -> Any:
    """Begin one count anew, on every node that counts it."""
    where = environment()
    id, key = request.form.get("id", ""), request.form.get("key", "")
    nodes = counting_nodes(db(), where, every=True)
    problems = [answer.problem for answer in (ask(node, "clear", id=id, key=key) for node in nodes) if answer.problem]
    if not nodes:
        refuse(f"No node of {where} runs, so nothing is counted there.")
    elif problems:
        refuse(f"Not cleared everywhere: {problems[0]}.")
    else:
        auditing.record(db(), acting(), "clear counter", id, environment=where, key=key)
        db().commit()
        done(f"The count of {key or 'all together'} under {id} is reset.")
    return back_to("limits.live", search=request.form.get("search", ""), policy=request.form.get("policy", ""))
