"""Publishing in the console: backend, import, call path, review, rollout, rollback."""

import re
from datetime import UTC, datetime, timedelta
from io import BytesIO

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session
from werkzeug.test import TestResponse

from helpers import sign_in
from tamarack.console.apis import handing_in
from tamarack.core.configuration.model import Api
from tamarack.core.configuration.plans import Plan
from tamarack.core.openapi.read import describe
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.columns import now
from tamarack.store.documents import queries as documents
from tamarack.store.draft import queries as drafting
from tamarack.store.rollouts import queries as rolling

GOOD = """
openapi: 3.0.3
info: {title: Freight, version: "1"}
servers: [{url: "https://freight.skerry.example/v1"}]
paths:
  /freight:
    get: {summary: List the freight, responses: {"200": {description: ok}}}
  /freight/{id}:
    parameters: [{name: id, in: path, required: true, schema: {type: string}}]
    get: {summary: One booking, responses: {"200": {description: ok}}}
"""


NAMES = {"title": "Freight", "name": "freight", "version": "1", "base_path": "/freight/v1", "backend": "timetable"}


def hand_over(client: FlaskClient, session: Session, text: str = GOOD) -> str:
    """Hand a document over and have it read, as the worker does; returns the address of its page."""
    answer = client.post("/apis/new/", data={"text": text})
    assert answer.status_code == 303, answer.text
    while (reading := documents.next_to_read(session, now())) is not None:
        documents.take_in(session, reading.sha256, describe(documents.document_text(session, reading.sha256) or ""))
    session.commit()
    return answer.location


def save_import(client: FlaskClient, session: Session, **changes: str) -> TestResponse:
    return client.post(hand_over(client, session), data=NAMES | changes)


def test_a_backend_is_added_tested_changed_and_removed(admin: FlaskClient) -> None:
    typed = {"name": "freight", "targets": "http://127.0.0.1:1/base test\nhttp://127.0.0.1:2", "connect_timeout_ms": "500",
             "read_timeout_ms": "900", "act": "test"}  # fmt: skip
    tested = admin.post("/backends/new", data=typed)
    assert "TCP, failed" in tested.text
    assert "http://127.0.0.1:1/base test" in tested.text
    assert admin.get("/backends/freight").status_code == 404
    assert admin.post("/backends/new", data=typed | {"act": "save"}).status_code == 303
    page = admin.get("/backends/freight").text
    assert "http://127.0.0.1:1/base test" in page
    wrong = admin.post(
        "/backends/freight", data=typed | {"targets": "ftp://x", "read_timeout_ms": "soon", "act": "save"}
    )
    assert wrong.status_code == 422
    assert "line 1" in wrong.text
    assert "ftp://x" in wrong.text
    assert "is not a whole number" in wrong.text
    assert admin.post("/backends/freight/remove", follow_redirects=True).status_code == 200
    assert admin.get("/backends/freight").status_code == 404


def test_a_backend_in_use_is_not_removed(admin: FlaskClient) -> None:
    answer = admin.post("/backends/timetable/remove", follow_redirects=True)
    assert "is used by Sailings 1, Sailings 2" in answer.text
    assert admin.get("/backends/timetable").status_code == 200


def test_a_document_is_shown_as_understood_before_it_is_saved(admin: FlaskClient, world: Session) -> None:
    read = admin.get(hand_over(admin, world)).text
    for shown in ("2 operations", 'value="Freight"', 'value="/freight/v1"', "No problems found"):
        assert shown in read
    assert admin.get("/apis/freight/1/").status_code == 404
    assert save_import(admin, world).status_code == 303
    assert "/freight/{id}" in admin.get("/apis/freight/1/").text


def test_a_new_backend_is_offered_at_the_documents_server_and_made_with_the_api(
    admin: FlaskClient, world: Session
) -> None:
    where = hand_over(admin, world)
    offered = 'value="new:https://freight.skerry.example/v1" selected'
    assert offered in admin.get(where).text
    nowhere = admin.post(where, data=NAMES | {"backend": ""})
    assert (nowhere.status_code, "choose the backend" in nowhere.text) == (422, True)
    elsewhere = admin.post(where, data=NAMES | {"backend": "new:http://elsewhere.example"})
    assert elsewhere.status_code == 422, "only a server that the document names"
    assert admin.post(where, data=NAMES | {"backend": "new:https://freight.skerry.example/v1"}).status_code == 303
    world.expire_all()
    draft = drafting.load_configuration(world)
    made = draft.backend("freight")
    assert made is not None
    assert [target.address for target in made.targets] == ["https://freight.skerry.example/v1"]
    assert draft.api("freight").versions[0].backend == "freight"  # type: ignore[union-attr]
    assert 'value="freight" selected' in admin.get(where).text, "the next document finds it"
    wrong = admin.post(where, data=NAMES | {"address": "ftp://x", "name": "other", "base_path": "/other"})
    assert (wrong.status_code, "ftp://x" in wrong.text) == (422, True)
    bare = {"name": "raw", "title": "Raw", "version": "1", "base_path": "/raw", "address": "http://127.0.0.1:9/base"}
    assert admin.post("/apis/new/bare", data=bare).status_code == 303
    world.expire_all()
    made = drafting.load_configuration(world).backend("raw")
    assert made is not None
    assert made.targets[0].address == "http://127.0.0.1:9/base"
    both = re.search(r"/undo/\d+-\d+", admin.get("/apis/raw/1/").text)
    assert both is not None, "the API and its backend are undone together"
    shown = admin.post(both[0], data={"next": "/apis/raw/1/"}, follow_redirects=True)
    assert (shown.status_code, "Undone: " in shown.text) == (200, True)
    world.expire_all()
    assert drafting.load_configuration(world) == draft


def test_a_document_that_waits_says_how_far_it_is_and_is_read_once(admin: FlaskClient, world: Session) -> None:
    where = admin.post("/apis/new/", data={"text": GOOD}).location
    assert "Waiting to be read" in admin.get(where).text
    assert "HX-Refresh" not in admin.get(f"{where}/progress").headers
    assert admin.post(where, data=NAMES).status_code == 422, "what was not read is not saved"
    hand_over(admin, world)
    assert admin.get(f"{where}/progress").headers["HX-Refresh"] == "true"
    admin.post("/apis/new/", data={"text": GOOD})
    assert "2 operations" in admin.get(where).text
    assert documents.next_to_read(world, now()) is None


def test_a_broken_document_shows_where_and_is_not_saved(admin: FlaskClient, world: Session) -> None:
    where = hand_over(admin, world, GOOD.replace("paths:", "paths: ["))
    answer = admin.get(where)
    for shown in ("cannot be read", "cannot be saved yet", "/freight:"):
        assert shown in answer.text
    line = re.search(r'href="#(line-\d+)"', answer.text)
    assert line is not None
    assert f'id="{line[1]}" aria-current="true"' in answer.text
    assert admin.post(where, data=NAMES).status_code == 422
    assert admin.get("/apis/freight/1/").status_code == 404


@pytest.mark.parametrize(
    ("content", "words"),
    [
        ("openapi: é".encode("latin-1"), "save it as UTF-8"),
        ("openapi: 3".encode("utf-16-le"), "UTF-16 without a byte order mark"),
        (b"a: \x00", "NUL"),
        (b"  \n", "choose a file"),
        (b"#" * 1_001, "at most 1,000"),
    ],
)
def test_a_file_that_is_no_text_says_what_it_looks_like(
    admin: FlaskClient, monkeypatch: pytest.MonkeyPatch, content: bytes, words: str
) -> None:
    monkeypatch.setattr(handing_in, "MOST_BYTES", 1_000)
    answer = admin.post("/apis/new/", data={"file": (BytesIO(content), "a.yaml")})
    assert answer.status_code == 422
    assert words in answer.text


def test_an_import_that_does_not_fit_says_where_and_loses_nothing(admin: FlaskClient, world: Session) -> None:
    taken = save_import(admin, world, base_path="/sailings/v2", title="My freight")
    assert taken.status_code == 422
    assert "already the base path of Sailings 2" in taken.text
    assert 'value="My freight"' in taken.text
    assert "no backend" in save_import(admin, world, backend="nowhere").text


def test_importing_again_under_the_same_name_makes_another_version(admin: FlaskClient, world: Session) -> None:
    save_import(admin, world)
    assert save_import(admin, world, version="2", base_path="/cargo/v2").status_code == 303
    assert "Other versions" in admin.get("/apis/freight/2/").text


def test_a_document_that_was_only_looked_at_is_dropped_and_a_saved_one_stays(
    admin: FlaskClient, world: Session
) -> None:
    looked = hand_over(admin, world, GOOD.replace("Freight", "Cargo"))
    save_import(admin, world)
    assert documents.drop_unkept(world, now() + timedelta(seconds=1)) == 1
    world.commit()
    assert admin.get(looked).status_code == 404
    assert "2 operations" in admin.get("/apis/freight/1/description").text


def test_the_backend_at_the_documents_server_is_chosen(admin: FlaskClient, world: Session) -> None:
    target = drafting.load_configuration(world).backends[1].targets[0].address
    page = admin.get(hand_over(admin, world, GOOD.replace("https://freight.skerry.example/v1", target))).text
    chosen = drafting.load_configuration(world).backends[1].name
    assert f'<option value="{chosen}" selected>' in page


def test_a_bare_backend_is_passed_through(admin: FlaskClient) -> None:
    typed = {"name": "raw", "title": "Raw", "version": "1", "base_path": "/raw", "backend": "fares"}
    wrong = admin.post("/apis/new/bare", data=typed | {"base_path": "raw"})
    assert (wrong.status_code, "not a base path" in wrong.text) == (422, True)
    assert admin.post("/apis/new/bare", data=typed).status_code == 303
    assert "/*" in admin.get("/apis/raw/1/").text


def test_an_address_that_may_not_be_reached_is_not_fetched(admin: FlaskClient) -> None:
    answer = admin.post("/apis/new/", data={"address": "http://169.254.169.254/x"})
    assert "may not be reached from here" in answer.text


POLICIES = "/apis/sailings/2/policies"


def place(client: FlaskClient, **fields: str) -> object:
    return client.post(f"{POLICIES}/save", data={"level": "api", "old_name": ""} | fields)


def test_a_form_that_is_shown_again_stands_where_it_stood(admin: FlaskClient) -> None:
    """What is hidden in it is what was sent, so that it can be mended and sent again."""
    typed = {"level": "operation", "operation": "get /sailings", "kind": "rate-limit", "name": "bursts", "windows": "abc",
             "by": "caller", "old_name": ""}  # fmt: skip
    again = admin.post(f"{POLICIES}/save", data=typed)
    assert (again.status_code, 'value="abc"' in again.text or ">abc<" in again.text) == (422, True)
    hidden = dict(re.findall(r'type="hidden"\s+name="(\w+)"\s+value="([^"]*)"', again.text))
    kept = ("level", "operation", "kind", "old_name")
    assert {name: hidden[name] for name in kept} == {name: typed[name] for name in kept}
    assert "on Sailings 2, get /sailings" in again.text
    assert admin.post(f"{POLICIES}/save", data=typed | hidden | {"windows": "5 per second"}).status_code == 303
    assert "Bursts" in admin.get("/apis/sailings/2/?operation=get+/sailings").text


def test_a_policy_is_placed_changed_undone_and_shown_as_draft(admin: FlaskClient, world: Session) -> None:
    typed = {"kind": "rate-limit", "name": "daily", "windows": "500 per day", "by": "caller", "revision": "1"}
    assert place(admin, **typed).status_code == 303  # type: ignore[attr-defined]
    page = admin.get("/apis/sailings/2/?operation=get+/sailings").text
    assert re.search(r"<b>Daily</b>500\s/\sday\s*<i>draft</i>", page)
    assert "1 change <span>not rolled out" in page
    assert "Each caller may call 500 times a day." in page
    change = re.search(r"/undo/(\d+)", page)
    assert change is not None
    assert admin.post(f"/undo/{change[1]}").status_code == 303
    assert drafting.load_configuration(world) == rolling.running_configuration(world, "production")


@pytest.mark.parametrize(
    ("fields", "words"),
    [
        ({"kind": "rate-limit", "name": "x", "windows": "many per day", "by": "caller"}, "write it like"),
        ({"kind": "rate-limit", "name": "steady", "windows": "5 per day", "by": "caller"}, "choose another name"),
        ({"kind": "api-key", "name": "k", "header": "a b", "query": ""}, "is not a header field name"),
        ({"kind": "body-size", "name": "size", "at_most": "much"}, "is not a size"),
    ],
)
def test_a_policy_that_cannot_hold_stays_in_its_form_with_the_mend(
    admin: FlaskClient, fields: dict[str, str], words: str
) -> None:
    answer = place(admin, **fields)
    assert answer.status_code == 422  # type: ignore[attr-defined]
    assert words in answer.text.replace("&#39;", "'")  # type: ignore[attr-defined]
    checked = admin.post(f"{POLICIES}/check", data={"level": "api", **fields})
    assert words in checked.text.replace("&#39;", "'")


def test_the_form_says_the_rule_in_words_while_it_is_typed(admin: FlaskClient) -> None:
    typed = {"level": "api", "kind": "rate-limit", "name": "daily", "windows": "5 per day", "by": "address"}
    assert "From each address one may call 5 times a day." in admin.post(f"{POLICIES}/check", data=typed).text


def test_two_people_on_one_policy_do_not_overwrite_each_other(admin: FlaskClient) -> None:
    typed = {"kind": "rate-limit", "name": "daily", "windows": "500 per day", "by": "caller", "revision": "1"}
    place(admin, **typed)
    second = place(admin, **(typed | {"name": "weekly", "windows": "9 per day"}))
    assert second.status_code == 409  # type: ignore[attr-defined]
    assert "was changed by i.marsh@skerry.example meanwhile" in second.text  # type: ignore[attr-defined]
    assert 'value="weekly"' in second.text, "what was typed is not lost"  # type: ignore[attr-defined]
    revision = re.search(r'name="revision" value="(\d+)"', second.text)  # type: ignore[attr-defined]
    assert revision is not None
    assert place(admin, **(typed | {"name": "weekly", "revision": revision[1]})).status_code == 303  # type: ignore[attr-defined]


def test_review_shows_words_risks_and_files_and_rolls_out_what_was_seen(admin: FlaskClient, world: Session) -> None:
    place(admin, kind="rate-limit", name="daily", windows="500 per day", by="caller")
    page = admin.get("/review").text
    assert "Rate limit ‘daily’: 500 / day" in page
    assert re.search(r'<span class="plus">\+ +- 500 per day</span>', page)
    assert "get /ports is open to anyone" in page
    mark = re.search(r'name="mark" value="([^"]+)"', page)
    assert mark is not None
    place(admin, kind="rate-limit", name="hourly", windows="100 per hour", by="caller")
    stale = admin.post("/review", data={"environment": "production", "mark": mark[1]}, follow_redirects=True)
    assert "was edited after this page was made" in stale.text
    mark = re.search(r'name="mark" value="([^"]+)"', admin.get("/review").text)
    assert mark is not None
    rolled = admin.post("/review", data={"environment": "production", "mark": mark[1], "note": "more"})
    assert rolled.status_code == 303
    assert "runs now" in admin.get(rolled.location).text
    assert "The draft says what production runs" in admin.get("/review").text
    assert "2 changes" in admin.get("/review?environment=test").text
    back = admin.post("/rollouts/2/back", follow_redirects=True)
    assert "back to rollout 2" in back.text


def test_the_review_parts_new_risks_from_known_ones_and_says_how_a_new_api_is_protected(
    admin: FlaskClient, world: Session
) -> None:
    page = admin.get("/review").text
    known = "that production has already"
    assert known in page
    assert "None found." in page, "what runs already is no new risk"
    version = {"version": "1", "state": "published", "base_path": "/tides/v1", "backend": "timetable",
               "operations": [{"call": "get /tides"}, {"call": "get /open", "policies": [{"kind": "open"}]}],
               "policies": [{"kind": "api-key", "header": "x-tide-key"}]}  # fmt: skip
    tides = Api.model_validate({"name": "tides", "title": "Tides", "versions": [version]})
    drafting.save(world, COMMAND_LINE, "api", "tides", tides, "new")
    world.commit()
    page = admin.get("/review").text
    assert known in page
    for words in ("Starts to take calls", "<b>Tides 1</b>", "shows a key in the header <code>x-tide-key</code>",
                  "<code>get /open</code>: Anyone may call, without a credential.", "No rate limit holds on",
                  "get /open is open to anyone and has no rate limit", "is in no product"):  # fmt: skip
        assert words in page, words


def test_a_draft_is_discarded_item_by_item_or_wholly_also_after_a_rollback(admin: FlaskClient, world: Session) -> None:
    place(admin, kind="rate-limit", name="daily", windows="500 per day", by="caller")
    admin.post("/limits/cap", data={"cap": "9 per second"})
    gone = drafting.save(world, COMMAND_LINE, "product", "passage", None, "gone")
    assert gone is not None
    world.commit()
    page = admin.get("/review").text
    assert page.count(">Discard</button>") == 3, "one for each item that differs"
    live = rolling.running_configuration(world, "production")
    assert admin.post("/review/discard", data={"kind": "product", "item": "passage"}).status_code == 303
    world.expire_all()
    assert drafting.load_configuration(world).products == live.products
    assert drafting.load_configuration(world).apis != live.apis
    mark = re.search(r'name="mark" value="([^"]+)"', admin.get("/review").text)
    assert mark is not None
    admin.post("/review", data={"environment": "production", "mark": mark[1]})
    admin.post("/rollouts/2/back")
    assert "2 changes" in admin.get("/review").text, "the draft still says what was rolled back"
    done = admin.post("/review/discard", follow_redirects=True)
    assert "Discarded: " in done.text
    assert "The draft says what production runs." in done.text
    world.expire_all()
    assert drafting.load_configuration(world) == live
    assert admin.post("/review/discard", data={"kind": "moon"}).status_code == 400


def test_products_and_plans_are_kept_and_guarded(admin: FlaskClient) -> None:
    wrong = {"name": "barge", "title": "Barge", "limits": "fast", "approval": "person", "old_name": ""}
    assert "is not a limit" in admin.post("/plans/passage/plan", data=wrong).text
    assert admin.post("/plans/passage/plan", data=wrong | {"limits": "50 per second"}).status_code == 303
    assert "by a person" in admin.get("/plans/").text
    assert admin.post("/plans/new", data={"name": "night", "title": "Night", "apis": "fares"}).status_code == 303
    doubled = admin.post("/plans/new", data={"name": "night", "title": "Night"})
    assert "there is a product" in doubled.text
    assert "is part of Night, Passage" in admin.post("/apis/fares/remove", follow_redirects=True).text


def test_the_palette_finds_apis_operations_and_pages(admin: FlaskClient) -> None:
    assert "operation of Sailings 2" in admin.get("/find?q=board").text
    assert "/apis/fares/1/" in admin.get("/find?q=fares").text
    assert "/subscribers/tern-trips" in admin.get("/find?q=tern").text
    assert "Nothing is called ‘zzz’" in admin.get("/find?q=zzz").text


def test_what_is_typed_is_never_markup(admin: FlaskClient) -> None:
    typed = {"title": "<b>x</b>", "summary": "<script>alert(1)</script>", "owner": "", "base_path": "/sailings/v2",
             "backend": "timetable", "state": "published"}  # fmt: skip
    assert admin.post("/apis/sailings/2/description", data=typed).status_code == 303
    for path in ("/apis/", "/apis/sailings/2/", "/review", "/find?q=%3Cb"):
        text = admin.get(path).text
        assert "<script>alert" not in text
        assert "<b>x</b>" not in text


def test_the_draft_is_downloaded_as_its_files(admin: FlaskClient) -> None:
    import io
    import zipfile

    names = zipfile.ZipFile(io.BytesIO(admin.get("/settings/export").data)).namelist()
    assert {"tamarack.yaml", "backends.yaml", "apis/sailings.yaml", "documents/sailings-2.yaml"} <= set(names)


def test_an_empty_installation_leads_to_the_first_step(settings: object, session: Session) -> None:
    from tamarack.console.app import make_app
    from tamarack.settings import Settings
    from tamarack.store.people.passwords import hash_password
    from tamarack.store.people.staff import Staff

    assert isinstance(settings, Settings)
    session.add(
        Staff(email="a@skerry.example", name="A", role="platform-admin", password_hash=hash_password("first-of-all-1"))
    )
    session.commit()
    app = make_app(settings)
    app.config["WTF_CSRF_ENABLED"] = False
    client = sign_in(app.test_client(), "a@skerry.example", "first-of-all-1")
    for path, words in (("/", "Bring in the first API"), ("/apis/", "No API yet"), ("/apis/new/", "OpenAPI document"),
                        ("/backends/", "Add the first backend"), ("/plans/", "No product yet"), ("/nodes", "No node has reported yet"),
                        ("/subscribers/", "No organization yet"), ("/traffic/", "No calls in this span"), ("/traffic/calls", "No call matches"),
                        ("/review", "nothing runs yet")):  # fmt: skip
        assert words in client.get(path).text, path
    app.extensions["tamarack_engine"].dispose()


@pytest.mark.parametrize(
    ("path", "typed", "words"),
    [
        ("/backends/new", {"name": "Bad Name", "targets": "ftp://x"}, "lower-case"),
        ("/backends/timetable", {"targets": "ftp://x"}, "line 1"),
        (
            "/plans/passage/plan",
            {"name": "a", "title": "A", "limits": "fast", "approval": "automatic"},
            "is not a limit",
        ),
        (
            "/apis/sailings/2/description",
            {"base_path": "/fares/v1", "title": "S", "backend": "fares", "state": "published"},
            "already the base path",
        ),
        (
            "/apis/sailings/2/description",
            {
                "base_path": "/sailings/v2",
                "title": "S",
                "backend": "timetable",
                "state": "deprecated",
                "successor": "2",
            },
            "cannot take its own place",
        ),
        (
            "/apis/sailings/1/description",
            {
                "base_path": "/sailings/v1",
                "title": "S",
                "backend": "timetable",
                "state": "deprecated",
                "deprecated_on": "2026-11-05",
                "sunset_on": "2026-11-04",
            },
            "2026-11-04 lies before 2026-11-05",
        ),
    ],
)
def test_a_form_is_checked_as_it_is_filled_in_and_saves_nothing(
    admin: FlaskClient, world: Session, path: str, typed: dict[str, str], words: str
) -> None:
    before = drafting.mark(world)
    answer = admin.post(path, data=typed | {"act": "check"})
    assert words in answer.text
    for good in ({"name": "fine", "targets": "http://127.0.0.1:1", "connect_timeout_ms": "100", "read_timeout_ms": "100",
                  "title": "Fine", "limits": "", "approval": "automatic", "base_path": "/fine", "backend": "fares", "state": "published"},):  # fmt: skip
        assert admin.post(path, data=good | {"act": "check"}).status_code == 200
    world.expire_all()
    assert drafting.mark(world) == before


def test_a_version_is_given_its_end_and_the_review_says_so(admin: FlaskClient, world: Session) -> None:
    typed = {"title": "Sailings", "base_path": "/sailings/v2", "backend": "timetable", "state": "deprecated",
             "sunset_on": "2099-12-31", "successor": "1"}  # fmt: skip
    assert admin.post("/apis/sailings/2/description", data=typed).status_code == 303
    today = datetime.now(UTC).date()
    changed = drafting.load_configuration(world).api("sailings").version("2")  # type: ignore[union-attr]
    assert (changed.deprecated_on, str(changed.sunset_on), changed.successor) == (today, "2099-12-31", "1")  # type: ignore[union-attr]
    assert "until 2099-12-31" in admin.get("/apis/sailings/2/").text
    review = admin.get("/review").text
    assert f"deprecation date from nothing to {today}" in review
    assert "sunset date from nothing to 2099-12-31" in review


def test_every_field_of_a_plan_is_on_its_form_so_that_saving_loses_nothing(admin: FlaskClient) -> None:
    page = admin.get("/plans/passage/plan?name=skiff").text
    assert [name for name in Plan.model_fields if f'name="{name}"' not in page] == []
