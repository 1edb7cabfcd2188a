"""The console's application."""

from pathlib import Path

from flask import Flask

from tamarack.console import (
    apis,
    backends,
    finding,
    imports,
    overview,
    plans,
    policies,
    rollouts,
    sign_in,
    subscribers,
    team,
    traffic,
)
from tamarack.settings import Settings
from tamarack.web.application import make_application

BLUEPRINTS = (
    sign_in.pages,
    overview.pages,
    apis.pages,
    imports.pages,
    policies.pages,
    backends.pages,
    plans.pages,
    subscribers.pages,
    traffic.pages,
    rollouts.pages,
    team.pages,
    finding.pages,
)


def make_app(settings: Settings | None = None) -> Flask:
    """The console, ready to serve."""
    app = make_application("tamarack.console", "console", settings or Settings(), Path(__file__).parent / "templates")
    for pages in BLUEPRINTS:
        app.register_blueprint(pages)
    return app
