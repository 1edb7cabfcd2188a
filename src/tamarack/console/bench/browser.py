"""The browser checker: what a browser would do with a page's call, and which line of the rule decides."""

from typing import Any

from flask import Blueprint, request

from tamarack.console.apis.pages import head_values
from tamarack.console.apis.versions import the_version
from tamarack.console.page import draft, environment, render, requires, running
from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Configuration, Operation
from tamarack.core.http.browser import Judgement, judge
from tamarack.core.http.origins import ANY, origin_pattern
from tamarack.core.policies.guard.browser_access import BrowserAccess

pages = Blueprint("browser", __name__, url_prefix="/apis/<api>/<version>/browser")


def _rule(configuration: Configuration, api: str, version: str, call: str) -> tuple[bool, BrowserAccess | None]:
    """Whether the operation is there, and the rule that holds for it."""
    found = configuration.api(api)
    inside = found.version(version) if found is not None else None
    operation = inside.operation(call) if inside is not None else None
    if found is None or inside is None or operation is None:
        return False, None
    rows = in_force(held(configuration, found, inside, operation))
    return True, next((row.policy for row in rows if isinstance(row.policy, BrowserAccess)), None)


def _read_headers(text: str) -> list[tuple[str, str]]:
    pairs = [line.partition(":") for line in text.splitlines() if line.strip()]
    return [(name.strip().lower(), value.strip()) for name, _, value in pairs]


def _method(operation: Operation) -> str:
    return "GET" if operation.method == "any" else operation.method.upper()


@pages.get("/")
@requires("see")
def page(api: str, version: str) -> Any:
    found, inside = the_version(api, version)
    wanted = inside.operation(request.args.get("operation", ""))
    operation = wanted or (inside.operations[0] if inside.operations else None)
    typed = {name: request.args.get(name, "").strip() for name in ("origin", "headers")}
    credentials = "credentials" in request.args
    errors: dict[str, str] = {}
    answers: list[tuple[str, BrowserAccess | None, Judgement | None]] = []
    if typed["origin"] and operation is not None:
        try:
            origin = origin_pattern(typed["origin"])
            if ANY in origin:
                raise ValueError("a page has one origin; write it in full, like https://www.example.org")
        except ValueError as error:
            errors["origin"] = str(error)
        else:
            where = environment()
            for title, configuration in (("In the draft", draft()), (f"In {where}, now", running(where)[1])):
                there, rule = _rule(configuration, api, version, operation.call)
                ready = rule.rule if rule is not None else None
                headers = _read_headers(typed["headers"])
                outcome = judge(ready, origin, _method(operation), headers, credentials) if there else None
                answers.append((title, rule, outcome))
            if len(answers) == 2 and answers[0][2] == answers[1][2]:
                answers = [(f"In the draft, and in {where} now", answers[1][1], answers[1][2])]
    return render(
        "bench/browser.html",
        tab="browser",
        operation=operation,
        typed=typed,
        credentials=credentials,
        rule=_rule(draft(), api, version, operation.call)[1] if operation is not None else None,
        errors=errors,
        answers=answers,
        **head_values(found, inside),
    )
