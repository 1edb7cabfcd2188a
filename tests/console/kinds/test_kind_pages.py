"""Written kinds in the console: written, tried, saved with what they touch, placed as forms, reviewed, removed."""

import html
import re
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from console.life_cycle.test_steps import words
from helpers import sign_in
from tamarack.core.written.kind import WrittenKind
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.draft import queries as drafting

ROWS = {
    "name-0": "most", "title-0": "Longest", "type-0": "whole number", "rule-0": "1..50", "default-0": "6",
    "help-0": "In metres", "name-1": "port", "type-1": "text", "required-1": "yes", "rule-1": "[A-Z]{3}",
}  # fmt: skip
KIND = {"name": "long-cars", "title": "Long cars", "help": "Cars that are too long are refused", "levels": ["api", "operation"],
        "request": "when has(body.length) && body.length > params.most\n  refuse 422: {{ body.length }} m is too long for {{ params.port }}"} | ROWS  # fmt: skip
OPERATION = {"level": "operation", "operation": "post /sailings/search"}
POLICIES = "/apis/sailings/2/policies"
PLACED = OPERATION | {"kind": "written:long-cars", "name": "long-cars", "most": "8", "port": "HBR"}


def kept(world: Session, name: str = "long-cars") -> WrittenKind | None:
    world.expire_all()
    return drafting.load_configuration(world).kind(name)


def written(admin: FlaskClient, **changes: Any) -> Any:
    return admin.post("/kinds/new", data=KIND | changes)


def test_a_kind_is_written_with_parameters_and_steps_and_can_be_undone(admin: FlaskClient, world: Session) -> None:
    page = admin.post("/kinds/new", data=KIND, follow_redirects=True)
    assert "Saved to the draft." in page.text
    made = kept(world)
    assert made is not None and made.version == 1 and made.levels == ("api", "operation")
    assert [(one.name, one.type, one.rule) for one in made.parameters] == [
        ("most", "whole number", "1..50"), ("port", "text", "[A-Z]{3}"),
    ]  # fmt: skip
    assert world.exec(select(AuditEntry).where(AuditEntry.subject == "kind long-cars")).first() is not None
    undo = re.search(r'action="(/undo/[0-9]+)"', page.text)
    assert undo is not None
    assert admin.post(undo[1]).headers["Location"].endswith("/kinds/")
    assert kept(world) is None


@pytest.mark.parametrize(
    ("changes", "said"),
    [
        ({"request": "when nope == 1\n  stop"}, "line 1, column 6: ‘nope’ is not known here"),
        ({"request": "stop", "answer": "set status 99"}, "line 1"),
        ({"request": ""}, "it does nothing"),
        ({"title": ""}, "at least 1 character"),
        ({"name": "Bad Name"}, "lower-case letters"),
        ({"rule-0": "many"}, "the rule of most: 'many' is not a range"),
        ({"default-0": "99"}, "the default of most: 99 is not within 1..50"),
        ({"name-1": "most"}, "two parameters are named 'most'"),
        ({"levels": []}, "at least 1 item"),
    ],
)
def test_a_mistake_is_said_beside_its_field_and_nothing_typed_is_lost(
    admin: FlaskClient, world: Session, changes: dict[str, Any], said: str
) -> None:
    refused = written(admin, **changes)
    assert refused.status_code == 422 and said in words(html.unescape(refused.text))
    assert (KIND | changes)["help"] in refused.text and kept(world) is None


def test_a_name_is_given_once(admin: FlaskClient) -> None:
    written(admin)
    again = written(admin)
    assert again.status_code == 422 and "there is a kind" in again.text


def test_it_is_tried_as_it_is_typed_and_nothing_is_saved(admin: FlaskClient, world: Session) -> None:
    example = {"example_operation": "post /a", "example_path": "/a", "example_body": '{"length": 9}',
               "example_headers": "content-type: application/json", "example_values": "port: HBR"}  # fmt: skip
    shown = words(html.unescape(admin.post("/kinds/try", data=KIND | example).text))
    assert "answered 422 9 m is too long for HBR the backend is not asked" in shown
    assert "line 1 when has(body.length) && body.length > params.most: holds" in shown
    assert kept(world) is None
    wrong = words(html.unescape(admin.post("/kinds/try", data=KIND | example | {"example_values": "port: hbr"}).text))
    assert "It cannot be tried yet: parameter port : 'hbr' does not match [A-Z]{3}" in wrong
    unread = words(html.unescape(admin.post("/kinds/try", data=KIND | example | {"request": "fly"}).text))
    assert "request : line 1: 'fly' is no action" in unread


def test_placed_it_is_a_form_with_checked_fields_and_help(admin: FlaskClient, world: Session) -> None:
    written(admin)
    chosen = admin.get(f"{POLICIES}/add", query_string=OPERATION | {"stage": "shape"}).text
    assert "Long cars" in chosen and "Cars that are too long are refused" in chosen
    everywhere = admin.get(f"{POLICIES}/add", query_string={"level": "everywhere", "stage": "shape"}).text
    assert "Long cars" not in everywhere
    form = words(admin.get(f"{POLICIES}/add", query_string=OPERATION | {"kind": "written:long-cars"}).text)
    assert "Longest In metres" in form and "How it is written" in form
    wrong = admin.post(f"{POLICIES}/save", data=PLACED | {"port": "hbr", "most": "51"})
    told = html.unescape(wrong.text)
    assert wrong.status_code == 422 and "'hbr' does not match [A-Z]{3}" in told and "51 is not within 1..50" in told
    assert 'value="hbr"' in told
    assert admin.post(f"{POLICIES}/save", data=PLACED).status_code == 303
    path = words(html.unescape(admin.get("/apis/sailings/2/?operation=post+/sailings/search").text))
    assert "Long cars longest 8, port HBR" in path
    edited = admin.get(f"{POLICIES}/edit", query_string=OPERATION | {"policy": "long-cars"}).text
    assert 'value="8"' in edited and 'value="HBR"' in edited
    found = words(admin.get("/apis/policies", query_string={"kind": "written:long-cars"}).text)
    assert "Long cars, wherever it is placed" in found and "Sailings 2, post /sailings/search" in found


def test_a_change_says_what_it_touches_here_and_in_the_review(admin: FlaskClient, world: Session) -> None:
    written(admin)
    admin.post(f"{POLICIES}/save", data=PLACED)
    admin.post("/rollouts/", data={"environment": "production"})
    assert "A change holds for 1 placement: Sailings 2, post /sailings/search" in words(
        admin.get("/kinds/long-cars").text
    )
    changed = KIND | {"was": "long-cars", "request": "when has(body.length)\n  refuse 403: no"}
    saved = admin.post("/kinds/long-cars", data=changed, follow_redirects=True)
    assert "It touches 1 placement." in saved.text
    made = kept(world)
    assert made is not None and made.version == 2
    unchanged = admin.post("/kinds/long-cars", data=changed, follow_redirects=True)
    made = kept(world)
    assert "Nothing was different." in unchanged.text and made is not None and made.version == 2
    narrower = admin.post("/kinds/long-cars", data=changed | {"rule-0": "1..5", "default-0": "3"})
    assert narrower.status_code == 422 and "most 8 is not within 1..5" in html.unescape(narrower.text)
    assert "kind Long cars" in words(admin.get("/review").text)


def test_a_kind_that_is_placed_stays_and_one_that_is_not_goes(admin: FlaskClient, world: Session) -> None:
    written(admin)
    admin.post(f"{POLICIES}/save", data=PLACED)
    kept_back = admin.post("/kinds/long-cars/remove", follow_redirects=True)
    assert "is placed on Sailings 2, post /sailings/search" in kept_back.text and kept(world) is not None
    admin.post(f"{POLICIES}/remove", data=OPERATION | {"policy": "long-cars"})
    admin.post("/kinds/long-cars/remove")
    assert kept(world) is None


def test_a_kind_that_someone_else_changed_meanwhile_is_not_overwritten(admin: FlaskClient, world: Session) -> None:
    written(admin)
    admin.post("/kinds/long-cars", data=KIND | {"was": "long-cars", "title": "Longer cars", "revision": "1"})
    late = admin.post("/kinds/long-cars", data=KIND | {"was": "long-cars", "title": "Mine", "revision": "1"})
    assert late.status_code == 409 and "was changed by" in late.text and 'value="Mine"' in late.text


def test_one_private_to_an_api_is_offered_there_alone(admin: FlaskClient) -> None:
    written(admin, api="fares")
    for api, version, offered in (("fares", "1", True), ("sailings", "2", False)):
        query = {"level": "api", "stage": "shape"}
        assert ("Long cars" in admin.get(f"/apis/{api}/{version}/policies/add", query_string=query).text) is offered


def test_those_who_may_not_edit_see_kinds_and_change_none(console: FlaskClient, world: Session) -> None:
    support = sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    assert support.get("/kinds/").status_code == 200
    for path in ("/kinds/new", "/kinds/try", "/kinds/known-port", "/kinds/known-port/remove"):
        assert support.post(path, data=KIND).status_code in (403, 404)
    assert support.post("/kinds/new", data=KIND).status_code == 403
    assert kept(world) is None
