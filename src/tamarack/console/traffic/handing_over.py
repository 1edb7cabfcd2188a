"""Handing over: what a page shows, as a file; at once where it is short, with progress where it is long."""

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from flask import Blueprint, Response, abort, current_app, request, send_file
from sqlmodel import Session

from tamarack.console.page import act, acting, back_to, me, render, requires
from tamarack.console.traffic.explore import answered
from tamarack.console.traffic.pages import columns, listed
from tamarack.console.traffic.question import asked, within_environment
from tamarack.core.traffic.explore import OTHER
from tamarack.core.traffic.fields import CALL_FIELDS
from tamarack.store.handed_over import queries as handing
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic.explorations import Explored
from tamarack.web.application import db, settings_of
from tamarack.web.pictures.exploration_picture import lengths
from tamarack.web.table_formats import FORMS, Type, pieces

pages = Blueprint("handing_over", __name__, url_prefix="/traffic/hand-over")


def _known(form: str) -> str:
    if form not in FORMS:
        abort(404, f"What is shown is handed over as {', '.join(FORMS)}.")
    return form


def _as_file(form: str, name: str, body: Iterator[bytes]) -> Response:
    fields = {"Content-Disposition": f'attachment; filename="{name}.{form}"'}
    return Response(body, mimetype=FORMS[form], headers=fields)


@pages.get("/exploration.<form>")
@requires("see")
def exploration(form: str) -> Any:
    """A row for each group and moment of an exploration."""
    _known(form)
    question, errors = asked()
    if errors:
        abort(422, "; ".join(errors.values()))
    explored = answered(question)
    named: dict[str, Type] = {"start": "moment"}
    for name in question.split:
        named[name] = "text"
    named["calls"] = "integer"
    if question.measure != "calls":
        named[question.measure] = "number"
    return _as_file(form, "exploration", pieces(form, named, _moments(explored)))


def _moments(explored: Explored) -> Iterator[list[Any]]:
    question = explored.exploration
    measure, seconds = question.measured, lengths(explored, datetime.now(UTC))
    for group in explored.groups:
        key = group.key if group.key is not None else (OTHER,) * len(question.split)
        key = key[: len(question.split)]
        for time, point, length in zip(explored.times, group.points, seconds, strict=True):
            value = measure.of(point, length)
            counted = (
                [point.calls] if question.measure == "calls" else [point.calls, None if value is None else float(value)]
            )
            yield [time, *key, *counted]


@pages.get("/calls.<form>")
@requires("see")
def calls(form: str) -> Any:
    """The calls of a list: at once where they are few enough, else as a file with progress."""
    _known(form)
    where, first, last, _, errors = listed()
    if errors:
        abort(422, "; ".join(errors.values()))
    wanted = watching.CallFilter(within_environment(where), first, last)
    names = list(CALL_FIELDS) if request.args.get("all") == "yes" else columns()
    otel = request.args.get("names") == "otel"
    many = watching.count_calls(db(), wanted)
    if many > handing.AT_ONCE:
        act(
            lambda: handing.ask(db(), acting(), form, wanted, names, otel, many),
            f"A file of {many:,} calls is being made; you can leave this page meanwhile.",
        )
        return back_to("handing_over.files")
    engine = current_app.extensions["tamarack_engine"]
    return _as_file(form, "calls", pieces(form, handing.columns_of(names, otel), _rows(engine, wanted, names)))


def _rows(engine: Any, wanted: watching.CallFilter, names: list[str]) -> Iterator[Any]:
    """In a session of its own: the request's ends before the last piece is sent."""
    with Session(engine) as session:
        yield from handing.rows_of(session, wanted, names)


@pages.get("/files")
@requires("see")
def files() -> Any:
    template = "traffic/files/files_table.html" if request.args.get("part") == "table" else "traffic/files/files.html"
    return render(template, files=handing.mine(db(), _me()), kept=handing.KEPT.days)


def _me() -> str:
    staff = me()
    assert staff is not None
    return staff.email


@pages.get("/files/<id>")
@requires("see")
def file(id: str) -> Any:
    made = handing.my_file(db(), _me(), id)
    place = handing.place_of(settings_of(current_app).home, made) if made is not None else None
    if made is None or made.state != "ready" or place is None or not place.exists():
        abort(404, "There is no such file of yours, or it is not ready yet; files are kept for some days.")
    return send_file(place.resolve(), mimetype=FORMS[made.form], as_attachment=True, download_name=f"calls.{made.form}")


@pages.post("/files/<id>/stop")
@requires("see")
def stop(id: str) -> Any:
    made = handing.my_file(db(), _me(), id)
    if made is None:
        abort(404, "There is no such file of yours.")
    act(lambda: handing.stop(db(), made), "No more is made of the file.")
    return back_to("handing_over.files")
