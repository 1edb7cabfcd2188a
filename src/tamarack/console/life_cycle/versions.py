"""The versions of an API side by side: how callers move from one to the next, who still calls, and planned steps."""

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, abort, request
from sqlmodel import col, func, select

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.page import act, acting, back_to, done, environment, may_roll_out, render, requires, running
from tamarack.core.configuration.model import Api, Version
from tamarack.core.life_cycle.brown_outs import still_to_come
from tamarack.core.life_cycle.ending import ending_of
from tamarack.core.life_cycle.states import MEANING, STATES, why_not
from tamarack.core.traffic.span import floored, raised
from tamarack.core.traffic.totals import Totals, share
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.errors import NotPossible
from tamarack.store.life_cycle import feedback, letters, planned
from tamarack.store.life_cycle.tables import PlannedStep
from tamarack.store.people.tables import Organization
from tamarack.store.traffic import last_calls as lasting
from tamarack.store.traffic import reading
from tamarack.store.traffic.last_calls import Calling
from tamarack.store.traffic.overview import Span
from tamarack.store.traffic.reading import Question
from tamarack.web.application import db, environments
from tamarack.web.pictures.moving import moving_chart

pages = Blueprint("versions", __name__, url_prefix="/apis/<api>/<version>/versions")

SPANS = {7: timedelta(hours=6), 30: timedelta(days=1), 90: timedelta(days=1)}
"""How many days are looked at, with the step of the picture."""


def days_asked() -> int:
    """How many days the page looks back."""
    asked = request.values.get("days", "30")
    return int(asked) if asked in map(str, SPANS) else 30


def span_of(where: str, api: str, days: int, version: str = "") -> Span:
    """The last days of an API's calls, or of one of its versions', ending with the point that runs now."""
    step = int(SPANS[days].total_seconds())
    last = raised(datetime.now(UTC), step)
    filters = {"environment": where, "api": api} | ({"version": version} if version else {})
    return Span(floored(last - timedelta(days=days), step), last, filters)


@dataclass(frozen=True, slots=True)
class Row:
    """A version in the table of all, with what was called of it."""

    version: Version
    css: str
    runs: bool
    totals: Totals
    share: float | None
    last: datetime | None
    said: str
    """How it ends, or who may try it."""
    tally: feedback.Tally | None


@dataclass(frozen=True, slots=True)
class Moving:
    """An application that calls a version: its calls of this one, and of all others."""

    calling: Calling
    application: Application | None
    organization: Organization | None
    elsewhere: int

    @property
    def moved(self) -> float | None:
        """The share of its calls that go to other versions."""
        return share(self.elsewhere, self.calling.calls + self.elsewhere)


def movers(where: str, api: str, version: str, days: int) -> list[Moving]:
    """Who calls a version, the busiest first, with how far each has moved."""
    callers = lasting.calling(db(), span_of(where, api, days, version))
    span = span_of(where, api, days)
    asked = Question(span.first, span.last, span.where, ("organization", "application", "version"), most=2_000,
                     others=False, sums=())  # fmt: skip
    elsewhere: dict[tuple[str, str], int] = defaultdict(int)
    for group in reading.answer(db(), asked).groups:
        assert group.key is not None
        if group.key[2] != version:
            elsewhere[group.key[0], group.key[1]] += group.total.calls
    query = select(Application, Organization).join(Organization, col(Organization.id) == Application.organization_id)
    named = {one.application for one in callers}
    known = {(o.name, a.name): (a, o) for a, o in db().exec(query.where(col(Application.name).in_(named)))}
    found = []
    for one in callers:
        application, organization = known.get((one.organization, one.application), (None, None))
        found.append(Moving(one, application, organization, elsewhere[one.organization, one.application]))
    return found


def _rows(where: str, api: Api, live: Api | None, answered: reading.Answer, callers: dict[str, Any]) -> list[Row]:
    totals = {group.key[0]: group.total for group in answered.groups if group.key is not None}
    whole = sum(one.calls for one in totals.values())
    rows = []
    for place, version in enumerate(api.versions):
        own = totals.get(version.version, Totals())
        trial = version.open_trial
        tally = _whole(feedback.tallies(db(), api.name, version.version))
        rows.append(
            Row(
                version,
                f"g{place % 8}",
                live is not None and live.version(version.version) is not None,
                own,
                share(own.calls, whole),
                callers.get(version.version),
                _capital(ending_of(version)) or (trial.said if trial is not None else ""),
                tally,
            )
        )
    return rows


def _capital(words: str) -> str:
    return words[:1].upper() + words[1:]


def _whole(tallies: dict[str, feedback.Tally]) -> feedback.Tally | None:
    if not tallies:
        return None
    each = list(tallies.values())
    return feedback.Tally(*(sum(getattr(one, name) for one in each) for name in ("up", "down", "notes", "unanswered")))


def _page(found: Api, inside: Version, typed: dict[str, str], errors: dict[str, str]) -> str:
    where, days = environment(), days_asked()
    span = span_of(where, found.name, days)
    asked = Question(span.first, span.last, span.where, ("version",), step=SPANS[days], most=12, others=False,
                     sums=("refused", "failed"), callers=True)  # fmt: skip
    answered = reading.answer(db(), asked)
    live = running(where)[1].api(found.name)
    last = {one.version: _last(where, found.name, one.version) for one in found.versions}
    names = [one.version for one in found.versions]
    products = [product.name for product in running(where)[1].products_with(found.name)]
    subscriptions = select(func.count()).where(
        col(Subscription.product).in_(products), Subscription.environment == where, Subscription.state == "active"
    )
    running_version = live.version(inside.version) if live is not None else None
    return render(
        "life_cycle/versions.html",
        tab="versions",
        rows=_rows(where, found, live, answered, last),
        chart=moving_chart(answered.times, answered.groups, names, SPANS[days], width=1000, height=190),
        subscriptions=db().exec(subscriptions).one(),
        movers=movers(where, found.name, inside.version, days),
        written=letters.written(db(), found.name, inside.version),
        brown_outs=still_to_come(inside.brown_outs, datetime.now(UTC)) if inside.state == "deprecated" else [],
        planned=planned.open_steps(db(), found.name),
        settled=planned.settled_steps(db(), found.name),
        states=[one for one in STATES if one != "draft" and _possible(running_version, one)],
        running_version=running_version,
        may_plan=may_roll_out(where),
        meaning=MEANING,
        days=days,
        spans=list(SPANS),
        typed=typed,
        errors=errors,
        **head_values(found, inside),
    )


def _last(where: str, api: str, version: str) -> datetime | None:
    return max(lasting.last_calls(db(), where, api, version).values(), default=None)


def _possible(running_version: Version | None, state: Any) -> bool:
    """Whether a state may be planned: at once, or after another step that is planned before it."""
    return (
        running_version is not None and (state != running_version.state) and not why_not(running_version.state, state)
    )


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    return _page(*the_version(api, version), {}, {})


@pages.post("/plan")
@requires("edit")
def plan(api: str, version: str) -> Any:
    """Plan a step for a time to come."""
    found, inside = the_version(api, version)
    where = request.form.get("environment", "")
    if where not in environments():
        abort(400, f"{where!r} is not an environment.")
    if not may_roll_out(where):
        abort(403, f"Your role may not roll out to {where}, so it may plan no step there.")
    typed = {name: request.form.get(name, "").strip() for name in ("state", "at")}
    try:
        at = datetime.strptime(typed["at"], "%Y-%m-%dT%H:%M").replace(tzinfo=UTC)
    except ValueError:
        wrong = f"{typed['at'][:40]!r} is not a time; choose a day and a time of day"
        return _page(found, inside, typed, {"at": wrong}), 422
    try:
        planned.plan(db(), acting(), running(where)[1], where, api, version, typed["state"], at)
    except NotPossible as error:
        db().rollback()
        return _page(found, inside, typed, {error.field: str(error)}), 422
    db().commit()
    done(f"Planned: {found.title} {version} becomes {typed['state']} on {at:%d %B %Y, %H:%M} UTC.")
    return back_to("versions.page", api=api, version=version)


@pages.post("/steps/<int:number>/call-off")
@requires("edit")
def call_off(api: str, version: str, number: int) -> Any:
    """Call a planned step off."""
    step = db().get(PlannedStep, number, with_for_update=True)
    if step is None or step.api != api:
        abort(404, "There is no such step.")
    if not may_roll_out(step.environment):
        abort(403, f"Your role may not roll out to {step.environment}, so it may call no step off there.")
    act(lambda: planned.call_off(db(), acting(), step), f"{step.version} does not become {step.state}: called off.")
    return back_to("versions.page", api=api, version=version)


def people_of(found: Sequence[letters.Addressee]) -> int:
    """How many people letters reach by mail."""
    return sum(len(one.people) for one in found)
