"""The pages of environments: the track, making and describing one, the order, comparing, bringing, and removing."""

import re

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, func, select

from console.life_cycle.test_steps import draft_with
from helpers import sign_in
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.environments import queries
from tamarack.store.portal.search_table import CatalogueEntry
from tamarack.store.rollouts import queries as rolling
from tamarack.store.secrets.queries import set_secret

NEW = {"name": "staging", "summary": "Partners try changes here", "mark": "half", "address": "", "before": "production"}


def running(world: Session, where: str) -> int:
    world.rollback()
    return rolling.running_number(world, where)


def mark(page: str) -> str:
    found = re.search(r'name="mark"\s+value="([^"]+)"', page)
    assert found is not None
    return found[1]


@pytest.fixture
def staging(admin: FlaskClient) -> FlaskClient:
    assert admin.post("/environments/new", data=NEW).location == "/environments/of/staging"
    return admin


def test_one_is_made_and_stands_on_the_track_and_in_the_masthead(staging: FlaskClient) -> None:
    page = staging.get("/environments").text
    places = [page.index(f'href="/environments/of/{name}"') for name in ("test", "staging", "production")]
    assert places == sorted(places)
    assert "nothing runs in staging yet" in page
    assert "the live one" in page
    assert 'value="staging"' in staging.get("/").text
    for path in ("/", "/limits", "/nodes", "/traffic", "/review", "/settings/secrets/"):
        answer = staging.get(path, query_string={"environment": "staging"}, follow_redirects=True)
        assert answer.status_code == 200, path
    assert "Cap of staging" in staging.get("/limits?environment=staging", follow_redirects=True).text


@pytest.mark.parametrize(
    ("change", "words"),
    [({"name": "Staging"}, "Staging"), ({"name": "test"}, "is an environment &#39;test&#39; already"),
     ({"name": "weight"}, "means something else"), ({"address": "staging"}, "is no address"), ({"mark": "red"}, "ring"),
     ({"summary": "x" * 301}, "at most 300"), ({"before": "nowhere"}, "no environment &#39;nowhere&#39;")],
)  # fmt: skip
def test_what_cannot_be_is_told_at_its_field_and_nothing_typed_is_lost(
    admin: FlaskClient, change: dict[str, str], words: str
) -> None:
    typed = NEW | {"summary": "Kept as typed", "open_to_owners": "yes"} | change
    answer = admin.post("/environments/new", data=typed)
    assert answer.status_code == 422
    assert words in answer.text
    assert 'class="error"' in answer.text
    assert typed["summary"] in answer.text
    assert '<option value="yes" selected>' in answer.text


def test_it_is_described_anew(staging: FlaskClient, world: Session) -> None:
    changed = {
        "summary": "Ferries first",
        "mark": "bars",
        "address": "https://staging.skerry.example",
        "open_to_owners": "yes",
    }
    assert staging.post("/environments/of/staging", data=changed | {"address": "x"}).status_code == 422
    staging.post("/environments/of/staging", data=changed)
    one = queries.known(world).named("staging")
    assert one is not None
    assert (one.summary, one.mark, one.address, one.open_to_owners) == (*list(changed.values())[:3], True)
    assert not one.on_portal
    staging.post("/environments/of/staging", data=changed | {"on_portal": "yes"})
    world.rollback()
    assert queries.known(world).on_portal == ("test", "staging", "production")
    page = staging.get("/environments/of/staging").text
    assert "change an environment" in page
    assert "Ferries first" in page
    assert staging.get("/environments/of/nowhere").status_code == 404


def test_who_may_roll_out_is_said_for_each_environment(staging: FlaskClient, console: FlaskClient) -> None:
    owner = ("o.reed@skerry.example", "spruce-ink-17")
    sign_in(console, *owner)
    assert console.post("/review", data={"environment": "staging", "mark": "x"}).status_code == 403
    assert "Your role may not roll out to staging" in console.get("/review?environment=staging").text
    sign_in(console, "i.marsh@skerry.example", "larch-gold-41")
    console.post("/environments/of/staging", data={"mark": "half", "open_to_owners": "yes"})
    sign_in(console, *owner)
    page = console.get("/review?environment=staging&source=test").text
    assert (
        console.post("/review", data={"environment": "staging", "source": "test", "mark": mark(page)}).status_code
        == 303
    )
    assert console.post("/environments/of/staging", data={}).status_code == 403


def test_what_runs_in_one_is_compared_with_another_and_brought_there(staging: FlaskClient, world: Session) -> None:
    page = staging.get("/environments/compare?first=test&second=staging").text
    assert "backend timetable" in page
    assert "test against staging" in page
    assert "+++ test/tamarack.yaml" in page
    page = staging.get("/review?environment=staging&source=test").text
    assert "What test runs against staging, where nothing runs yet" in page
    assert "Discard all" not in page
    answer = staging.post("/review", data={"environment": "staging", "source": "test", "mark": mark(page)})
    number = running(world, "staging")
    assert answer.location == f"/rollouts/{number}"
    assert f"what is rollout {running(world, 'test')} of test" in staging.get(answer.location).text
    assert "staging and test run the same" in staging.get("/environments/compare?first=staging&second=test").text
    assert "staging runs this already" in staging.get("/review?environment=staging&source=test").text
    assert "the same" in staging.get("/environments").text
    assert staging.get("/environments/compare?first=staging&second=nowhere").status_code == 404


def test_one_version_is_brought_and_the_others_stay(admin: FlaskClient, world: Session) -> None:
    draft_with(world, "1", base_path="/sailings/one")
    draft_with(world, "2", base_path="/sailings/two")
    world.commit()
    page = admin.get("/review?environment=test&only=sailings/2").text
    assert "Sailings 2 of the draft against" in page
    assert "/sailings/two" in page
    assert "/sailings/one" not in page.partition("<aside")[0].partition('<ul class="changes">')[2]
    admin.post("/review", data={"environment": "test", "only": "sailings/2", "mark": mark(page)})
    api = rolling.running_configuration(world, "test").api("sailings")
    assert api is not None
    assert {one.version: one.base_path for one in api.versions} == {"1": "/sailings/v1", "2": "/sailings/two"}
    page = admin.get("/review?environment=production&source=test&only=sailings/2").text
    admin.post(
        "/review", data={"environment": "production", "source": "test", "only": "sailings/2", "mark": mark(page)}
    )
    world.expire_all()
    api = rolling.running_configuration(world, "production").api("sailings")
    assert api is not None
    assert {one.version: one.base_path for one in api.versions} == {"1": "/sailings/v1", "2": "/sailings/two"}
    for wrong in ("source=production", "source=nowhere", "only=sailings/9"):
        assert admin.get(f"/review?environment=production&{wrong}").status_code == 404


def test_what_was_changed_after_the_page_was_made_is_not_rolled_out(admin: FlaskClient, world: Session) -> None:
    draft_with(world, "2", base_path="/sailings/two")
    world.commit()
    seen = mark(admin.get("/review?environment=production&source=test").text)
    rolling.roll_out(world, COMMAND_LINE, "test")
    world.commit()
    before = running(world, "production")
    data = {"environment": "production", "source": "test", "mark": seen}
    answer = admin.post("/review", data=data, follow_redirects=True)
    assert "What runs was changed after this page was made" in answer.text
    assert "What test runs against rollout" in answer.text
    assert running(world, "production") == before


def test_another_order_asks_first_where_another_one_becomes_live(staging: FlaskClient, world: Session) -> None:
    staging.post("/environments/order", data={"names": "staging test production"})
    assert queries.known(world).names == ("staging", "test", "production")
    asked = staging.post("/environments/order", data={"names": "test production staging"})
    assert "Make staging the live one?" in asked.text
    assert "0 APIs and 0 products, in place of" in asked.text
    world.rollback()
    assert queries.known(world).live == "production"
    staging.post("/environments/order", data={"names": "test production staging", "sure": "yes"})
    world.rollback()
    assert queries.known(world).live == "staging"
    assert world.exec(select(func.count()).select_from(CatalogueEntry)).one() == 0, (
        "nothing runs there that could be found"
    )
    assert (
        "changed meanwhile" in staging.post("/environments/order", data={"names": "test"}, follow_redirects=True).text
    )


def test_removing_one_says_what_ends_and_asks_for_its_name(staging: FlaskClient, world: Session) -> None:
    page = staging.get("/environments/of/production").text
    assert "It cannot be removed now" in page
    assert "put another one at the end first" in page
    set_secret(world, COMMAND_LINE, bytes(32), "tide", "low", "staging")
    world.commit()
    assert "deletes the values that tide has for it alone" in staging.get("/environments/of/staging").text
    assert (
        "Type staging, so that none other" in staging.post("/environments/of/staging/remove", data={"typed": "x"}).text
    )
    staging.get("/?environment=staging")
    gone = staging.post("/environments/of/staging/remove", data={"typed": "staging"}, follow_redirects=True)
    assert "The environment staging was removed" in gone.text
    assert 'aria-pressed="true">' in gone.text.replace("\n", "")
    assert staging.get("/environments/of/staging").status_code == 404
    assert staging.get("/review?environment=staging").status_code == 200, "the live one is spoken of again"


def test_with_many_the_masthead_offers_a_list(staging: FlaskClient) -> None:
    for name in ("one", "two"):
        staging.post("/environments/new", data=NEW | {"name": name})
    page = staging.get("/?environment=two").text
    assert "<option selected>two</option>" in page
