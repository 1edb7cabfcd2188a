"""Bringing in a GraphQL API by its form: what is typed is kept, what was understood and what is wrong is shown."""

import io
from typing import Any

import orjson
import pytest
from flask.testing import FlaskClient
from graphql import graphql_sync
from sqlmodel import Session

from core.graphql.fleet import SDL
from tamarack.console.apis import graphql
from tamarack.core.configuration.model import Configuration
from tamarack.core.graphql.described import schema_in
from tamarack.core.graphql.schema import INTROSPECTION, graph_of
from tamarack.core.openapi.read import describe
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.web.outgoing.asking import NotReached

PATH = "/apis/new/graphql/"
TYPED: dict[str, Any] = {
    "address": "http://127.0.0.1:9/graph", "schema": SDL, "title": "Harbour Graph", "name": "harbour-graph",
    "version": "1", "base_path": "/harbour-graph/v1", "keys": "on",
}  # fmt: skip
TOLD = orjson.dumps(graphql_sync(graph_of(SDL).schema, INTROSPECTION).formatted)


class Answer:
    status, reason = 200, "OK"


def drafted(world: Session) -> Configuration:
    world.expire_all()
    return drafting.load_configuration(world)


def test_it_is_saved_with_its_backend_its_schema_and_limits_from_the_start(admin: FlaskClient, world: Session) -> None:
    assert admin.post(PATH, data=TYPED).status_code == 303
    api = drafted(world).api("harbour-graph")
    assert api is not None and api.style == "graphql"
    version = api.versions[0]
    assert [one.call for one in version.operations] == ["post /", "get /"]
    assert [policy.kind for policy in version.policies] == ["api-key", "graphql-limits"]
    described = describe(documents.document_text(world, version.document) or "")
    assert not described.problems and schema_in(described.document) == SDL.strip()


@pytest.mark.parametrize("blind", [True, False])
def test_a_schema_is_a_text_an_introspection_or_none(admin: FlaskClient, world: Session, blind: bool) -> None:
    assert admin.post(PATH, data=TYPED | {"schema": "" if blind else TOLD.decode()}).status_code == 303
    version = drafted(world).api("harbour-graph").versions[0]  # type: ignore[union-attr]
    schema = schema_in(describe(documents.document_text(world, version.document) or "").document)
    assert schema == "" if blind else set(graph_of(schema).fields) == set(graph_of(SDL).fields)


def test_what_a_file_holds_is_understood_before_anything_is_saved(admin: FlaskClient) -> None:
    data = TYPED | {"schema": "", "act": "read", "file": (io.BytesIO(SDL.encode()), "fleet.graphql")}
    page = admin.post(PATH, data=data, content_type="multipart/form-data")
    assert page.status_code == 200
    for shown in (
        "What was understood",
        "vessels(first: Int): [Vessel!]!",
        "Mutations",
        "Found",
        "union",
        "Harbour Graph",
    ):
        assert shown in page.text
    assert "directive @cost" not in page.text


def test_the_backend_is_asked_for_its_schema(admin: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    sent: list[Any] = []

    def ask(method: str, address: str, headers: Any, body: bytes, *rest: Any) -> tuple[Answer, bytes]:
        sent.append((method, address, orjson.loads(body)["query"]))
        return Answer(), TOLD

    monkeypatch.setattr(graphql, "ask", ask)
    page = admin.post(PATH, data=TYPED | {"schema": "", "act": "ask"}).text
    assert sent == [("POST", "http://127.0.0.1:9/graph", INTROSPECTION)]
    assert "type Vessel {" in page and "What was understood" in page


@pytest.mark.parametrize(
    ("told", "words"),
    [(b"<html>", "its answer is not JSON"), (b"{}", "no data.__schema"), (b'{"data": {"__schema": {}}}', "not complete"),
     (b"[" * 5000, "its answer is not JSON")],
)  # fmt: skip
def test_a_backend_that_tells_no_schema_is_said_at_its_address(
    admin: FlaskClient, monkeypatch: pytest.MonkeyPatch, told: bytes, words: str
) -> None:
    monkeypatch.setattr(graphql, "ask", lambda *given: (Answer(), told))
    page = admin.post(PATH, data=TYPED | {"act": "ask"})
    assert page.status_code == 422 and words in page.text and "type Vessel" in page.text

    def away(*given: Any) -> Any:
        raise NotReached("no connection to 127.0.0.1 port 9")

    monkeypatch.setattr(graphql, "ask", away)
    assert "no connection to" in admin.post(PATH, data=TYPED | {"act": "ask"}).text


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"address": "ftp://x"}, "must start with http://"),
        ({"schema": "type Query { a: Lamp }"}, "Unknown type &#39;Lamp&#39;"),
        ({"schema": "type Query { a: Lamp b: Nope }"}, "2 things are wrong with it"),
        ({"schema": "{"}, "it begins like JSON, and is none"),
        ({"title": ""}, "title"),
        ({"base_path": "graph"}, "starts with /"),
    ],
)
def test_what_is_wrong_is_told_at_its_field_and_what_was_typed_is_kept(
    admin: FlaskClient, world: Session, changes: dict[str, str], words: str
) -> None:
    page = admin.post(PATH, data=TYPED | changes)
    assert page.status_code == 422 and words in page.text
    assert all(str(value) in page.text for name, value in (TYPED | changes).items() if name not in ("schema", "keys"))
    assert drafted(world).api("harbour-graph") is None
