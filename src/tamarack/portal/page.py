"""What every page of the portal needs: who is signed in, their organization, and what is offered to them.

The portal reads what runs, never the draft, so that it cannot promise what the gateway does not do; and of that only
what the reader may see, so that a page has nothing else to show.
"""

from collections.abc import Callable
from functools import lru_cache, wraps
from typing import Any, TypeVar, cast

from flask import abort, flash, g, redirect, render_template, request, url_for
from werkzeug.wrappers import Response

from tamarack.core.configuration.audience import STRANGER, Viewer
from tamarack.core.configuration.model import Api, Configuration, Version
from tamarack.core.configuration.seen import seen_by
from tamarack.core.identity.permissions import person_may
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications import sharing
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import Actor
from tamarack.store.people.tables import Organization, Person
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.tables import Rollout
from tamarack.web.application import actor, db, environments
from tamarack.web.changing import make_change
from tamarack.web.people.own_password import FORM as CHANGE_PASSWORD
from tamarack.web.people.signed_in import who_is

View = TypeVar("View", bound=Callable[..., Any])


def me() -> Person | None:
    """Who is signed in, or None."""
    if "person" not in g:
        g.person = who_is(Person)
    return cast(Person | None, g.person)


def reader() -> Person:
    """Who is signed in, on pages that ask for it."""
    person = me()
    assert person is not None
    return person


def my_organization() -> Organization:
    """The organization of whoever is signed in."""
    organization = db().get(Organization, reader().organization_id)
    assert organization is not None
    return organization


def acting() -> Actor:
    """Who is signed in, for the audit log."""
    return actor(reader().email)


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
    """An application that the reader looks after; any other is as if it were not there."""
    application = db().get(Application, id)
    person = me()
    if application is None or person is None or not sharing.looks_after(db(), person, application):
        abort(404, "There is no such application in your organization, or it is not shared with you.")
    return application


def viewer() -> Viewer:
    """Whoever looks, as the rules of who sees what know them."""
    if "viewer" not in g:
        g.viewer = subscribers.viewer_of(db(), my_organization()) if me() is not None else STRANGER
    return cast(Viewer, g.viewer)


@lru_cache(maxsize=8)
def _configuration(mark: rolling.Mark) -> Configuration:
    rollout = db().get(Rollout, mark.number)
    return Configuration.model_validate(rollout.configuration) if rollout is not None else Configuration()


@lru_cache(maxsize=128)
def _seen(mark: rolling.Mark, viewer: Viewer) -> Configuration:
    rollout = db().get(Rollout, mark.number)
    return seen_by(_configuration(mark), viewer, rolling.closed_since(rollout) if rollout is not None else None)


def _running(environment: str, viewer: Viewer) -> Configuration:
    marks: dict[str, rolling.Mark | None] = g.setdefault("rollouts", {})
    if environment not in marks:
        marks[environment] = rolling.running_mark(db(), environment)
    mark = marks[environment]
    return _seen(mark, viewer) if mark is not None else Configuration()


def offered(environment: str) -> Configuration:
    """What runs in an environment and the reader sees, what their organization is subscribed to among it."""
    return _running(environment, viewer())


def offered_live() -> Configuration:
    """What is offered to the reader in the live environment: the catalogue."""
    return offered(environments().live)


def open_to_me(environment: str) -> Configuration:
    """What the reader may newly subscribe to: what they would see without any subscription."""
    return _running(environment, viewer().without_holdings())


def open_environments(api: str) -> list[str]:
    """The environments in which an API is offered in some product, the live one last."""
    return [one for one in environments().on_portal if open_to_me(one).products_with(api)]


def environments_for(application: Application) -> tuple[str, ...]:
    """The environments that an application's people make credentials and clients for: those on the portal, and those
    that the platform team subscribed it to."""
    held = {one.environment for one in subscribers.subscriptions_of(db(), application) if one.state != "ended"}
    there = environments()
    return tuple(one for one in there if one in held or one in there.on_portal)


def shown_version(api: str, version: str) -> tuple[Api, Version]:
    """A version that the reader may see, or 404."""
    found = offered_live().api(api)
    inside = found.version(version) if found is not None else None
    if found is None or inside is None:
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
        template,
        me=person,
        organization=my_organization() if person is not None else None,
        may=lambda action: person is not None and person_may(person.role, action),
        **values,
    )


def act(change: Callable[[], Any], said: str | Callable[[], str]) -> bool:
    """Make a change and keep it, and say so; or undo it and say why it cannot be. Returns whether it was made."""
    return make_change(db(), change, said)


def back_to(endpoint: str, **values: Any) -> Response:
    """See another page after a change (RFC 9110, 303)."""
    return redirect(url_for(endpoint, **values), code=303)
