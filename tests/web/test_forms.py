"""Every form that is shown again with what is wrong in it stands where it stood: what is hidden in it, what was typed and
what was chosen are as they were sent, so that it can be put right and sent again. All of them, by walking the pages."""

from urllib.parse import urljoin, urlsplit

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from web.pages import Form, Page
from web.test_odd_input import REAL, paths

WRONG = "\u00b2 not this <b>\u00a0"
"""A text that few fields take."""
ONCE = {"csrf_token", "revision", "mark"}
"""What a form says anew each time."""
PLACES = {
    "console": (
        "/apis/sailings/2/policies/add?level={level}&operation={operation}&kind={kind}",
        "/plans/passage/plan?name=skiff", "/plans/passage/plan", "/apis/new/", "/apis/new/bare", "/traffic/alerts/new",
        "/apis/sailings/2/bench/?operation=get+/sailings", "/backends/new", "/plans/new",
    ),
    "portal": ("/apis/sailings/2/operation?call=get+/sailings", "/apis/fares/1/subscribe"),
}  # fmt: skip
KINDS = ("api-key", "client-secret", "jwt", "browser-access", "body-size", "groups", "scopes", "claims", "addresses",
         "referring-site", "rate-limit", "quota", "cost", "token-count", "token-limit", "models", "dimensions", "prompt-guard",
         "near-equal-prompts", "prompt-log", "graphql-limits", "graphql-documents", "graphql-fields")  # fmt: skip


def addresses(client: FlaskClient, program: str) -> list[str]:
    """Every page, and those that stand behind a choice."""
    found = [path for method, path in paths(client, REAL) if method == "GET"]
    for place in PLACES[program]:
        if "{kind}" in place:
            found += [place.format(level="operation", operation="get+/ports", kind=kind) for kind in KINDS]
            found += [place.format(level="everywhere", operation="", kind="api-key")]
        else:
            found.append(place)
    return found


def spoiled(form: Form) -> dict[str, object]:
    """What is sent: all as it stands, and every text wrong."""
    return {**form.hidden, **form.chosen, **dict.fromkeys(form.typed, WRONG)}


def lost(form: Form, again: Page) -> str:
    """What a form that is shown again does not hold any more; empty where it holds all."""
    same = [one for one in again.posting() if set(form.typed) <= set(one.typed) or set(one.typed) == set(form.typed)]
    if not same:
        return "the form is not there"
    best = ""
    for one in same:
        best = ""
        for name, value in form.hidden.items():
            if name not in ONCE and one.hidden.get(name) != value:
                best = best or f"the hidden {name} was {value!r} and is {one.hidden.get(name)!r}"
        for name, values in form.chosen.items():
            if values and one.chosen.get(name) != values:
                best = best or f"the chosen {name} was {values} and is {one.chosen.get(name)}"
        for name in form.typed:
            if name not in SECRETS and WRONG.strip() not in one.typed[name]:
                best = best or f"what was typed as {name} is {one.typed[name]!r}"
        if not best:
            return ""
    return best


SECRETS = {"value", "password", "again", "old", "new", "new_value"}
"""Never sent back to a page."""


def walk(client: FlaskClient, program: str) -> tuple[int, list[str]]:
    """Sends every form wrong; returns how many were shown again, and what they lost."""
    shown, faults, seen = 0, [], set()
    for address in addresses(client, program):
        answer = client.get(address)
        page = Page(answer.get_data(as_text=True) if answer.mimetype == "text/html" else "")
        good = answer.status_code == 200
        answer.close()
        for form in page.posting() if good else ():
            target = urljoin(address, form.action or address)
            key = (target, tuple(sorted(form.typed)), form.hidden.get("kind", ""))
            if not form.typed or key in seen or "sign-out" in target:
                continue
            seen.add(key)
            wrong = client.post(target, data=spoiled(form))
            again = Page(wrong.get_data(as_text=True) if wrong.mimetype == "text/html" else "")
            wrong.close()
            if wrong.status_code in (409, 422) and wrong.mimetype == "text/html":
                shown += 1
                what = lost(form, again)
                if what:
                    faults.append(f"{urlsplit(target).path} from {address}: {what}")
            elif wrong.status_code >= 400:
                faults.append(
                    f"{urlsplit(target).path} from {address}: {wrong.status_code}, all that was typed is lost"
                )
    return shown, faults


@pytest.mark.parametrize(("program", "least"), [("console", 20), ("portal", 3)])
def test_a_form_that_is_shown_again_holds_all_that_was_sent(
    program: str, least: int, request: pytest.FixtureRequest, world: Session
) -> None:
    client = request.getfixturevalue({"console": "admin", "portal": "lead"}[program])
    shown, faults = walk(client, program)
    assert not faults, "\n".join(faults)
    assert shown >= least
