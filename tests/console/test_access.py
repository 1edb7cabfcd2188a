"""Who may open and do what in the console: every route, as every role and as a stranger."""

import pytest
from flask.testing import FlaskClient

from helpers import sign_in
from tamarack.core.identity.permissions import STAFF_ROLES

STRANGERS_OWN = {"sign_in.form", "sign_in.sign_in", "sign_in.sign_out", "sign_in.switch", "static", "health",
                 "quick_start.wheel", "quick_start.requirements", "quick_start.node_script", "quick_start.authority"}  # fmt: skip
PEOPLE = {
    "platform-admin": ("i.marsh@skerry.example", "larch-gold-41"),
    "api-owner": ("o.reed@skerry.example", "spruce-ink-17"),
    "support": ("s.heath@skerry.example", "lichen-grey-23"),
}
VALUES = {
    "api": "sailings", "version": "2", "name": "timetable", "product": "passage", "id": "x", "number": "1",
    "change": "1", "subscription": "x", "credential": "x", "form": "csv",
    "place": "0", "organization": "tern-trips", "month": "2026-11",
}  # fmt: skip


def routes(client: FlaskClient) -> list[tuple[str, str, str, str]]:
    """Endpoint, method, path, and the permission that its view asks for."""
    app = client.application
    found = []
    with app.test_request_context():
        for rule in app.url_map.iter_rules():
            for method in sorted((rule.methods or set()) - {"HEAD", "OPTIONS"}):
                view = app.view_functions[rule.endpoint]
                path = rule.rule
                for name, value in VALUES.items():
                    for form in (f"<{name}>", f"<int:{name}>"):
                        path = path.replace(form, value)
                found.append((rule.endpoint, method, path, getattr(view, "permission", "")))
    return found


def test_every_route_says_what_it_takes_or_is_the_strangers_own(console: FlaskClient) -> None:
    for endpoint, _, path, permission in routes(console):
        assert permission or endpoint in STRANGERS_OWN, f"{path} asks for nothing"
        assert not permission or any(permission in allowed for allowed in STAFF_ROLES.values())


def test_a_stranger_is_sent_to_sign_in(console: FlaskClient) -> None:
    for endpoint, method, path, _ in routes(console):
        if endpoint not in STRANGERS_OWN:
            answer = console.open(path, method=method)
            assert answer.status_code == 302, path
            assert answer.location.startswith("/sign-in"), path


@pytest.mark.parametrize("role", PEOPLE)
def test_each_role_opens_what_it_may_and_is_refused_the_rest(console: FlaskClient, role: str) -> None:
    sign_in(console, *PEOPLE[role])
    for endpoint, method, path, permission in routes(console):
        if endpoint in STRANGERS_OWN:
            continue
        answer = console.open(path, method=method)
        if permission in STAFF_ROLES[role]:
            assert answer.status_code != 403 or endpoint == "rollouts.roll_back", (
                f"{method} {path}: {answer.status_code}"
            )
            assert answer.status_code < 500, path
        else:
            assert answer.status_code == 403, f"{method} {path}: {answer.status_code}"
        answer.close()


def test_an_api_owner_rolls_out_to_test_only(console: FlaskClient) -> None:
    sign_in(console, *PEOPLE["api-owner"])
    for environment, status in (("test", 303), ("production", 403)):
        assert console.post("/review", data={"environment": environment, "mark": "x"}).status_code == status
    assert console.post("/rollouts/2/back").status_code == 403


def test_signing_in_needs_the_right_password_and_slows_guessing(console: FlaskClient) -> None:
    wrong = {"email": "i.marsh@skerry.example", "password": "wrong-password"}
    assert "is not right" in console.post("/sign-in", data=wrong).text
    unknown = console.post("/sign-in", data=wrong | {"email": "nobody@skerry.example"})
    assert (unknown.status_code, "is not right" in unknown.text) == (422, True)
    statuses = [console.post("/sign-in", data=wrong).status_code for _ in range(8)]
    assert statuses[-1] == 429
    right = {"email": "i.marsh@skerry.example", "password": "larch-gold-41"}
    assert console.post("/sign-in", data=right).status_code == 429


def test_the_session_cookie_is_kept_from_scripts_and_other_sites(console: FlaskClient) -> None:
    answer = console.post(
        "/sign-in", data={"email": "i.marsh@skerry.example", "password": "larch-gold-41", "next": "//evil.example"}
    )
    assert answer.location == "/"
    cookie = answer.headers["Set-Cookie"]
    assert "tamarack_console=" in cookie
    assert "HttpOnly" in cookie
    assert "SameSite=Lax" in cookie


def test_a_changed_role_ends_the_sessions_of_its_person(console: FlaskClient) -> None:
    sign_in(console, *PEOPLE["platform-admin"])
    other = console.application.test_client()
    sign_in(other, *PEOPLE["support"])
    page = console.get("/settings/").text
    person = page.split('action="/settings/people/')[2].split('"')[0]
    assert console.post(f"/settings/people/{person}", data={"role": "analyst", "active": "yes"}).status_code == 303
    assert other.get("/").status_code == 302


def test_a_form_without_its_token_is_not_taken(console: FlaskClient) -> None:
    console.application.config["WTF_CSRF_ENABLED"] = True
    answer = console.post("/sign-in", data={"email": "i.marsh@skerry.example", "password": "larch-gold-41"})
    assert answer.status_code == 400
    assert "could not be taken" in answer.text


def test_pages_carry_a_strict_policy_and_no_inline_code(admin: FlaskClient) -> None:
    for path in ("/", "/apis/", "/apis/sailings/2/", "/traffic/", "/review", "/nodes", "/settings/"):
        answer = admin.get(path)
        assert "script-src 'self'" in answer.headers["Content-Security-Policy"]
        assert "unsafe" not in answer.headers["Content-Security-Policy"]
        assert answer.headers["Cache-Control"] == "no-store"
        assert "<script>" not in answer.text
        assert " style=" not in answer.text
        assert "onclick" not in answer.text
