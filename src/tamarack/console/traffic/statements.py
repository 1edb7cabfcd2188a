"""Statements: what each organization used in a month, and what it costs; issued once the month is over."""

from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, Response, abort, jsonify, request
from sqlmodel import col, select

from tamarack.console.page import act, acting, back_to, may, render, requires, running
from tamarack.core.traffic.statement import COLUMNS, Statement, month_of, rows_of
from tamarack.store.people.tables import Organization
from tamarack.store.statements import queries as stating
from tamarack.web.application import db
from tamarack.web.table_formats import pieces

pages = Blueprint("statements", __name__, url_prefix="/traffic/statements")


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


def _made(organization: Organization, month: str) -> Statement:
    return stating.statement(db(), running(stating.charged_in(db()))[1], organization, month)


def _body(organization: Organization, month: str) -> dict[str, Any]:
    """The month as it was issued, or as it stands now."""
    kept = stating.issued(db(), organization, _month(month))
    return kept.body if kept is not None else _made(organization, month).as_data()


@pages.get("/")
@requires("see")
def index() -> Any:
    months = stating.months(db())
    chosen = request.args.get("month", "")
    month = _month(chosen) if chosen else months[0] if months else f"{datetime.now(UTC):%Y-%m}"
    organizations = db().exec(select(Organization).order_by(col(Organization.title))).all()
    found = []
    for one in organizations:
        kept = stating.issued(db(), one, month)
        found.append((one, kept, kept.body if kept is not None else _made(one, month).as_data()))
    return render("traffic/statements/statements.html", months=months, month=month, found=found)


@pages.get("/<organization>/<month>/")
@requires("see")
def page(organization: str, month: str) -> Any:
    owner = _organization(organization)
    kept = stating.issued(db(), owner, _month(month))
    body = kept.body if kept is not None else _made(owner, month).as_data()
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
        lambda: stating.adjust(db(), acting(), owner, _month(month), form.get("words", ""), form.get("amount", ""),
                               form.get("currency", "")),
        "The statement is adjusted.",
    )  # fmt: skip
    return back_to("statements.page", organization=organization, month=month)


@pages.post("/<organization>/<month>/take-back/<int:number>")
@requires("subscribers")
def take_back(organization: str, month: str, number: int) -> Any:
    owner = _organization(organization)
    act(lambda: stating.take_back(db(), acting(), owner, _month(month), number), "The adjustment is withdrawn.")
    return back_to("statements.page", organization=organization, month=month)


@pages.post("/<organization>/<month>/issue")
@requires("subscribers")
def issue(organization: str, month: str) -> Any:
    owner = _organization(organization)
    made = _made(owner, _month(month))
    act(
        lambda: stating.issue(db(), acting(), made, owner),
        f"The statement of {month} is issued, and can no longer be changed.",
    )
    return back_to("statements.page", organization=organization, month=month)
