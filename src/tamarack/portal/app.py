"""The portal's application."""

from pathlib import Path

from flask import Flask

from tamarack.portal import notices, pictures, reasons
from tamarack.portal.applications import clients, credentials, sharing, usage, walk_through
from tamarack.portal.applications import pages as applications
from tamarack.portal.catalogue import exploring, feedback, reference, subscribe, talking, trying
from tamarack.portal.catalogue import pages as catalogue
from tamarack.portal.door import own_password, sign_in
from tamarack.portal.joining import pages as joining
from tamarack.portal.joining import team
from tamarack.settings import Settings
from tamarack.store.portal.branding import look_of
from tamarack.web.application import db, make_application
from tamarack.web.pictures import look

BLUEPRINTS = (
    sign_in.pages,
    joining.pages,
    own_password.pages,
    look.pages,
    pictures.pages,
    catalogue.pages,
    reference.pages,
    trying.pages,
    talking.pages,
    exploring.pages,
    feedback.pages,
    subscribe.pages,
    applications.pages,
    sharing.pages,
    usage.pages,
    credentials.pages,
    clients.pages,
    walk_through.pages,
    notices.pages,
    team.pages,
    reasons.pages,
)


def make_app(settings: Settings | None = None) -> Flask:
    """The portal, ready to serve."""
    app = make_application("tamarack.portal", "portal", settings or Settings(), Path(__file__).parent)
    for pages in BLUEPRINTS:
        app.register_blueprint(pages)
    app.context_processor(lambda: {"look": look_of(db())})
    return app
