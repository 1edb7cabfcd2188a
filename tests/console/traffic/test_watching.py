"""Traffic in the console: the overview, the list of calls, and the story of one."""

import html
import io
import json
import re
import threading
from datetime import UTC, datetime, timedelta

import psycopg
import pyarrow.parquet as pq
import pytest
from flask.testing import FlaskClient
from sqlalchemy import Engine

from core.traffic.test_traffic import record
from helpers import sign_in
from tamarack.settings import Settings
from tamarack.store.traffic.recording import Batch, take_in
from tamarack.web.pictures.traffic import minutes_passed
from tamarack.web.table_formats import Columns, pieces
from tamarack.worker.hand_over import make_next


@pytest.fixture
def traffic(settings: Settings) -> str:
    """Ninety calls of the last minutes, ten of them refused; returns the id of one that was."""
    start = datetime.now(UTC) - timedelta(minutes=3)
    made = []
    for place in range(90):
        at = start + timedelta(seconds=place)
        refused = place % 9 == 0
        made.append(
            record(
                int(at.timestamp() * 1_000_000), 20_000, id=f"{int(at.timestamp() * 1000):011x}abc{place:06x}",
                environment="production", api="sailings", version="2", operation="get /sailings", method="GET",
                path="/sailings/v2/sailings", application="kiosk", organization="ticket-office", plan="passage/cutter",
                status=429 if refused else 200, reason="over-plan" if refused else "", rollout=2,
            )
        )  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b", "production-1", made)])
    return made[9].id


def test_the_overview_counts_calls_and_names_the_reasons(admin: FlaskClient, traffic: str) -> None:
    page = admin.get("/traffic/?span=hour").text
    assert "<dd>90<small>" in page
    assert "11\u202f%" in page
    assert "over-plan" in page
    assert "kiosk" in page
    assert "From the cache" in page
    assert re.search(r"20(\.\d)?\u202fms", page)
    classes = admin.get("/traffic/?span=hour&by=class").text
    assert re.findall(r"</svg>\s*(\dxx)</span>", classes) == ["2xx", "3xx", "4xx", "5xx"]
    assert re.search(r"[1-9]\d* 2xx, 0 3xx, [1-9]\d* 4xx, 0 5xx", classes)
    live = admin.get("/traffic/?span=hour&part=live&api=sailings").text
    assert "<html" not in live
    assert "data-points" in live


def test_calls_are_filtered_and_one_is_found_by_its_id(admin: FlaskClient, traffic: str) -> None:
    refused = admin.get("/traffic/calls?outcome=refused").text
    assert refused.count("data-href") == 10
    assert admin.get("/traffic/calls?status=2xx&path=sailings").text.count("data-href") == 50
    first = admin.get("/traffic/calls").text
    older = re.search(r'href="([^"]*after=[^"]*)">Older', first)
    assert older is not None
    rest = admin.get(older[1].replace("&amp;", "&")).text
    assert rest.count("data-href") == 40
    assert admin.get("/traffic/calls?api=fares").text.count("data-href") == 0
    assert admin.get("/traffic/calls?where=reason+is+over-plan&where=took+from+10+ms").text.count("data-href") == 10
    assert admin.get("/traffic/calls?q=/v2/sail").text.count("data-href") == 50
    assert admin.get("/traffic/calls?q=192.0.2.77").text.count("data-href") == 0
    assert "address is 192.0.2.77" in admin.get("/traffic/calls?q=192.0.2.77").text
    assert admin.get(f"/traffic/calls?q={traffic}").location.endswith(traffic)
    wrong = admin.get("/traffic/calls?where=colour+is+red").text
    assert "is not a field of calls" in wrong
    assert 'value="colour is red"' in wrong
    found = admin.get(f"/traffic/calls?id={traffic}")
    assert found.location.endswith(traffic)
    story = admin.get(found.location).text
    assert "The plan&#39;s limit is used up" in story or "the plan&#39;s limit is used up" in story
    assert "change to a plan that allows more" in story
    assert "What holds there now" in story
    assert f"/traffic/calls/{traffic}" in admin.get(f"/find?q={traffic}").text


def test_a_call_that_is_not_there_says_so(admin: FlaskClient) -> None:
    assert "is recorded" in admin.get("/traffic/calls?id=0000").text
    assert admin.get("/traffic/calls/0123456789abcdef").status_code == 404
    assert admin.get("/traffic/calls?after=nonsense&first=nonsense").status_code == 200
    assert "is not a span" in admin.get("/traffic/calls?first=nonsense&last=nonsense").text


def test_the_rate_of_a_point_that_still_runs_is_that_of_its_part() -> None:
    start = datetime(2026, 11, 23, 10, tzinfo=UTC)
    hour = timedelta(hours=1)
    assert minutes_passed(start, hour, start + timedelta(hours=5)) == 60
    assert minutes_passed(start, hour, start + timedelta(minutes=12)) == 12
    assert minutes_passed(start, hour, start - timedelta(minutes=1)) == pytest.approx(1 / 3)


def test_columns_are_chosen_and_kept(admin: FlaskClient, traffic: str) -> None:
    chosen = admin.get("/traffic/calls?columns=time&columns=id&columns=plan&columns=class&columns=made-up").text
    heads = re.findall(r"<th[^>]*>([^<]*)</th>", chosen)
    assert heads == ["when (UTC)", "call id", "plan", "status class"]
    assert "passage/cutter" in chosen
    assert re.findall(r"<th[^>]*>([^<]*)</th>", admin.get("/traffic/calls").text) == heads
    tail = admin.get("/traffic/calls?follow=yes")
    assert 'hx-trigger="every 2s"' in tail.text
    assert "<html" not in admin.get("/traffic/calls?follow=yes&part=rows").text


def test_operations_and_callers_are_told_in_several_orders(admin: FlaskClient, traffic: str) -> None:
    slow = admin.get("/traffic/?span=hour&operations=slowest").text
    assert "95 % within" in slow
    assert "get /sailings" in slow
    assert "No call failed in this span" in admin.get("/traffic/?span=hour&operations=failing").text
    refused = admin.get("/traffic/?span=hour&callers=refused").text
    assert "outcome=refused" in refused
    assert "is not a span" in admin.get("/traffic/?first=x&last=y").text


@pytest.fixture
def explored(settings: Settings) -> list[str]:
    """Five calls of two APIs, one of an application with a doubtful name."""
    at = int(datetime.now(UTC).timestamp() * 1_000_000) - 60_000_000
    rows = [
        record(at + number, 1000 * (number + 1), id=f"{at // 1000:011x}{number:013x}", environment="production", api=api,
               version="1", status=status, path=f"/{api}/{number}", application="=cmd()" if number == 4 else "kiosk",
               reason="over-plan" if status == 429 else "")
        for number, (api, status) in enumerate([("sailings", 200)] * 3 + [("fares", 429)] * 2)
    ]  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("explored", "n", rows)])
    return [row.id for row in rows]


@pytest.mark.usefixtures("traffic", "calls_out_of_reach")
def test_what_takes_too_long_is_given_up_in_words(admin: FlaskClient) -> None:
    given_up = admin.get("/traffic/explore/?split=path&span=hour")
    assert given_up.status_code == 503
    assert "No answer within 0.05 s, for single calls are read. Ask of a shorter span" in given_up.text
    assert "No answer within 0.05 s" in admin.get("/traffic/calls?where=path+contains+/sail").text
    assert admin.get("/traffic/explore/?split=api&span=hour").status_code == 200  # roll-ups answer all the same
    for where in ("path+contains+/sail", "api+is+sailings"):
        admin.post(f"/traffic/explore/save?where={where}&picture=line", data={"title": where[:4]})
    board = admin.post("/traffic/boards/new", data={"title": "Both"}).location
    for id in re.findall(r'<option value="([0-9a-f]+)">', admin.get(board).text):
        admin.post("/traffic/boards/both/tiles", data={"exploration": id, "width": "half"})
    tiles = admin.get("/traffic/boards/both/?span=hour").text.split('<section class="tile')[1:]
    assert ["No answer within" in tile for tile in tiles].count(True) == 1
    assert ["<svg" in tile for tile in tiles].count(True) == 1


WHERE = "/traffic/explore/"
FILES = "/traffic/hand-over/"


@pytest.mark.usefixtures("explored")
def test_an_exploration_is_drawn_and_narrowed(admin: FlaskClient) -> None:
    page = admin.get(f"{WHERE}?split=api&span=hour").text
    assert "<svg" in page
    assert "sailings" in page
    narrower = re.search(r'data-href="([^"]*api\+is\+fares[^"]*)"', page)
    assert narrower is not None
    narrowed = admin.get(narrower[1].replace("&amp;", "&")).text
    assert "<code>api is fares</code>" in narrowed
    points = json.loads(html.unescape(re.search(r'data-points="([^"]*)"', narrowed)[1]))  # type: ignore[index]
    closer = next(point["href"] for point in points if point["text"].endswith("all calls 2"))
    assert "No call matches" not in admin.get(closer).text
    assert "~first~/~last~" in html.unescape(re.search(r'data-drag="([^"]*)"', narrowed)[1]).replace("%2F", "/")  # type: ignore[index]
    wrong = admin.get(f"{WHERE}?where=colour+is+red&where=api+is+fares&span=hour")
    assert "is not a field of calls" in wrong.text
    assert 'value="api is fares"' in wrong.text  # what is right stands all the same
    assert "No call matches" in admin.get(f"{WHERE}?where=api+is+nothing").text
    assert "is not a measure" in admin.get(f"{WHERE}?measure=joy").text


@pytest.mark.usefixtures("explored")
@pytest.mark.parametrize("picture", ["area", "line", "bar", "heat map", "table"])
@pytest.mark.parametrize(
    "asked",
    [
        "measure=p95&split=api",
        "measure=callers",
        "measure=calls&split=path&against=before",
        "measure=cache+ratio&split=class",
        "measure=rate&split=outcome&against=week",
    ],
)
def test_every_picture_shows_every_question(admin: FlaskClient, asked: str, picture: str) -> None:
    answer = admin.get(f"{WHERE}?{asked}&picture={picture}&span=hour")
    assert answer.status_code == 200
    assert ("data-points" in answer.text) == (picture != "table")
    assert ("earlier</th>" in answer.text) == ("against" in asked)
    if "outcome" in asked and picture in ("area", "bar"):
        assert 'class="refused"' in answer.text  # how calls ended looks the same everywhere


@pytest.mark.usefixtures("explored")
def test_conditions_are_suggested_from_the_fields_and_the_traffic(admin: FlaskClient) -> None:
    def suggested(typed: str) -> list[str]:
        page = admin.get(f"{WHERE}suggest", query_string={"where": typed}).text
        return [html.unescape(one) for one in re.findall(r'value="([^"]*)"', page)]

    assert suggested("ap") == ["api is ", "application is "]
    assert suggested("api ") == ["api is ", "api is not ", "api starts with ", "api contains "]
    assert suggested("took f") == ["took from "]
    assert suggested("api is ") == ["api is fares", "api is sailings"]
    assert suggested("api is sailings, f") == ["api is sailings, fares"]
    assert suggested("path is /sail") == ["path is /sailings/0", "path is /sailings/1", "path is /sailings/2"]
    assert suggested("colour is r") == []


@pytest.mark.usefixtures("explored")
def test_an_exploration_is_handed_over_in_every_form(admin: FlaskClient) -> None:
    asked = "split=api&split=application&measure=error+share&span=hour"
    table = admin.get(f"{FILES}exploration.csv?{asked}").text.splitlines()
    assert table[0] == "start,api,application,calls,error share"
    assert any(line.endswith("sailings,kiosk,3,0.0") for line in table)
    assert any(",'=cmd()," in line for line in table)
    lines = [json.loads(line) for line in admin.get(f"{FILES}exploration.jsonl?{asked}").text.splitlines()]
    assert sum(line["calls"] for line in lines) == 5
    parquet = pq.read_table(io.BytesIO(admin.get(f"{FILES}exploration.parquet?{asked}").data))
    assert parquet.column_names == ["start", "api", "application", "calls", "error share"]
    assert parquet.to_pylist() == [line | {"start": datetime.fromisoformat(line["start"])} for line in lines]
    assert admin.get(f"{FILES}exploration.csv?measure=joy").status_code == 422
    assert admin.get(f"{FILES}exploration.doc").status_code == 404


def test_a_list_of_calls_is_handed_over_with_its_columns_or_the_standards_names(
    admin: FlaskClient, explored: list[str]
) -> None:
    asked = "where=api+is+fares&span=hour&columns=id&columns=time&columns=status&columns=took&columns=outcome"
    table = admin.get(f"{FILES}calls.csv?{asked}").text.splitlines()
    assert table[0] == "id,time,status,total_us"
    assert [line.split(",")[0] for line in table[1:]] == [explored[4], explored[3]]
    assert table[1].endswith(",429,5000")
    (named, *_) = [json.loads(line) for line in admin.get(f"{FILES}calls.jsonl?{asked}&names=otel").text.splitlines()]
    assert named["http.response.status_code"] == 429
    assert datetime.fromisoformat(named["timestamp"]).tzinfo is not None
    whole = pq.read_table(io.BytesIO(admin.get(f"{FILES}calls.parquet?span=hour&all=yes").data))
    assert whole.num_rows == 5
    assert {"application", "path", "prompt_tokens"} <= set(whole.column_names)
    assert admin.get(f"{FILES}calls.csv?where=nonsense").status_code == 422


def test_a_long_list_becomes_a_file_with_progress(
    admin: FlaskClient, explored: list[str], settings: Settings, engine: Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("tamarack.store.handed_over.queries.AT_ONCE", 3)
    answer = admin.get(f"{FILES}calls.jsonl?span=hour&columns=id")
    assert answer.location == f"{FILES}files"
    waiting = admin.get(f"{FILES}files?part=table").text
    assert 'progress max="5" value="0"' in waiting
    id = re.search(r"files/([0-9a-f]+)/stop", waiting)[1]  # type: ignore[index]
    assert admin.get(f"{FILES}files/{id}").status_code == 404
    assert make_next(engine, settings, threading.Event())
    assert not make_next(engine, settings, threading.Event())
    assert "Take it" in admin.get(f"{FILES}files?part=table").text
    taken = admin.get(f"{FILES}files/{id}")
    assert [json.loads(line)["id"] for line in taken.text.splitlines()] == explored[::-1]
    taken.close()
    admin.get(f"{FILES}calls.csv?span=hour")
    admin.post(f"{FILES}files/{re.search(r'files/([0-9a-f]+)/stop', admin.get(f'{FILES}files').text)[1]}/stop")  # type: ignore[index]
    assert "stopped" in admin.get(f"{FILES}files?part=table").text
    assert not make_next(engine, settings, threading.Event())
    sign_in(admin, "o.reed@skerry.example", "spruce-ink-17")
    assert admin.get(f"{FILES}files/{id}").status_code == 404  # files are their owner's


@pytest.mark.usefixtures("explored")
def test_an_exploration_is_saved_shared_changed_and_removed(admin: FlaskClient) -> None:
    asked = "measure=refused&split=reason&span=week"
    saved = admin.post(f"{WHERE}save?{asked}", data={"title": "Refused, by reason", "roles": ["api-owner"]})
    id = re.search(r"saved=([0-9a-f]+)", saved.location)[1]  # type: ignore[index]
    opened = admin.get(f"{WHERE}saved/{id}")
    assert "measure=refused" in opened.location
    assert "Refused, by reason" in admin.get(opened.location).text
    assert "a title of 1 to 120" in admin.post(f"{WHERE}save?{asked}", data={"title": " "}, follow_redirects=True).text
    assert (
        "is no role"
        in admin.post(f"{WHERE}save?{asked}", data={"title": "T", "roles": "king"}, follow_redirects=True).text
    )
    sign_in(admin, "o.reed@skerry.example", "spruce-ink-17")
    assert admin.get(f"{WHERE}saved/{id}").status_code == 303
    theirs = admin.post(f"{WHERE}save?{asked}", data={"title": "Mine now", "id": id}, follow_redirects=True).text
    assert "Only its owner can change an exploration" in theirs
    assert "Only its owner can" in admin.post(f"{WHERE}saved/{id}/remove", follow_redirects=True).text
    sign_in(admin, "s.heath@skerry.example", "lichen-grey-23")
    assert admin.get(f"{WHERE}saved/{id}").status_code == 404
    sign_in(admin, "i.marsh@skerry.example", "larch-gold-41")
    admin.post(f"{WHERE}save?measure=failed", data={"title": "Failed", "id": id})
    assert "measure=failed" in admin.get(f"{WHERE}saved/{id}").location
    assert "Failed is removed" in admin.post(f"{WHERE}saved/{id}/remove", follow_redirects=True).text
    assert admin.get(f"{WHERE}saved/{id}").status_code == 404


def test_a_table_keeps_numbers_numbers_and_makes_formulas_text() -> None:
    rows = [(-3.5, "-3.5", "+47", "1e3", "=1+1", "-a", "@x", "-1+1")]
    columns: Columns = dict.fromkeys("abcdefgh", "text")
    written = b"".join(pieces("csv", columns, rows)).decode().splitlines()[1]
    assert written == "-3.5,-3.5,+47,1e3,'=1+1,'-a,'@x,'-1+1"
