"""Policies placed on a field of a graph, by the same pages as on an operation."""

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from tamarack.core.configuration.model import Version
from tamarack.store.draft import queries as drafting

PATH = "/apis/fleet-graph/1/"
FIELD = "field Query.vessels"
WHERE = {"level": "operation", "operation": FIELD}


def version(world: Session) -> Version:
    world.expire_all()
    api = drafting.load_configuration(world).api("fleet-graph")
    assert api is not None
    return api.versions[0]


def test_a_field_is_found_given_a_policy_that_is_changed_copied_and_taken_off_again(
    admin: FlaskClient, world: Session
) -> None:
    found = admin.get(PATH, query_string={"field": "Query.vessels"})
    assert found.status_code == 303
    page = admin.get(found.headers["Location"]).text
    assert "calls that ask for it" in page and "What holds for Query.vessels, where it is asked for" in page
    assert "Add to Meter, Query.vessels" in page and "Add to Identify, Query.vessels" not in page
    kinds = admin.get(PATH + "policies/add", query_string=WHERE | {"stage": "meter"}).text
    assert "Rate limit" in kinds and "Call cost" not in kinds
    typed = WHERE | {"kind": "rate-limit", "name": "rate-limit", "windows": "5 per minute", "by": "caller", "old_name": "",
                     "hold_ms": "0", "queue": "100", "when_away": "count on the node"}  # fmt: skip
    form = admin.get(PATH + "policies/add", query_string=WHERE | {"kind": "rate-limit"}).text
    revision = form.partition('name="revision" value="')[2].partition('"')[0]
    answer = admin.post(PATH + "policies/save", data=typed | {"revision": revision})
    assert answer.status_code == 303, answer.text
    (field,) = version(world).fields
    assert (field.call, [one.kind for one in field.policies]) == (FIELD, ["rate-limit"])
    shown = admin.get(PATH, query_string={"operation": FIELD}).text
    assert 'data-policy="rate-limit"' in shown and "field</span>Query.vessels</a>" in shown
    assert "Where a document asks for `Query.vessels`" in admin.get(PATH).text.replace("<code>", "`").replace(
        "</code>", "`"
    )
    assert "Policies on Query.vessels" in admin.get(PATH + "fields/").text
    copied = admin.post(
        PATH + "policies/copying", data=WHERE | {"policy": "rate-limit", "to": "the whole API", "act": "copy"}
    )
    assert copied.status_code == 303 and "rate-limit" in [one.name for one in version(world).policies]
    gone = admin.post(PATH + "policies/remove", data=WHERE | {"policy": "rate-limit"})
    assert gone.status_code == 303 and version(world).fields == ()


@pytest.mark.parametrize(
    ("api", "field", "said"),
    [("fleet-graph/1", "Vessel.lamp", "The schema has no Vessel.lamp"), ("fleet-graph/1", "Vessel", "is no field of a graph"),
     ("sailings/2", "Query.vessels", "is no field of a graph")],
)  # fmt: skip
def test_what_is_no_field_is_told(admin: FlaskClient, api: str, field: str, said: str) -> None:
    admin.get(f"/apis/{api}/", query_string={"field": field})
    assert said in admin.get(f"/apis/{api}/").text


def test_what_holds_for_whole_calls_stands_on_no_field(admin: FlaskClient, world: Session) -> None:
    kinds = admin.get(PATH + "policies/add", query_string=WHERE | {"stage": "permit"}).text
    assert "kind=groups" in kinds and "kind=graphql-limits" not in kinds
    typed = WHERE | {"kind": "graphql-limits", "name": "graphql-limits", "old_name": "", "depth": "3"}
    refused = admin.post(PATH + "policies/save", data=typed)
    assert refused.status_code == 400 and "holds for whole calls" in refused.text and version(world).fields == ()


@pytest.mark.parametrize("api", ["fleet-graph/1", "sailings/2"])
def test_a_field_is_no_operation_anywhere_else(admin: FlaskClient, lead: FlaskClient, api: str) -> None:
    for page in ("bench/", "answers/", "explain/", "browser/", "operations/", "misfits/", "feedback/", ""):
        answer = admin.get(f"/apis/{api}/{page}", query_string={"operation": FIELD})
        assert answer.status_code in (200, 404), page
    assert lead.get(f"/apis/{api}/operation", query_string={"call": FIELD}).status_code == 404
