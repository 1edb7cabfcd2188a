"""Saved calls: kept with what is expected of them, run all at once, and compared from rollout to rollout."""

from typing import Any

from flask import Blueprint, abort, current_app, request
from sqlmodel import col, select

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.bench.pages import bench_page, node_of, read_call, typed_values
from tamarack.console.page import acting, back_to, done, environment, refuse, render, requires
from tamarack.core.http.fields import looks_secret
from tamarack.core.trying.bench import BenchCall
from tamarack.store.audit import log as auditing
from tamarack.store.columns import now
from tamarack.store.saved_calls.tables import SavedCall, SavedRun
from tamarack.web.application import db, settings_of
from tamarack.web.outgoing.sending import send
from tamarack.web.words import counted

pages = Blueprint("saved", __name__, url_prefix="/apis/<api>/<version>/saved")

MOST_CALLS = 50
MOST_RUNS = 4
"""Runs shown side by side."""


def _calls(api: str, version: str) -> list[SavedCall]:
    query = select(SavedCall).where(SavedCall.api == api, SavedCall.version == version)
    return list(db().exec(query.order_by(col(SavedCall.made_at))))


@pages.get("/")
@requires("see")
def index(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    where = environment()
    query = select(SavedRun).where(SavedRun.api == api, SavedRun.version == version, SavedRun.environment == where)
    runs = list(db().exec(query.order_by(col(SavedRun.at).desc()).limit(MOST_RUNS)))
    runs.reverse()
    listed = [(one, BenchCall.model_validate(one.body)) for one in _calls(api, version)]
    return render(
        "bench/saved.html", tab="bench", listed=listed, runs=runs, changed=_changed(runs), **head_values(found, inside)
    )


def _changed(runs: list[SavedRun]) -> set[str]:
    """The calls whose outcome in the last run differs from the one before."""
    if len(runs) < 2:
        return set()
    before, after = runs[-2].results, runs[-1].results
    return {
        id for id, one in after.items()
        if id in before and (before[id]["status"], before[id]["good"]) != (one["status"], one["good"])
    }  # fmt: skip


@pages.post("/")
@requires("bench")
def save(api: str, version: str) -> Any:
    """Keep the call that is in the bench's form."""
    found, inside = the_version(api, version)
    operation = inside.operation(request.form.get("operation", ""))
    if operation is None:
        abort(404, "There is no such operation.")
    typed = typed_values(operation)
    title = " ".join(typed["title"].split())[:120] or operation.call
    made, errors = read_call(inside, operation, typed)
    if made is None:
        return bench_page(found, inside, operation, typed, errors), 422
    shown = next((name for name, _ in made.fields if looks_secret(name)), None)
    if shown is not None:
        errors = {"headers": f"{shown!r} carries a credential, which is not kept; choose an application above instead"}
        return bench_page(found, inside, operation, typed, errors), 422
    earlier = db().get(SavedCall, typed["saved"])
    if earlier is not None and (earlier.api, earlier.version) == (api, version):
        earlier.title, earlier.body = title, made.model_dump(mode="json")
        db().add(earlier)
        auditing.record(db(), acting(), "change saved call", f"{api} {version}", title=title)
        db().commit()
        done(f"‘{title}’ is changed.")
        return back_to("saved.index", api=api, version=version)
    if len(_calls(api, version)) >= MOST_CALLS:
        refuse(f"{found.title} {version} has {MOST_CALLS} saved calls, the most there can be; remove one first.")
        return back_to("saved.index", api=api, version=version)
    kept = SavedCall(api=api, version=version, title=title, body=made.model_dump(mode="json"), made_by=acting().name)
    db().add(kept)
    auditing.record(db(), acting(), "save call", f"{api} {version}", title=title)
    db().commit()
    done(f"‘{title}’ is saved.")
    return back_to("saved.index", api=api, version=version)


@pages.post("/run")
@requires("bench")
def run(api: str, version: str) -> Any:
    """Send every saved call to the environment, one after the other, and keep what each was answered."""
    the_version(api, version)
    where = environment()
    node = node_of(where)
    if node is None:
        refuse(f"No node of {where} is running; see Nodes.")
        return back_to("saved.index", api=api, version=version)
    calls = _calls(api, version)
    key, actor = settings_of(current_app).keys.raw("bench"), acting()
    results: dict[str, Any] = {}
    for one in calls:
        answer = send(BenchCall.model_validate(one.body), node, key, actor.name)
        results[one.id] = {
            "status": answer.status,
            "ms": round(answer.ms, 1),
            "call": answer.call_id,
            "good": not answer.failures,
            "failures": list(answer.failures),
        }
    made = SavedRun(api=api, version=version, environment=where, rollout=node.rollout, at=now(), by=actor.name,
                    results=results)  # fmt: skip
    db().add(made)
    auditing.record(db(), actor, "run saved calls", f"{api} {version}", environment=where, calls=len(results))
    db().commit()
    bad = sum(1 for one in results.values() if not one["good"])
    if bad:
        refuse(f"{bad} of {counted(len(results), 'call')} not answered as expected in {where}.")
    else:
        done(f"{counted(len(results), 'call')} answered as expected in {where}.")
    return back_to("saved.index", api=api, version=version)


@pages.post("/<id>/remove")
@requires("bench")
def remove(api: str, version: str, id: str) -> Any:
    found = db().get(SavedCall, id)
    if found is None or (found.api, found.version) != (api, version):
        abort(404, "There is no such saved call.")
    db().delete(found)
    auditing.record(db(), acting(), "remove saved call", f"{api} {version}", title=found.title)
    db().commit()
    done(f"‘{found.title}’ is removed.")
    return back_to("saved.index", api=api, version=version)
