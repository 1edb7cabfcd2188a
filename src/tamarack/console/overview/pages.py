"""Overview: what runs, what waits, and how the traffic goes."""

from datetime import UTC, datetime, timedelta
from typing import Any

from flask import Blueprint, request

from tamarack.console.page import calls_between, draft, environment, pending, render, requires, running
from tamarack.console.subscribers.lists import waiting as waiting_requests
from tamarack.core.configuration.review import risks
from tamarack.core.traffic.totals import together
from tamarack.store.nodes import queries as known_nodes
from tamarack.store.traffic import overview as watching
from tamarack.web.application import db
from tamarack.web.pictures.traffic import calls_chart

MOST_RISKS = 4
"""Risks that the front page names; it says how many more there are."""

pages = Blueprint("overview", __name__)


@pages.get("/")
@requires("see")
def front() -> Any:
    where = environment()
    now = datetime.now(UTC).replace(second=0, microsecond=0) + timedelta(minutes=1)
    span = watching.Span(now - timedelta(hours=6), now, {"environment": where})
    times, points = watching.series(db(), span, timedelta(minutes=2))
    values = {
        "times": times,
        "chart": calls_chart(times, points, timedelta(minutes=2), width=820, height=180, link=calls_between(where)),
        "now": together(points),
        "before": watching.totals_before(db(), span),
        "refusals": watching.refusals(db(), span, most=5),
        "nodes": known_nodes.nodes(db(), where),
        "is_away": known_nodes.is_away,
        "rollout": running(where)[0],
        "changes": pending(where),
        "risks": risks(draft()),
        "most_risks": MOST_RISKS,
        "requests": waiting_requests(),
        "apis": draft().apis,
    }
    if request.args.get("part") == "live":
        return render("overview/live.html", **values)
    return render("overview/front.html", **values)
