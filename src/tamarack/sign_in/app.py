"""The sign-in service's application."""

from pathlib import Path

from flask import Flask
from flask_wtf.csrf import CSRFProtect

from tamarack.settings import Settings
from tamarack.sign_in import by_mail, codes, door, leaving, mine
from tamarack.sign_in.protocol import authorize, device, endpoints
from tamarack.sign_in.protocol.server import make_server
from tamarack.store.portal.branding import look_of
from tamarack.web.application import db, make_application
from tamarack.web.pictures import look


def make_app(settings: Settings | None = None) -> Flask:
    """The sign-in service, ready to serve. Each directory is an issuer under its own path."""
    app = make_application("tamarack.sign_in", "sign-in", settings or Settings(), Path(__file__).parent)
    app.extensions["tamarack_oauth"] = make_server()
    every = (door, authorize, by_mail, codes, device, endpoints, leaving, mine)
    for pages in (one.pages for one in every):
        app.register_blueprint(pages)
    app.register_blueprint(look.pages)
    app.context_processor(lambda: {"look": look_of(db())})
    protect: CSRFProtect = app.extensions["csrf"]
    for program in (
        endpoints.pages,
        door.programs,
        leaving.programs,
    ):  # asked by programs, which carry no cookie of ours
        protect.exempt(program)
    app.register_blueprint(door.programs)
    app.register_blueprint(leaving.programs)
    return app
