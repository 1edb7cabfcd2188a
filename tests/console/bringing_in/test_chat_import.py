"""Bringing in a chat API by its form: what is typed is kept, and what is wrong is told at its field."""

from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from helpers import sign_in
from tamarack.console.apis import chat
from tamarack.core.configuration.model import Configuration
from tamarack.core.openapi.read import describe
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.web.outgoing.asking import NotReached

PATH = "/apis/new/chat/"
TYPED: dict[str, Any] = {
    "address": "http://127.0.0.1:9", "models": "pen = quay-notices-1\nlong", "title": "Harbour Pen",
    "name": "harbour-pen", "version": "1", "base_path": "/harbour-pen/v1", "keys": "on",
    "calls": ["post /chat/completions", "get /models"],
}  # fmt: skip


def drafted(world: Session) -> Configuration:
    world.expire_all()
    return drafting.load_configuration(world)


def test_it_is_saved_with_its_backend_its_models_and_its_description(admin: FlaskClient, world: Session) -> None:
    assert admin.post(PATH, data=TYPED).status_code == 303
    made = drafted(world)
    api = made.api("harbour-pen")
    assert api is not None and api.style == "chat"
    version = api.versions[0]
    assert [one.call for one in version.operations] == TYPED["calls"]
    assert [policy.kind for policy in version.policies] == ["api-key", "models", "token-count"]
    backend = made.backend(version.backend)
    assert backend is not None and list(map(str, backend.models)) == ["pen = quay-notices-1", "long"]
    described = describe(documents.document_text(world, version.document) or "")
    assert [one.call for one in described.operations] == TYPED["calls"] and not described.problems


def test_without_keys_nobody_may_call_and_names_of_the_server_go_on_as_they_are(
    admin: FlaskClient, world: Session
) -> None:
    plain = {name: value for name, value in TYPED.items() if name != "keys"} | {"models": "quay-notices-1"}
    assert admin.post(PATH, data=plain).status_code == 303
    version = drafted(world).api("harbour-pen").versions[0]  # type: ignore[union-attr]
    assert [policy.kind for policy in version.policies] == ["models", "token-count"]
    assert drafted(world).backend(version.backend).models == ()  # type: ignore[union-attr]


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"address": "ftp://x"}, "must start with http://"),
        ({"models": ""}, "name at least one model"),
        ({"models": "a\nb c d"}, "line 2: "),
        ({"models": "a at http://127.0.0.1:5"}, "names a target that is not there"),
        ({"calls": []}, "choose at least one operation"),
        ({"base_path": "x"}, "starts with /"),
        ({"title": ""}, "at least 1 character"),
        ({"act": "ask", "secret": "none-such"}, "may not be sent there"),
    ],
)
def test_what_is_wrong_is_told_and_nothing_typed_is_lost(
    admin: FlaskClient, world: Session, changes: dict[str, Any], words: str
) -> None:
    answer = admin.post(PATH, data=TYPED | changes)
    assert answer.status_code == 422
    assert words in answer.text
    assert f'value="{(TYPED | changes)["base_path"]}"' in answer.text
    assert drafted(world).api("harbour-pen") is None


def test_an_address_is_asked_for_its_models(admin: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    class Told:
        status, reason = 200, "OK"

    asked = []

    def ask(method: str, address: str, headers: dict[str, str], *rest: Any) -> Any:
        asked.append((method, address, headers.get("Authorization")))
        if isinstance(content, str):
            raise NotReached(content)
        return Told, content

    monkeypatch.setattr(chat, "ask", ask)
    content: Any = b'{"data": [{"id": "quay-notices-1"}, {"id": "long"}]}'
    shown = admin.post(PATH, data={"address": "http://127.0.0.1:9/v1", "act": "ask"}).text
    assert "It offers 2: quay-notices-1, long." in shown
    for wrong in (b"[]", b"{", b'{"data": [{"id": "a b"}]}', b'{"data": 7}'):
        content = wrong
        shown = admin.post(PATH, data={"address": "http://127.0.0.1:9/v1", "act": "ask"}).text
        assert "does not tell a list of models" in shown
    content = "may not be reached from here"
    assert content in admin.post(PATH, data={"address": "http://127.0.0.1:9/v1", "act": "ask"}).text
    assert set(asked) == {("GET", "http://127.0.0.1:9/v1/models", None)}


def test_a_secret_is_sent_only_where_it_may_go(admin: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(chat, "ask", lambda *asked: pytest.fail("nothing may be sent"))
    admin.post("/settings/secrets/", data={"name": "quay", "value": "made-up-value", "hosts": "10.0.0.7"})
    shown = admin.post(PATH, data={"address": "http://127.0.0.1:9", "secret": "quay", "act": "ask"})
    assert shown.status_code == 422 and "may not be sent there" in shown.text


def test_who_may_not_edit_brings_nothing_in(console: FlaskClient, world: Session) -> None:
    support = sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    assert support.get(PATH).status_code == 403
    assert support.post(PATH, data=TYPED).status_code == 403
