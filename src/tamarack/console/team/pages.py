"""Settings: the team's people and roles, the audit log, the configuration as files, and the settings in force."""

import io
import zipfile
from typing import Any

from flask import Blueprint, Response, abort, current_app, request
from sqlmodel import col, select

from tamarack.config.exchange import draft_files
from tamarack.console.page import acting, back_to, done, draft, me, refuse, render, requires
from tamarack.core.identity.permissions import ROLE_TITLES, STAFF_ROLES
from tamarack.settings import Settings
from tamarack.store.audit import log as auditing
from tamarack.store.people.passwords import hash_password
from tamarack.store.people.staff import Staff
from tamarack.web.application import db, settings_of
from tamarack.web.numbers import whole
from tamarack.web.people.accounts import read_account

pages = Blueprint("team", __name__, url_prefix="/settings")


def _page(typed: dict[str, str], errors: dict[str, str]) -> str:
    people = db().exec(select(Staff).order_by(col(Staff.name))).all()
    return render("team/people.html", tab="people", people=people, roles=STAFF_ROLES, titles=ROLE_TITLES,
                  typed=typed, errors=errors)  # fmt: skip


@pages.get("/")
@requires("see")
def people() -> Any:
    return _page({}, {})


@pages.post("/people")
@requires("staff")
def add() -> Any:
    form = read_account(request.form, STAFF_ROLES)
    typed = form.typed
    if db().exec(select(Staff).where(Staff.email == typed["email"])).first() is not None:
        form.errors["email"] = f"{typed['email']} has an account already"
    if form.errors:
        return _page(typed, form.errors), 422
    hashed = hash_password(form.password)
    db().add(
        Staff(
            email=typed["email"],
            name=typed["name"],
            role=typed["role"],
            password_hash=hashed,
            must_change_password=True,
        )
    )
    auditing.record(db(), acting(), "add staff", typed["email"], role=typed["role"])
    db().commit()
    done(f"{typed['name']} can sign in to the console, and will choose their own password first.")
    return back_to("team.people")


@pages.post("/people/<id>")
@requires("staff")
def change(id: str) -> Any:
    staff = db().get(Staff, id)
    if staff is None:
        abort(404, "There is no such person.")
    role, active = request.form.get("role", staff.role), request.form.get("active", "yes") == "yes"
    mine = me()
    if mine is not None and mine.id == id:
        refuse("You cannot change your own role; ask another platform admin.")
        return back_to("team.people")
    if role not in STAFF_ROLES:
        abort(400, f"{role!r} is not a role.")
    staff.role, staff.active = role, active
    staff.session_epoch += 1
    auditing.record(db(), acting(), "change staff", staff.email, role=role, active=active)
    db().add(staff)
    db().commit()
    done(f"{staff.name} is {ROLE_TITLES[role]}{'' if active else ', and may not sign in'}.")
    return back_to("team.people")


@pages.get("/audit")
@requires("audit")
def audit() -> Any:
    before = request.args.get("before", "")
    entries = auditing.latest(db(), before=whole(before), most=51)
    return render("team/audit.html", tab="audit log", entries=entries[:50], more=len(entries) > 50)


@pages.get("/installation")
@requires("see")
def installation() -> Any:
    rows = [
        (f"TAMARACK_{name.upper()}", getattr(settings_of(current_app), name), field.description)
        for name, field in Settings.model_fields.items()
        if name != "database_url"
    ]
    return render("team/installation.html", tab="installation", rows=rows)


@pages.get("/export")
@requires("see")
def export() -> Any:
    """The draft as a ZIP of its files."""
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, text in draft_files(db(), draft()).items():
            archive.writestr(name, text)
    auditing.record(db(), acting(), "export", "draft")
    db().commit()
    fields = {"Content-Disposition": 'attachment; filename="tamarack-draft.zip"'}
    return Response(packed.getvalue(), mimetype="application/zip", headers=fields)
