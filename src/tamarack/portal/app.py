"""The portal's application."""

from pathlib import Path

from flask import Flask

from tamarack.portal import (
    applications,
    catalogue,
    credentials,
    joining,
    own_password,
    reasons,
    reference,
    sign_in,
    team,
)
from tamarack.settings import Settings
from tamarack.web.application import make_application

BLUEPRINTS = (
    sign_in.pages,
    joining.pages,
    own_password.pages,
    catalogue.pages,
    reference.pages,
    applications.pages,
    credentials.pages,
    team.pages,
    reasons.pages,
)


def make_app(settings: Settings | None = None) -> Flask:
    """The portal, ready to serve."""
    app = make_application("tamarack.portal", "portal", settings or Settings(), Path(__file__).parent / "templates")
    for pages in BLUEPRINTS:
        app.register_blueprint(pages)
    return app
