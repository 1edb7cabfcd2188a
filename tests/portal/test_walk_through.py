"""The walk-through of a client: each step complete, filled in as values come back, and nothing taken that is not ours."""

import html
import re
import shlex
from collections.abc import Iterator
from typing import Any
from urllib.parse import parse_qs, parse_qsl, urlsplit

import pytest
from flask.testing import FlaskClient
from hypothesis import given
from hypothesis import strategies as st
from sqlmodel import Session

from helpers import sign_in
from sign_in.flow import let_in
from sign_in.passengers import Passengers
from tamarack.core.sign_in.walk_through import PLACES, Walk, came_back, decoded, steps
from tamarack.core.trying.bench import BenchAnswer
from tamarack.core.trying.examples import ExampleCall, as_curl
from tamarack.portal import often
from tamarack.portal.applications import going, walk_through
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.rollouts import queries as rolling
from tamarack.store.sign_in.tables import SignInClient

ISSUER = "https://id.skerry.example/passengers"
CALL = ExampleCall("GET", "https://api.skerry.example/fares/v1/tariffs", {"Authorization": "Bearer ACCESS_TOKEN"})


def walk(**changes: Any) -> Walk:
    said: dict[str, Any] = {
        "issuer": ISSUER, "client": "c1", "confidential": False, "signs_in": True, "stays": True,
        "redirect": "https://portal.example/back", "scope": "openid fares:quote", "resource": "https://api.example/x",
        "call": CALL, "verifier": "v" * 64, "state": "s1", "nonce": "n1",
    }  # fmt: skip
    return Walk(**said | changes)


# the steps


def test_the_steps_go_from_discovery_to_a_token_that_is_refused() -> None:
    names = [step.name for step in steps(walk())]
    assert names == ["discovery", "authorize", "exchange", "call", "userinfo", "refresh", "revoke", "again"]
    own = [step.name for step in steps(walk(signs_in=False, confidential=True, stays=False, scope=""))]
    assert own == ["discovery", "exchange", "call", "introspect", "revoke", "again"]


def test_a_step_waits_for_what_it_needs_and_for_nothing_else() -> None:
    waits = {step.name: step.waits_for for step in steps(walk())}
    assert waits["discovery"] == () and waits["exchange"] == ("code",)
    assert waits["call"] == waits["revoke"] == ("access_token",) and waits["refresh"] == ("refresh_token",)
    keeps = {step.name: step.waits_for for step in steps(walk(confidential=True, values={"code": "x"}))}
    assert keeps["exchange"] == ("secret",)
    done = steps(walk(values=dict.fromkeys(PLACES, "x")))
    assert not any(step.waits_for for step in done)


def test_the_address_asks_for_pkce_with_the_verifiers_own_challenge() -> None:
    authorize = steps(walk(verifier="dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"))[1]
    asked = dict(parse_qsl(urlsplit(authorize.address).query))
    assert asked["code_challenge"] == "E9Melhoa2OwvFrEMTJguCHaoeK1t8URWbuGJSstw-cM", "RFC 7636, appendix B"
    assert asked["resource"] == "https://api.example/x" and asked["nonce"] == "n1"


@given(
    st.dictionaries(
        st.sampled_from(sorted(PLACES)), st.text(st.characters(codec="ascii", exclude_categories=["C"]), min_size=1)
    )
)  # type: ignore[arg-type]
def test_whatever_came_back_a_command_is_the_request_that_is_run(values: dict[str, str]) -> None:
    for step in steps(walk(confidential=True, values=values)):
        if step.call is None:
            continue
        words = shlex.split(as_curl(step.call).replace("\\\n", ""))
        assert words[0] == "curl" and words[-1] == step.call.url
        sent = [words[place + 1] for place, word in enumerate(words) if word == "--data-raw"]
        assert sent == ([step.call.body] if step.call.body else [])
        headers = [words[place + 1] for place, word in enumerate(words) if word == "--header"]
        assert headers == [f"{name}: {value}" for name, value in step.call.headers.items()]


@pytest.mark.parametrize("text", ["", "[]", "{", '{"access_token": 7}', '{"access_token": "a\\nb"}', "[" * 100_000])
def test_what_is_no_answer_brings_no_values(text: str) -> None:
    assert came_back(text) == {}


def test_a_token_is_read_and_an_opaque_one_is_not() -> None:
    assert decoded("eyJhIjoxfQ.eyJiIjoyfQ.x") == ({"a": 1}, {"b": 2})
    assert decoded("at_secret") is None and decoded("é.é.é") is None


# the page


@pytest.fixture
def relay(monkeypatch: pytest.MonkeyPatch, service: FlaskClient, settings: Settings) -> Iterator[list[ExampleCall]]:
    """What the page sends goes to the sign-in service of this test; calls of an API are answered 200."""
    sent: list[ExampleCall] = []

    def ask(call: ExampleCall) -> BenchAnswer:
        sent.append(call)
        path = call.url.removeprefix(settings.sign_in_url)
        if path == call.url:
            return BenchAnswer(200, "OK", (), "[]", 1.0)
        answer = service.open(
            path, method=call.method, headers=dict(call.headers), data=call.body or None, auth=call.basic
        )
        return BenchAnswer(answer.status_code, "", tuple(answer.headers.items()), answer.get_data(as_text=True), 1.0)

    monkeypatch.setattr(walk_through, "ask_own", ask)
    often._LATELY.clear()
    yield sent
    going.GOING.clear()


def there(passengers: Passengers, client: SignInClient | None = None) -> str:
    client = client or passengers.phone
    return f"/applications/{client.application_id}/clients/{client.id}/walk-through"


def come_back(lead: FlaskClient, service: FlaskClient, page: str, text: str) -> None:
    """Follow the page's address through the sign-in service and back."""
    address = html.unescape(re.search(r'id="command-authorize">([^<]+)<', text)[1])  # type: ignore[index]
    parts = urlsplit(address)
    answer = service.post(f"{parts.path}?{parts.query}", data={"answer": "allow"})
    back = urlsplit(answer.location)
    assert back.path == f"{page}/back"
    lead.get(f"{back.path}?{back.query}")


def test_every_step_is_run_from_the_page_and_fills_in_the_next(
    lead: FlaskClient, service: FlaskClient, passengers: Passengers, relay: list[ExampleCall], world: Session
) -> None:
    page = there(passengers)
    first = lead.get(f"{page}/").text
    assert "Register this page" in first and "waits for <code>CODE</code>" in first
    assert lead.post(f"{page}/run/exchange").status_code == 422, "it waits"
    lead.post(f"{page}/register")
    world.expire_all()
    assert world.get_one(SignInClient, passengers.phone.id).redirects[-1].endswith("/walk-through/back")
    let_in(service)
    come_back(lead, service, page, lead.get(f"{page}/").text)
    assert "the code is for us" in lead.get(f"{page}/").text
    for step in ("discovery", "exchange", "call", "userinfo", "refresh", "revoke"):
        assert lead.post(f"{page}/run/{step}").status_code == 303
        shown = lead.get(f"{page}/").text
        assert 'class="form-error"' not in shown, step
    assert "The access token, read" in shown and "&#34;client_id&#34;" in shown
    assert not set(re.findall("|".join(PLACES.values()), shown))
    assert lead.post(f"{page}/run/userinfo").status_code == 303
    assert "401" in lead.get(f"{page}/").text
    with lead.session_transaction() as session:
        assert relay[-1].headers["Authorization"][7:] not in str(dict(session)), "it is in no cookie"
    lead.post(f"{page}/register")
    world.expire_all()
    assert "walk-through" not in str(world.get_one(SignInClient, passengers.phone.id).redirects)


@pytest.mark.parametrize(
    ("query", "words"),
    [
        ("code=x&state=other&iss=ISSUER", "belongs to another request"),
        ("code=x&state=STATE&iss=https://evil.example", "may be a mix-up"),
        ("code=x&state=STATE", "may be a mix-up"),
        ("error=access_denied&error_description=No&state=STATE&iss=ISSUER", "access_denied: No"),
        ("state=STATE&iss=ISSUER", "There is no code"),
    ],
)
def test_what_comes_back_for_something_else_is_not_used(
    lead: FlaskClient, passengers: Passengers, relay: list[ExampleCall], query: str, words: str
) -> None:
    page = there(passengers)
    asked = urlsplit(html.unescape(re.search(r'id="command-authorize">([^<]+)<', lead.get(f"{page}/").text)[1]))  # type: ignore[index]
    state = parse_qs(asked.query)["state"][0]
    issuer = f"{asked.scheme}://{asked.netloc}/passengers"
    lead.get(f"{page}/back?{query.replace('STATE', state).replace('ISSUER', issuer)}")
    shown = lead.get(f"{page}/").text
    assert words in shown and "waits for <code>CODE</code>" in shown


def test_a_client_with_a_secret_shows_it_and_walks_for_itself_and_its_users(
    lead: FlaskClient, service: FlaskClient, passengers: Passengers, relay: list[ExampleCall], world: Session
) -> None:
    passengers.web.grants = ["client_credentials"]
    world.add(passengers.web)
    world.commit()
    page = there(passengers, passengers.web)
    assert "CLIENT_SECRET" in lead.get(f"{page}/").text
    assert lead.post(f"{page}/run/exchange").status_code == 422
    lead.post(f"{page}/choose", data={"secret": passengers.secret, "call": "", "scope": "berths:hold"})
    for step in ("exchange", "introspect", "revoke"):
        lead.post(f"{page}/run/{step}")
    assert [call.url.rpartition("/")[2] for call in relay] == ["token", "introspect", "revoke"]
    assert "&#34;active&#34;: true" in lead.get(f"{page}/").text
    assert lead.post(f"{page}/choose", data={"scope": "a\nb"}).status_code == 422


def test_an_answer_from_a_terminal_is_taken_up(
    lead: FlaskClient, passengers: Passengers, relay: list[ExampleCall]
) -> None:
    page = there(passengers)
    printed = (
        'HTTP/1.1 200 OK\r\nContent-Type: application/json\r\n\r\n{"access_token": "at_x<y", "refresh_token": "r"}'
    )
    assert lead.post(f"{page}/paste", data={"answer": printed}).status_code == 303
    shown = lead.get(f"{page}/").text
    assert "Bearer at_x&lt;y" in shown and "It is opaque" in shown
    assert lead.post(f"{page}/paste", data={"answer": "nothing"}).status_code == 422


def test_nobody_walks_through_the_client_of_another_organization(portal: FlaskClient, passengers: Passengers) -> None:
    sign_in(portal, "r.crate@kelp-crate.example", "manifest-box-75")
    page = there(passengers)
    for path in ("/", "/back?code=x"):
        assert portal.get(page + path).status_code == 404
    for path in ("/run/discovery", "/register", "/choose", "/paste"):
        assert portal.post(page + path).status_code == 404


def test_an_operation_leads_to_the_walk_through_of_the_readers_client_for_it(
    lead: FlaskClient, portal: FlaskClient, passengers: Passengers, relay: list[ExampleCall], world: Session
) -> None:
    application = world.get_one(Application, passengers.phone.application_id)
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "skiff", "production")
    world.commit()
    where = {"call": "post /quotes", "way": "access-token"}
    shown = lead.get("/apis/fares/1/operation", query_string=where).text
    link = re.search(r'href="([^"]+/walk-through/for[^"]+)"[^>]*>Walk through it as Tern Mobile', shown)
    assert link is not None
    lead.get(html.unescape(link[1]))
    page = html.unescape(lead.get(f"{there(passengers)}/").text)
    assert "<option selected>fares/1 post /quotes" in page and "fares/v1/quotes" in page
    lead.post("/sign-out")
    stranger = portal.get("/apis/fares/1/operation", query_string=where).text
    assert "Walk through it" not in stranger
