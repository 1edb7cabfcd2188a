"""Exploring a graph in the portal: the schema that a plan opens, documents weighed as a node does it, and run."""

import re
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from helpers import sign_in
from tamarack.core.graphql.schema import graph_of
from tamarack.core.trying.bench import BenchAnswer, BenchCall
from tamarack.portal.catalogue import exploring
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.nodes.tables import Node
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts import queries as rolling

PATH = "/apis/fleet-graph/1/explore/"
BERTHS = '{ port(code: "corran") { berths { id } } }'


def fleet(portal: FlaskClient, world: Session, plan: str) -> FlaskClient:
    """Someone whose application is on a plan of the fleet."""
    organization = world.exec(select(Organization).where(Organization.name == "ticket-office")).one()
    made = subscribing.make_application(world, COMMAND_LINE, organization, "Quay Board", "")
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, made, "fleet", plan, "production")
    world.commit()
    return sign_in(portal, "a.quay@skerry.example", "counter-desk-88")


def caller(world: Session) -> str:
    return f"{world.exec(select(Application).where(Application.title == 'Quay Board')).one().id} production"


def weighed(client: FlaskClient, document: str, **more: str) -> str:
    text = client.post(PATH + "weigh", data={"document": document} | more).text
    return re.sub(r"\s+", " ", re.sub(r"<[^>]+>", " ", text)).strip()


@pytest.mark.parametrize(("plan", "open_"), [("skiff", False), ("cutter", True)])
def test_the_schema_that_is_shown_and_downloaded_is_what_the_plan_opens(
    portal: FlaskClient, world: Session, plan: str, open_: bool
) -> None:
    client = fleet(portal, world, plan)
    page = client.get(PATH).text
    assert f"Quay Board, {plan}" in page and "Explore</a>" in client.get("/apis/fleet-graph/1/").text
    assert ("<code>Berth</code>" in page) == open_
    answer = client.get(PATH + "schema.graphql", query_string={"caller": caller(world)})
    assert ("Berth" in graph_of(answer.text).fields) == open_
    assert 'filename="fleet-graph-1.graphql"' in answer.headers["Content-Disposition"]
    assert ("Not open to you: Berth.id." in weighed(client, BERTHS)) != open_


def test_without_a_subscription_what_anyone_may_ask_is_shown_and_nothing_runs(
    portal: FlaskClient, world: Session
) -> None:
    client = sign_in(portal, "a.quay@skerry.example", "counter-desk-88")
    page = client.get(PATH).text
    assert "Subscribe an application first" in page and "<code>Berth</code>" not in page
    assert (
        client.post(PATH + "run", data={"document": "{ ports { name } }", "caller": "none production"}).status_code
        == 404
    )
    assert client.get("/apis/sailings/2/explore/").status_code == 404


@pytest.mark.parametrize(
    ("document", "more", "said"),
    [
        ("{ vessels { title } }", {}, "depth 2 of 5"),
        ("{ vessels { title } }", {}, "cost 4 of 400"),
        ("query Q($n: Int) { vessels(first: $n) { title } }", {"variables": '{"n": 9}'}, "cost 9 of 400"),
        ("{ vessels { nam } }", {}, "Vessel has no field &#39;nam&#39; line 1, column 13"),
        ("{ vessels {", {}, "Syntax Error"), ("", {}, "the document is empty"),
        ("{ vessels { title } }", {"variables": "{"}, "The variables are not JSON"),
        ("{ vessels { title } }", {"variables": "[]"}, "The variables are an object"),
        ("query A { ports { name } } query B { ports { name } }", {}, "say which by"),
        ("query A { ports { name } } query B { vessels { title } }", {"operation": "B"}, "cost 4 of 400"),
        ("{ vessels { crossings { to { crossings { to { name } } } } } }", {}, "depth 6 of 5"),
    ],
)  # fmt: skip
def test_a_document_is_weighed_while_it_is_typed(
    portal: FlaskClient, world: Session, document: str, more: dict[str, str], said: str
) -> None:
    assert said in weighed(fleet(portal, world, "skiff"), document, **more)


def test_a_document_is_run_as_the_application_and_shown_as_a_call_for_programs(
    portal: FlaskClient, world: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    client, sent = fleet(portal, world, "skiff"), []

    def send(call: BenchCall, *rest: Any) -> BenchAnswer:
        sent.append(call)
        body = '{"errors": [{"message": "no", "extensions": {"reason": "closed-field"}}]}'
        return BenchAnswer(
            403, "Forbidden", (("content-type", "application/graphql-response+json"),), body, 3.0, "c1", "n1"
        )

    monkeypatch.setattr(exploring, "send", send)
    monkeypatch.setattr(exploring, "a_node", lambda where: Node(name="n1", environment=where, address=""))
    page = client.post(PATH + "run", data={"document": BERTHS, "variables": '{"n": 1}', "caller": caller(world)}).text
    assert sent[0].path == "/graph/v1" and '"variables":{"n":1}' in sent[0].body
    assert "A field is not open to this caller" in page and "/reasons/closed-field" in page
    assert "curl" in page and "x-skerry-key" in page and "JavaScript" in page
    assert (
        "The variables are not JSON" in client.post(PATH + "run", data={"variables": "{", "caller": caller(world)}).text
    )
