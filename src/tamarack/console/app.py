"""The console's application."""

from collections.abc import Sequence
from pathlib import Path
from typing import Any

from flask import Flask, url_for

from tamarack.console.apis import answers, chat, documentation, graphql, guide, imports, placing, policies
from tamarack.console.apis import pages as apis
from tamarack.console.backends import pages as backends
from tamarack.console.bench import browser, saved, traces
from tamarack.console.bench import explain as explaining
from tamarack.console.bench import pages as bench
from tamarack.console.directories import clients as sign_in_clients
from tamarack.console.directories import log as sign_in_log
from tamarack.console.directories import pages as directories
from tamarack.console.directories import users as directory_users
from tamarack.console.door import own_password, sign_in
from tamarack.console.environments import comparing as comparing_environments
from tamarack.console.environments import pages as environments
from tamarack.console.finding import pages as finding
from tamarack.console.graph import explorer as graph_explorer
from tamarack.console.graph import pages as graph
from tamarack.console.graph import views as rest_views
from tamarack.console.kept import pages as kept
from tamarack.console.kept import prompts
from tamarack.console.kinds import pages as kinds
from tamarack.console.life_cycle import answering, comparing, editing, new_version, redescribing, versions, writing
from tamarack.console.limits import pages as limits
from tamarack.console.limits import try_limit
from tamarack.console.misfits import pages as misfits
from tamarack.console.nodes import adding as adding_nodes
from tamarack.console.nodes import pages as nodes
from tamarack.console.overview import pages as overview
from tamarack.console.plans import pages as plans
from tamarack.console.prompts import pages as logged_prompts
from tamarack.console.rollouts import pages as rollouts
from tamarack.console.subscribers import announcements, credentials, on_behalf, requests, seeing
from tamarack.console.subscribers import lists as subscriber_lists
from tamarack.console.subscribers import pages as subscribers
from tamarack.console.team import exports, portal_look, secrets, signing
from tamarack.console.team import pages as team
from tamarack.console.traffic import alerts, boards, handing_over, statements
from tamarack.console.traffic import explore as exploring
from tamarack.console.traffic import pages as traffic
from tamarack.settings import Settings
from tamarack.web.application import make_application
from tamarack.web.quick_start import pages as quick_start
from tamarack.web.rates import KINDS, WORDS, RateRow, rate_rows, to_try

BLUEPRINTS = (
    sign_in.pages,
    own_password.pages,
    overview.pages,
    apis.pages,
    documentation.pages,
    answers.pages,
    comparing.pages,
    new_version.pages,
    versions.pages,
    writing.pages,
    answering.pages,
    editing.pages,
    misfits.pages,
    redescribing.pages,
    imports.pages,
    chat.pages,
    graphql.pages,
    graph.pages,
    graph_explorer.pages,
    rest_views.pages,
    policies.pages,
    placing.pages,
    kinds.pages,
    guide.pages,
    bench.pages,
    saved.pages,
    browser.pages,
    explaining.pages,
    backends.pages,
    limits.pages,
    kept.pages,
    logged_prompts.pages,
    prompts.pages,
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
    nodes.pages,
    adding_nodes.pages,
    environments.pages,
    comparing_environments.pages,
    quick_start.pages,
    team.pages,
    portal_look.pages,
    exports.pages,
    secrets.pages,
    signing.pages,
    directories.pages,
    directory_users.pages,
    sign_in_clients.pages,
    sign_in_log.pages,
    finding.pages,
)


def _try_rates(rows: Sequence[RateRow]) -> str:
    """Where limits of a picker are tried."""
    values: dict[str, Any] = to_try(rows)
    return url_for("try_limit.page", **values)


def make_app(settings: Settings | None = None) -> Flask:
    """The console, ready to serve."""
    app = make_application("tamarack.console", "console", settings or Settings(), Path(__file__).parent)
    app.jinja_env.filters |= {"rate_rows": rate_rows, "try_rates": _try_rates}
    app.jinja_env.globals |= {"rate_words": WORDS, "rate_kinds": KINDS, "may_try": True}
    for pages in BLUEPRINTS:
        app.register_blueprint(pages)
    return app
