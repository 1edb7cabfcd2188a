"""Statements: what each organization used in a month, and what it costs; issued once the month is over."""

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, Response, abort, jsonify, request, stream_with_context
from sqlmodel import col, select

from tamarack.console.page import act, acting, back_to, may, render, requires, running
from tamarack.console.subscribers.lists import filters_of, listed
from tamarack.core.configuration.model import Configuration
from tamarack.core.traffic.statement import COLUMNS, month_of, rows_of
from tamarack.store.applications import lists as subscriber_lists
from tamarack.store.columns import now
from tamarack.store.people.tables import Organization
from tamarack.store.statements import issuing
from tamarack.store.statements import queries as stating
from tamarack.store.statements.issuing import Issued
from tamarack.web.application import db
from tamarack.web.table_formats import Type, pieces

pages = Blueprint("statements", __name__, url_prefix="/traffic/statements")

_NAMED = 10
"""Organizations that a message names; of more it says how many."""


def _organization(name: str) -> Organization:
    found = db().exec(select(Organization).where(Organization.name == name)).first()
    if found is None:
        abort(404, f"There is no organization {name}.")
    return found


def _month(text: str) -> str:
    try:
        month_of(text)
    except ValueError as error:
        abort(404, str(error))
    return text


def _offered() -> Configuration:
    """What runs where calls are charged: its plans have the prices."""
    return running(stating.charged_in(db()))[1]


def _body(organization: Organization, month: str) -> dict[str, Any]:
    """The month as it was issued, or as it stands now."""
    ((_, _, body),) = stating.bodies(db(), _offered(), [organization], _month(month))
    return body


@pages.get("/")
@requires("see")
def index() -> Any:
    months = stating.months(db())
    chosen = request.args.get("month", "")
    month = _month(chosen) if chosen else months[0] if months else f"{datetime.now(UTC):%Y-%m}"
    filters = filters_of("kind")
    rows, paging = listed(subscriber_lists.organizations, filters)
    return render(
        "traffic/statements/statements.html",
        months=months if month in months else [month, *months],
        month=month,
        found=stating.bodies(db(), _offered(), [organization for organization, *_ in rows], month),
        filters=filters,
        paging=paging,
        may_issue=may("subscribers") and month_of(month)[1] <= now() and stating.not_issued(db(), month) > 0,
    )


@pages.get("/<month>/statements.csv")
@requires("see")
def everybodys(month: str) -> Any:
    """The month of all organizations as one table, made group by group while it is read."""
    _month(month)
    columns: dict[str, Type] = dict.fromkeys(("organization", "state", *COLUMNS), "text")
    body = stream_with_context(pieces("csv", columns, _rows(month)))
    name = f"statements-{month}.csv"
    return Response(body, mimetype="text/csv", headers={"Content-Disposition": f'attachment; filename="{name}"'})


def _rows(month: str) -> Iterator[tuple[Any, ...]]:
    offered = _offered()
    everybody = db().exec(select(Organization).order_by(col(Organization.name))).all()
    for place in range(0, len(everybody), stating.TOGETHER):
        for owner, kept, body in stating.bodies(db(), offered, everybody[place : place + stating.TOGETHER], month):
            state = "issued" if kept is not None else "to be issued" if body["ended"] else "running"
            yield from ((owner.name, state, *row) for row in rows_of(body))


@pages.post("/<month>/issue-all")
@requires("subscribers")
def issue_all(month: str) -> Any:
    done: list[Issued] = []
    act(
        lambda: done.append(issuing.issue_all(db(), acting(), _offered(), _month(month))),
        lambda: _told(done[0], month),
    )
    return back_to("statements.index", month=month)


def _told(done: Issued, month: str) -> str:
    many = f"{done.many} statements of {month} are" if done.many != 1 else f"1 statement of {month} is"
    said = f"{many} issued, and can no longer be changed." if done.many else f"There was nothing to issue of {month}."
    if not done.left:
        return said
    named = ", ".join(done.left[:_NAMED]) + (f" and {len(done.left) - _NAMED} more" if len(done.left) > _NAMED else "")
    return f"{said} Left for you to look at, since a plan has no price any more: {named}."


@pages.get("/<organization>/<month>/")
@requires("see")
def page(organization: str, month: str) -> Any:
    owner = _organization(organization)
    ((_, kept, body),) = stating.bodies(db(), _offered(), [owner], _month(month))
    return render(
        "traffic/statements/statement.html",
        organization=owner,
        month=month,
        body=body,
        issued=kept,
        adjustments=stating.adjustments(db(), owner, month) if kept is None else [],
        may_change=may("subscribers") and kept is None,
        currencies=sorted({one["currency"] for one in body["costs"] if one["currency"]} | set(body["totals"]))
        or ["EUR"],
    )


@pages.get("/<organization>/<month>/statement.json")
@requires("see")
def as_json(organization: str, month: str) -> Any:
    return jsonify(_body(_organization(organization), month))


@pages.get("/<organization>/<month>/statement.csv")
@requires("see")
def as_csv(organization: str, month: str) -> Any:
    owner = _organization(organization)
    name = f"{owner.name}-{month}.csv"
    text = b"".join(pieces("csv", dict.fromkeys(COLUMNS, "text"), rows_of(_body(owner, month))))
    return Response(text, mimetype="text/csv", headers={"Content-Disposition": f'attachment; filename="{name}"'})


@pages.post("/<organization>/<month>/adjust")
@requires("subscribers")
def adjust(organization: str, month: str) -> Any:
    owner = _organization(organization)
    form = request.form
    act(
        lambda: issuing.adjust(db(), acting(), owner, _month(month), form.get("words", ""), form.get("amount", ""),
                               form.get("currency", "")),
        "The statement is adjusted.",
    )  # fmt: skip
    return back_to("statements.page", organization=organization, month=month)


@pages.post("/<organization>/<month>/take-back/<int:number>")
@requires("subscribers")
def take_back(organization: str, month: str, number: int) -> Any:
    owner = _organization(organization)
    act(lambda: issuing.take_back(db(), acting(), owner, _month(month), number), "The adjustment is withdrawn.")
    return back_to("statements.page", organization=organization, month=month)


@pages.post("/<organization>/<month>/issue")
@requires("subscribers")
def issue(organization: str, month: str) -> Any:
    owner = _organization(organization)
    act(
        lambda: issuing.issue(db(), acting(), _offered(), owner, _month(month)),
        f"The statement of {month} is issued, and can no longer be changed.",
    )
    return back_to("statements.page", organization=organization, month=month)
