"""Traces of live calls: a share of all, and all calls of an application for a time; and finding one call."""

from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, abort, redirect, request, url_for

from tamarack.console.bench.pages import applications
from tamarack.console.page import acting, back_to, done, environment, refuse, render, requires
from tamarack.core.told.story import story
from tamarack.core.traffic.where import Where, of_status
from tamarack.store.applications.tables import Application
from tamarack.store.errors import NotPossible
from tamarack.store.people.tables import Organization
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic import traces as tracing
from tamarack.web.application import db
from tamarack.web.numbers import fraction, whole

pages = Blueprint("traces", __name__, url_prefix="/traffic")

SHARES = (0.0, 0.001, 0.01, 0.05, 0.1)
MINUTES = (5, 15, 60)
AROUND = timedelta(minutes=5)


@pages.get("/traces")
@requires("see")
def index() -> Any:
    where = environment()
    return render(
        "traffic/traces.html",
        traces=tracing.latest(db(), where),
        share_now=tracing.share(db(), where),
        shares=SHARES,
        watches=tracing.watches(db(), where),
        minutes=MINUTES,
        applications=applications(),
    )


@pages.post("/traces/share")
@requires("bench")
def share() -> Any:
    typed = request.form.get("share", "")
    wanted = fraction(typed)
    if wanted is None:
        abort(422, f"{typed!r} is not a share.")
    try:
        tracing.set_share(db(), acting(), environment(), wanted)
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
        return back_to("traces.index")
    db().commit()
    done("Nodes take it up within a second.")
    return back_to("traces.index")


@pages.post("/traces/watch")
@requires("bench")
def watch() -> Any:
    """Trace all calls of an application for some minutes; 0 ends it."""
    found = db().get(Application, request.form.get("application", ""))
    if found is None:
        abort(404, "There is no such application.")
    typed = request.form.get("minutes", "15")
    minutes = whole(typed, most=100_000)
    minutes = -1 if minutes is None else minutes
    try:
        tracing.watch(db(), acting(), environment(), found, timedelta(minutes=minutes))
    except NotPossible as error:
        db().rollback()
        refuse(str(error))
        return back_to("traces.index")
    db().commit()
    done(f"{found.title} is no longer watched." if not minutes else f"All calls of {found.title} are traced now.")
    return back_to("traces.index")


def _moment(text: str) -> datetime | None:
    """A time as it is typed: a date and time, or a time of today; in UTC."""
    text = text.strip()
    present = datetime.now(UTC)
    for form in ("%H:%M", "%H:%M:%S"):
        try:
            clock = datetime.strptime(text, form).time()
        except ValueError:
            continue
        return datetime.combine(present.date(), clock, UTC)
    try:
        found = datetime.fromisoformat(text)
    except ValueError:
        return None
    return found if found.tzinfo is not None else found.replace(tzinfo=UTC)


@pages.get("/find")
@requires("see")
def find() -> Any:
    """Find a call by its id, or by who made it, when, and how it ended."""
    typed = {name: request.args.get(name, "").strip()[:200] for name in ("id", "application", "at", "status", "path")}
    errors: dict[str, str] = {}
    found: list[Any] = []
    if typed["id"]:
        call = watching.find_call(db(), typed["id"].lower())
        if call is not None:
            return redirect(url_for("traffic.call", id=call.id))
        errors["id"] = "no call with this id is recorded; a new one takes a second or two, an old one is dropped"
    elif any(typed.values()):
        moment = _moment(typed["at"]) if typed["at"] else None
        if typed["at"] and moment is None:
            errors["at"] = f"{typed['at']!r} is not a time; write 14:05, or 2026-11-23 14:05 (UTC)"
        application = db().get(Application, typed["application"]) if typed["application"] else None
        owner = db().get(Organization, application.organization_id) if application is not None else None
        try:
            status = of_status(typed["status"])
        except ValueError as error:
            errors["status"] = str(error)
        if not errors:
            of_caller = watching.call_filter(
                environment=environment(),
                organization=owner.name if owner is not None else "",
                application=application.name if application is not None else "",
            )
            path = Where(field="path", how="contains", values=(typed["path"],)) if typed["path"] else None
            wanted = watching.CallFilter(
                (*of_caller.where, *(one for one in (status, path) if one is not None)),
                first=moment - AROUND if moment is not None else None,
                last=moment + AROUND if moment is not None else None,
            )
            found = watching.calls(db(), wanted, most=20)
    return render(
        "traffic/find.html",
        typed=typed,
        errors=errors,
        found=[(call, story(call)) for call in found],
        asked=any(typed.values()),
        applications=applications(),
    )
