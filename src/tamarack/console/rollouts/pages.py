"""Review, rolling out and back."""

import difflib
from typing import Any

from flask import Blueprint, abort, current_app, redirect, request

from tamarack.config.exchange import files_apart
from tamarack.console.life_cycle.comparing import LOOKS_BACK, broken
from tamarack.console.page import (
    acting,
    back_to,
    done,
    environment,
    may_roll_out,
    refuse,
    render,
    requires,
    running,
)
from tamarack.console.rollouts.source import source_for
from tamarack.console.rollouts.touched import touched
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Configuration, check_in
from tamarack.core.configuration.review import closed_targets, newly_offered, risks
from tamarack.core.environments.named_in import unknown_environments
from tamarack.core.graphql.views.unfit import view_problems
from tamarack.core.life_cycle.states import impossible_steps
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.store.draft.queries import EditedMeanwhile
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.below_traffic import below_traffic
from tamarack.store.rollouts.queries import NotFit
from tamarack.store.rollouts.tables import Rollout
from tamarack.store.secrets import queries as secrets
from tamarack.web.application import db, environments, settings_of
from tamarack.web.numbers import whole
from tamarack.web.safe import safe_next

pages = Blueprint("rollouts", __name__)


def file_difference(
    before: Configuration, after: Configuration, was: str = "running", becomes: str = "draft"
) -> list[str]:
    """The difference between the files of two configurations, called `was` and `becomes`, as unified diff lines."""
    old, new = files_apart(db(), before, after)
    lines: list[str] = []
    for name in sorted({*old, *new}):
        if name.startswith("documents/") and old.get(name) == new.get(name):
            continue
        ours, theirs = old.get(name, "").splitlines(), new.get(name, "").splitlines()
        lines += difflib.unified_diff(ours, theirs, f"{was}/{name}", f"{becomes}/{name}", lineterm="")
    return lines[:2000]


@pages.get("/review")
@requires("see")
def review() -> Any:
    where = environment()
    rollout, live = running(where)
    source = source_for(where, request.args)
    wanted = source.configuration
    known = {*risks(live), *closed_targets(live, where, settings_of(current_app).reach)}
    found = [
        *risks(wanted),
        *closed_targets(wanted, where, settings_of(current_app).reach),
        *below_traffic(db(), where, live, wanted),
    ]
    return render(
        "rollouts/review.html",
        rollout=rollout,
        source=source,
        sources=[one for one in environments() if one != where],
        changes=difference(live, wanted),
        new_risks=[risk for risk in found if risk not in known],
        old_risks=[risk for risk in found if risk in known],
        newly_offered=newly_offered(live, wanted),
        described_anew=broken(live, wanted),
        touched=touched(where, live, wanted),
        problems=[
            *source.problems,
            *unknown_environments(wanted, environments()),
            *impossible_steps(live, wanted),
            *check_in(wanted, where, secrets.facts_for(db(), where)),
            *view_problems(wanted, lambda sha256: documents.document_tree(db(), sha256)),
        ],
        days=LOOKS_BACK.days,
        lines=file_difference(live, wanted, where, source.name or "draft"),
        discardable=source.is_draft,
        allowed=may_roll_out(where),
    )


@pages.post("/review")
@requires("see")
def roll_out() -> Any:
    where = request.form.get("environment", "")
    if where not in environments():
        abort(400, f"{where!r} is not an environment.")
    if not may_roll_out(where):
        abort(403, f"Your role may not roll out to {where}.")
    rolling.lock(db())
    source = source_for(where, request.form)
    again = {"environment": where} | {key: request.form[key] for key in ("source", "only") if request.form.get(key)}
    if request.form.get("mark") != source.mark:
        refuse(f"{source.changed(request.form.get('mark', ''))} Look at the difference again, then roll out.")
        return back_to("rollouts.review", **again)
    if source.problems:
        refuse(f"Not rolled out: {'; '.join(one.message for one in source.problems)}.")
        return back_to("rollouts.review", **again)
    note = request.form.get("note", "").strip()[:300] or source.note
    try:
        rollout = rolling.roll_out_this(db(), acting(), where, source.configuration, note)
    except NotFit as error:
        db().rollback()
        refuse(f"Not rolled out: {error}.")
        return back_to("rollouts.review", **again)
    db().commit()
    if "next" in request.form:
        done(f"Rollout {rollout.number} is on its way to the nodes of {where}.")
        return redirect(safe_next(request.form["next"]), code=303)
    return back_to("rollouts.page", number=rollout.number)


@pages.post("/review/discard")
@requires("edit")
def discard() -> Any:
    """Make the draft what runs, wholly or one item of it."""
    where = environment()
    _, live = running(where)
    if "kind" in request.form:
        kind, name = request.form["kind"], request.form.get("item", "")
        try:
            change = drafting.discard(db(), acting(), live, kind, name)
        except LookupError as error:
            abort(400, str(error))
        db().commit()
        done(f"The draft of {kind} {name} says what {where} runs.".replace("  ", " "), change)
    else:
        touched = drafting.discard_all(db(), acting(), live)
        db().commit()
        done(f"The draft says what {where} runs." + (f" Discarded: {', '.join(touched)}." if touched else ""))
    return back_to("rollouts.review")


def _rollout(number: int) -> Rollout:
    rollout = db().get(Rollout, number)
    if rollout is None:
        abort(404, f"There is no rollout {number}.")
    return rollout


@pages.get("/rollouts/<int:number>")
@requires("see")
def page(number: int) -> Any:
    rollout = _rollout(number)
    newest = rolling.running(db(), rollout.environment)
    values = {
        "rollout": rollout,
        "is_newest": newest is not None and newest.number == number,
        "nodes": known_nodes.nodes(db(), rollout.environment),
        "is_away": known_nodes.is_away,
    }
    if request.args.get("part") == "nodes":
        return render("rollouts/taking_up.html", **values)
    earlier = rolling.before(db(), rollout)
    before = Configuration.model_validate(earlier.configuration) if earlier is not None else Configuration()
    changes = difference(before, Configuration.model_validate(rollout.configuration))
    allowed = may_roll_out(rollout.environment)
    return render("rollouts/page.html", earlier=earlier, changes=changes, allowed=allowed, **values)


@pages.post("/rollouts/<int:number>/back")
@requires("see")
def roll_back(number: int) -> Any:
    earlier = _rollout(number)
    if not may_roll_out(earlier.environment):
        abort(403, f"Your role may not roll out to {earlier.environment}.")
    try:
        rollout = rolling.roll_back(db(), acting(), number)
    except NotFit as error:
        db().rollback()
        refuse(f"Not rolled back: {error}.")
        return back_to("rollouts.page", number=number)
    db().commit()
    done(
        f"Rolled {rollout.environment} back to what rollout {number} held. The draft still says what it said before:"
        " Review shows how it differs, and discards it."
    )
    return back_to("rollouts.page", number=rollout.number)


LISTED = {"api": "apis.index", "kind": "kinds.index", "backend": "backends.index", "product": "plans.index"}
"""Where the items of a kind are listed."""


@pages.post("/undo/<changes>")
@requires("edit")
def undo(changes: str) -> Any:
    """Undo a change of the draft, or several that were made as one, like `12-13`: all of them or none."""
    numbers = [number for part in changes.split("-") if (number := whole(part)) is not None]
    if not numbers or "-".join(map(str, numbers)) != changes:
        abort(404, f"There is no change {changes[:40]!r} to undo.")
    try:
        undone = [drafting.undo(db(), acting(), number) for number in reversed(numbers)]
    except (EditedMeanwhile, LookupError) as error:
        db().rollback()
        refuse(f"Not undone: {error}.")
    else:
        db().commit()
        done(f"Undone: {undone[0].summary}.")
        gone = next((LISTED[one.kind] for one in undone if one.before is None and one.kind in LISTED), "")
        if gone:  # there is no page of what is gone
            return back_to(gone)
    target = request.form.get("next", "/")

    return redirect(safe_next(target), code=303)
