"""Explore: one question of the traffic at a time, held by the address; a mark narrows it, the back button undoes."""

from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, abort, request, url_for

from tamarack.console.page import act, acting, back_to, environment, me, render, requires
from tamarack.console.traffic.question import asked, here, typed_where
from tamarack.core.identity.permissions import ROLE_TITLES, STAFF_ROLES
from tamarack.core.traffic.explore import AGAINST, MEASURES, MOST_SPLITS, PICTURES, SPLITS, Exploration
from tamarack.core.traffic.fields import CALL_FIELDS
from tamarack.core.traffic.span import SPANS, STEPS
from tamarack.store.alerts import queries as alerting
from tamarack.store.boards import queries as boards
from tamarack.store.traffic import explorations as exploring
from tamarack.store.traffic.explorations import Explored, explore
from tamarack.web.application import db
from tamarack.web.pictures.charts import Happened
from tamarack.web.pictures.exploration_picture import Row, moments, picture, rows
from tamarack.web.pictures.traffic import happened

pages = Blueprint("exploring", __name__, url_prefix="/traffic/explore")

HOWS = ("is", "is not", "starts with", "contains", "from")
OFFERED = {name: words for name, words in SPLITS.items() if name != "id"}


def answered(exploration: Exploration) -> Explored:
    """The answer, as of now."""
    return explore(db(), here(exploration), datetime.now(UTC))


def address(exploration: Exploration, **changes: Any) -> str:
    """Where an exploration stands, with some of it changed."""
    return url_for("exploring.page", **{**exploration.query(), **changes})


def calls_of(exploration: Exploration, first: datetime, last: datetime) -> str:
    """Where the calls behind an exploration are listed."""
    where = [str(one) for one in exploration.where]
    return url_for("traffic.calls", where=where, first=first.isoformat(), last=last.isoformat())


def narrower(exploration: Exploration, row: Row) -> str:
    """Where a group's mark leads: the same question of its calls alone."""
    if not row.key or len(row.key) != len(exploration.split):
        return ""  # all others together, or a picture of all calls
    return address(exploration.narrowed(dict(zip(exploration.split, row.key, strict=True))))


BESIDE = {"calls": "calls", "error share": "refused and failed", "mean": "mean time"}
"""What the table says of each group beside the measure, where that is not the measure itself."""


@pages.get("/")
@requires("see")
def page() -> Any:
    exploration, errors = asked()
    explored = answered(exploration)
    where = exploration.where
    found = rows(explored)
    mine = boards.saved(db(), me().email, me().role)  # type: ignore[union-attr]
    opened = next((one for one in mine if one.id == request.args.get("saved")), None)
    return render(
        "traffic/explore.html",
        exploration=exploration,
        explored=explored,
        errors=errors,
        typed=typed_where()[-1] if "where" in errors else "",
        measures=MEASURES,
        fields=OFFERED,
        all_fields=CALL_FIELDS,
        hows=HOWS,
        most_splits=MOST_SPLITS,
        spans=tuple(SPANS),
        steps=tuple(STEPS),
        against=AGAINST,
        pictures=PICTURES,
        chart=picture(
            explored, width=1224, height=250,
            link=lambda first, last: address(exploration.within(first, last), **_opened(opened)),
            happened=_happened(explored),
        ),
        drag=address(exploration, span="~first~/~last~", step=None),
        rows=[(row, narrower(exploration, row)) for row in found],
        without=[(one, address(exploration, where=[str(o) for o in where if o is not one])) for one in where],
        address=lambda **changes: address(exploration, **changes),
        calls=calls_of(exploration, explored.first, explored.last),
        hand_over=lambda form: url_for("handing_over.exploration", form=form, **exploration.query()),
        moments=moments(explored),
        watch=url_for("alerts.new", measure=exploration.measure, where=[str(one) for one in where]),
        nothing=not any(row.calls for row in found),
        beside=[(name, words) for name, words in BESIDE.items() if name != exploration.measure],
        own_boards=[board for board, row in boards.boards(db(), me().email, me().role)  # type: ignore[union-attr]
                    if row is not None and row.owner == me().email],  # type: ignore[union-attr]
        saved=mine,
        opened=opened,
        roles=[(role, ROLE_TITLES[role]) for role in STAFF_ROLES],
    )  # fmt: skip


def _happened(explored: Explored) -> list[Happened]:
    """Where alerts of the environment were raised."""
    raised = alerting.raised_between(db(), explored.first, explored.last)
    return happened(raised, environment(), explored.last)


def _opened(one: Any) -> dict[str, str]:
    return {"saved": one.id} if one is not None else {}


@pages.get("/suggest")
@requires("see")
def suggest() -> Any:
    """Conditions that go on like what was typed: fields first, then the values that they have in the traffic."""
    typed = (request.args.getlist("where") or [""])[-1][:200]
    return render("traffic/suggestions.html", found=suggestions(typed))


def suggestions(typed: str) -> list[str]:
    """At most some dozens of conditions, for the words typed so far."""
    start = typed.lstrip().lower()
    field = next((name for name in sorted(CALL_FIELDS, key=len, reverse=True) if start.startswith(f"{name} ")), "")
    if not field or field == "time":
        return [f"{name} is " for name in CALL_FIELDS if name.startswith(start) and name != "time"]
    rest = start.removeprefix(field).lstrip()
    how = next((one for one in ("is not", "is", "starts with", "contains") if rest.startswith(f"{one} ")), "")
    if not how:
        kinds = ("is", "is not", "from") if CALL_FIELDS[field].kind != "text" else HOWS[:4]
        return [f"{field} {one} " for one in kinds if one.startswith(rest)]
    named, _, last = typed.lstrip()[len(field) :].lstrip()[len(how) :].strip().rpartition(",")
    values = exploring.values_of(db(), field, last.strip())
    before = f"{named}, " if named else ""
    return [f"{field} {how} {before}{_quoted(value)}" for value in values]


def _quoted(value: str) -> str:
    if not value:
        return "none"
    return '"' + value.replace('"', '""') + '"' if "," in value or '"' in value else value


@pages.post("/save")
@requires("see")
def save() -> Any:
    exploration, errors = asked()
    if errors:
        abort(422, "; ".join(errors.values()))
    kept: list[str] = []

    def change() -> None:
        one = boards.save_exploration(
            db(), acting(), request.form.get("title", ""), exploration, request.form.getlist("roles"),
            request.form.get("id", ""),
        )  # fmt: skip
        kept.append(one.id)

    act(change, "The exploration is saved.")
    return back_to("exploring.page", **exploration.query(), **({"saved": kept[0]} if kept else {}))


@pages.get("/saved/<id>")
@requires("see")
def open_saved(id: str) -> Any:
    staff = me()
    assert staff is not None
    found = boards.saved_one(db(), id, staff.email, staff.role)
    if found is None:
        abort(404, "There is no such exploration, or it is not shared with you.")
    return back_to("exploring.page", **Exploration.model_validate(found.question).query(), saved=id)


@pages.post("/saved/<id>/remove")
@requires("see")
def remove(id: str) -> Any:
    titles: list[str] = []
    act(
        lambda: titles.append(boards.remove_exploration(db(), acting(), id)),
        lambda: f"{titles[0]} is removed. Boards that show it keep their own copy.",
    )
    return back_to("exploring.page")


__all__ = ["address", "answered", "calls_of", "environment", "pages"]
