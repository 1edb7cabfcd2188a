"""Settings of the portal's look: name, logo, colours with their contrast, front page, links."""

from typing import Any

from flask import Blueprint, Response, abort, request
from pydantic import ValidationError

from tamarack.console.page import acting, back_to, done, render, requires
from tamarack.core.portal.branding import Look, preview_of, problems
from tamarack.core.portal.contrast import LEAST
from tamarack.core.types import problems_of
from tamarack.store.errors import NotPossible
from tamarack.store.portal.branding import look_of, set_look
from tamarack.store.portal.picture import Picture, keep_picture
from tamarack.web.application import db
from tamarack.web.markdown import to_html
from tamarack.web.pictures.upload import read_picture

pages = Blueprint("portal_look", __name__, url_prefix="/settings/portal")

TEXTS = ("name", "front_title", "front_text", "links")
COLOURS = tuple(f"{theme}.{part}" for theme in ("light", "dark") for part in ("ground", "ink", "accent"))
LOGO = (480, 96)


def _typed(look: Look) -> dict[str, str]:
    shown = {"name": look.name, "front_title": look.front_title, "front_text": look.front_text}
    shown["links"] = "\n".join(map(str, look.links))
    for name in COLOURS:
        theme, _, part = name.partition(".")
        shown[name] = getattr(getattr(look, theme), part)
    return shown


def _page(typed: dict[str, str], errors: dict[str, str], shown: Look) -> str:
    previews = [("light", preview_of(shown.light)), ("dark", preview_of(shown.dark))]
    return render("team/portal.html", tab="portal", typed=typed, errors=errors, look=shown, previews=previews,
                  least=LEAST, front=to_html(shown.front_text))  # fmt: skip


@pages.get("/")
@requires("see")
def page() -> Any:
    look = look_of(db())
    return _page(_typed(look), {}, look)


@pages.post("/")
@requires("staff")
def change() -> Any:
    """Look at it, or keep it; nothing is kept whose text could not be read."""
    kept = look_of(db())
    typed = {name: request.form.get(name, "").strip() for name in (*TEXTS, *COLOURS)}
    data: dict[str, Any] = {name: typed[name] for name in ("name", "front_title", "front_text")}
    data["front_text"] = data["front_text"].replace("\r\n", "\n")
    data["links"] = [line.strip() for line in typed["links"].splitlines() if line.strip()]
    for theme in ("light", "dark"):
        data[theme] = {part: typed[f"{theme}.{part}"] for part in ("ground", "ink", "accent")}
    data["logo"] = "" if request.form.get("no_logo") else kept.logo
    upload = request.files.get("logo")
    try:
        look = Look.model_validate(data)
        if upload is not None and upload.filename:
            look = look.model_copy(update={"logo": keep_picture(db(), read_picture(upload, *LOGO, "logo"))})
    except ValidationError as error:
        return _page(typed, _errors(problems_of(error)), kept), 422
    except NotPossible as error:
        db().rollback()
        return _page(typed, {error.field: str(error)}, kept), 422
    wrong = _errors(problems(look))
    if wrong or request.form.get("act") == "preview":
        db().rollback()
        return _page(typed, wrong, look), 422 if wrong else 200
    set_look(db(), acting(), look)
    db().commit()
    done("The portal has its new look.")
    return back_to("portal_look.page")


def _errors(found: Any) -> dict[str, str]:
    errors: dict[str, str] = {}
    for problem in found:
        path = [str(part) for part in problem.path]
        name = ".".join(path[:2]) if path and path[0] in ("light", "dark") else path[0] if path else "name"
        errors.setdefault(name, problem.message)
    return errors


@pages.get("/logo.png")
@requires("see")
def logo() -> Any:
    found = db().get(Picture, look_of(db()).logo or "-")
    if found is None:
        abort(404, "There is no logo.")
    return Response(found.data, mimetype="image/png")
