"""The console's application."""

from pathlib import Path

from flask import Flask

from tamarack.console import (
    alerts,
    announcements,
    apis,
    backends,
    bench,
    boards,
    browser,
    credentials,
    documentation,
    explaining,
    exploring,
    exports,
    finding,
    handing_over,
    imports,
    limits,
    on_behalf,
    overview,
    own_password,
    plans,
    policies,
    portal_look,
    requests,
    rollouts,
    saved,
    secrets,
    seeing,
    sign_in,
    signing,
    statements,
    subscriber_lists,
    subscribers,
    team,
    traces,
    traffic,
    try_limit,
)
from tamarack.settings import Settings
from tamarack.web.application import make_application

BLUEPRINTS = (
    sign_in.pages,
    own_password.pages,
    overview.pages,
    apis.pages,
    documentation.pages,
    imports.pages,
    policies.pages,
    bench.pages,
    saved.pages,
    browser.pages,
    explaining.pages,
    backends.pages,
    limits.pages,
    try_limit.pages,
    plans.pages,
    subscribers.pages,
    subscriber_lists.pages,
    requests.pages,
    announcements.pages,
    on_behalf.pages,
    seeing.pages,
    credentials.pages,
    traffic.pages,
    exploring.pages,
    boards.pages,
    alerts.pages,
    statements.pages,
    handing_over.pages,
    traces.pages,
    rollouts.pages,
    team.pages,
    portal_look.pages,
    exports.pages,
    secrets.pages,
    signing.pages,
    finding.pages,
)


def make_app(settings: Settings | None = None) -> Flask:
    """The console, ready to serve."""
    app = make_application("tamarack.console", "console", settings or Settings(), Path(__file__).parent / "templates")
    for pages in BLUEPRINTS:
        app.register_blueprint(pages)
    return app
