"""The portal's application."""

from pathlib import Path

from flask import Flask

from tamarack.portal import (
    applications,
    branding,
    catalogue,
    credentials,
    joining,
    notices,
    own_password,
    reasons,
    reference,
    sharing,
    sign_in,
    subscribe,
    team,
    trying,
    usage,
)
from tamarack.settings import Settings
from tamarack.store.branding import look_of
from tamarack.web.application import db, make_application

BLUEPRINTS = (
    sign_in.pages,
    joining.pages,
    own_password.pages,
    branding.pages,
    catalogue.pages,
    reference.pages,
    trying.pages,
    subscribe.pages,
    applications.pages,
    sharing.pages,
    usage.pages,
    credentials.pages,
    notices.pages,
    team.pages,
    reasons.pages,
)


def make_app(settings: Settings | None = None) -> Flask:
    """The portal, ready to serve."""
    app = make_application("tamarack.portal", "portal", settings or Settings(), Path(__file__).parent / "templates")
    for pages in BLUEPRINTS:
        app.register_blueprint(pages)
    app.context_processor(lambda: {"look": look_of(db())})
    return app
