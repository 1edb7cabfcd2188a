"""What every page of the portal needs: who is signed in, their organization, and what is offered.

The portal reads what runs, never the draft, so that it cannot promise what the gateway does not do.
"""

from collections.abc import Callable
from functools import lru_cache, wraps
from typing import Any, TypeVar, cast

from flask import abort, current_app, flash, g, redirect, render_template, request, session, url_for
from werkzeug.wrappers import Response

from tamarack.core.configuration import Api, Configuration, Version
from tamarack.core.environments import ENVIRONMENTS
from tamarack.core.permissions import person_may
from tamarack.store import rolling
from tamarack.store.application import Application
from tamarack.store.auditing import Actor
from tamarack.store.organization import Organization, Person
from tamarack.store.rollout import Rollout
from tamarack.web.application import actor, db
from tamarack.web.own_password import FORM as CHANGE_PASSWORD

View = TypeVar("View", bound=Callable[..., Any])

SHOWN_STATES = ("preview", "published", "deprecated")
"""The states of a version that developers see."""


def me() -> Person | None:
    """Who is signed in, or None."""
    if "person" not in g:
        person = db().get(Person, session["person"]) if "person" in session else None
        if person is not None and (not person.active or session.get("epoch") != person.session_epoch):
            person = None
        g.person = person
    return cast(Person | None, g.person)


def my_organization() -> Organization:
    """The organization of whoever is signed in."""
    person = me()
    assert person is not None
    organization = db().get(Organization, person.organization_id)
    assert organization is not None
    return organization


def acting() -> Actor:
    """Who is signed in, for the audit log."""
    person = me()
    assert person is not None
    return actor(person.email)


def requires(action: str, must_change: bool = False) -> Callable[[View], View]:
    """Lets a view be used only by those who may do `action` in their organization.

    Those who have to change their password first are sent to do so, but for a view that says `must_change`.
    """

    def decorate(view: View) -> View:
        @wraps(view)
        def guarded(*args: Any, **kwargs: Any) -> Any:
            person = me()
            if person is None:
                return redirect(url_for("sign_in.form", next=request.full_path if request.method == "GET" else "/"))
            if person.must_change_password and not must_change:
                return redirect(url_for(CHANGE_PASSWORD))
            if not person_may(person.role, action):
                abort(403, "Your role in the organization may not do this; a lead can.")
            return view(*args, **kwargs)

        guarded.permission = action  # type: ignore[attr-defined]
        return cast(View, guarded)

    return decorate


def my_application(id: str) -> Application:
    """An application of the own organization; any other is as if it were not there."""
    application = db().get(Application, id)
    person = me()
    if application is None or person is None or application.organization_id != person.organization_id:
        abort(404, "There is no such application in your organization.")
    return application


@lru_cache(maxsize=8)
def _configuration(number: int, engine: int) -> Configuration:
    rollout = db().get(Rollout, number)
    return Configuration.model_validate(rollout.configuration) if rollout is not None else Configuration()


def offered(environment: str) -> Configuration:
    """What runs in an environment."""
    rollout = rolling.running(db(), environment)
    if rollout is None or rollout.number is None:
        return Configuration()
    return _configuration(rollout.number, id(current_app.extensions["tamarack_engine"]))


def open_environments(api: str) -> list[str]:
    """The environments in which an API is offered in some product, production last."""
    return [one for one in ENVIRONMENTS if offered(one).products_with(api)]


def shown_version(api: str, version: str) -> tuple[Api, Version]:
    """A version that developers may see, or 404."""
    found = offered("production").api(api)
    inside = found.version(version) if found is not None else None
    if found is None or inside is None or inside.state not in SHOWN_STATES:
        abort(404, "There is no such API here.")
    return found, inside


def done(text: str) -> None:
    """Say on the next page what was done."""
    flash(text, "done")


def refuse(text: str) -> None:
    """Say on the next page what was not done, and why."""
    flash(text, "bad")


def render(template: str, **values: Any) -> str:
    """A page, with what its head shows."""
    person = me()
    return render_template(
        template, me=person, organization=my_organization() if person is not None else None, **values
    )


def back_to(endpoint: str, **values: Any) -> Response:
    """See another page after a change (RFC 9110, 303)."""
    return redirect(url_for(endpoint, **values), code=303)
