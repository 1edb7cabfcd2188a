"""Documents published as REST operations, by their page: looked at while typed, saved with their description, undone."""

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from helpers import sign_in
from tamarack.core.configuration.model import Configuration
from tamarack.core.graphql.views.rest_view import views_in
from tamarack.core.graphql.views.unfit import view_problems
from tamarack.demo.world import STAFF
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting

PATH = "/apis/fleet-graph/1/rest/"
TYPED = {"was": "", "method": "get", "path": "/fleet/{name}", "summary": "One vessel", "gives": "value",
         "document": "query V($name: ID!) { vessel(name: $name) { title } }"}  # fmt: skip


def drafted(world: Session) -> tuple[Configuration, dict[str, tuple[str, str]]]:
    world.expire_all()
    configuration = drafting.load_configuration(world)
    version = configuration.apis[[one.name for one in configuration.apis].index("fleet-graph")].versions[0]
    return configuration, views_in(documents.document_tree(world, version.document))


def calls(world: Session) -> list[str]:
    api = drafted(world)[0].api("fleet-graph")
    assert api is not None
    return [one.call for one in api.versions[0].operations]


def test_a_view_is_added_called_otherwise_and_taken_out_with_its_description(
    admin: FlaskClient, world: Session
) -> None:
    assert admin.post(PATH, data=TYPED).status_code == 303
    assert drafted(world)[1]["get /fleet/{name}"] == (TYPED["document"], "value") and "get /fleet/{name}" in calls(
        world
    )
    page = admin.get(PATH, query_string={"operation": "get /fleet/{name}"}).text
    assert "One vessel" in page and "<td>path</td>" in page
    moved = TYPED | {"was": "get /fleet/{name}", "path": "/ships/{name}", "gives": "data"}
    assert admin.post(PATH, data=moved).status_code == 303
    assert "get /fleet/{name}" not in drafted(world)[1] and drafted(world)[1]["get /ships/{name}"][1] == "data"
    assert calls(world)[-1] == "get /ships/{name}" and "get /fleet/{name}" not in calls(world)
    gone = admin.post("/apis/fleet-graph/1/operations/remove", data={"operation": "get /ships/{name}", "back": "views"})
    assert gone.headers["Location"].endswith("/rest/") and "get /ships/{name}" not in calls(world)
    assert "get /ships/{name}" not in drafted(world)[1]


@pytest.mark.parametrize(
    ("changes", "field", "said"),
    [
        ({"document": "{ vessels { lamp } }"}, "document", "line 1: Vessel has no field &#39;lamp&#39;"),
        ({"path": "/fleet/{lamp}"}, "call", "{lamp} of the path is no variable"),
        ({"path": "fleet"}, "call", "does not start with /"), ({"method": "trace"}, "call", "not by trace"),
        ({"path": "/vessels/{name}"}, "call", "is an operation already"),
        ({"path": "/", "document": "{ ports { code } }"}, "call", "path of its own"),
        ({"document": "{ ports { code } vessels { name } }", "path": "/all"}, "gives", "has 2 root fields"),
        ({"summary": "x" * 301}, "summary", "more than 300"),
    ],
)  # fmt: skip
def test_what_cannot_be_published_says_why_and_keeps_what_was_typed(
    admin: FlaskClient, world: Session, changes: dict[str, str], field: str, said: str
) -> None:
    before = drafted(world)[1]
    answer = admin.post(PATH, data=TYPED | changes)
    assert answer.status_code == 422 and said in answer.text
    assert f'id="e-{field}" hidden' not in answer.text.replace(' hidden=""', " hidden")
    assert (TYPED | changes)["document"][:9] in answer.text
    assert drafted(world)[1] == before


def test_what_becomes_of_it_is_shown_while_it_is_typed(admin: FlaskClient) -> None:
    look = admin.post(
        PATH + "look",
        data=TYPED
        | {"document": "query V($name: ID!, $n: Int = 2) { vessel(name: $name) { crossings(first: $n) { id } } }"},
    ).text
    assert "/graph/v1/fleet/{name}?n=…" in look and "<code>ID!</code>" in look and "else <code>2</code>" in look
    assert "3 levels" in look and "cost 3" in look
    assert "has no field" in admin.post(PATH + "look", data=TYPED | {"document": "{ lamp }"}).text
    assert "type Vessel" in admin.get(PATH + "schema.graphql").text


def test_who_may_only_see_saves_nothing_and_other_styles_have_no_views(console: FlaskClient, world: Session) -> None:
    support = next(one for one in STAFF if one.role == "support")
    sign_in(console, support.email, support.password)
    assert "get /vessels/{name}" in console.get(PATH, query_string={"operation": "get /vessels/{name}"}).text
    assert console.post(PATH, data=TYPED).status_code == 403
    assert "get /fleet/{name}" not in drafted(world)[1]
    assert console.get("/apis/sailings/2/rest/").status_code == 404


def test_a_view_that_does_not_fit_its_schema_is_not_rolled_out(admin: FlaskClient, world: Session) -> None:
    configuration, _ = drafted(world)
    version = configuration.api("fleet-graph").versions[0]  # type: ignore[union-attr]
    tree = documents.document_tree(world, version.document)
    wrong = tree | {"x-graphql-schema": "type Query { lamp: Int }"}
    problems = view_problems(configuration, lambda sha256: wrong if sha256 == version.document else {})
    assert [problem.message.partition(":")[0] for problem in problems] == ["Fleet Graph 1"] * 2
    assert "get /vessels/{name}: line" in problems[0].message
    assert view_problems(configuration, lambda sha256: tree if sha256 == version.document else {}) == []
