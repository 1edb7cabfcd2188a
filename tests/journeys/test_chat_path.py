"""A program drafts notices as clients of chat completions do: a key as bearer, whole answers, and streams of events."""

import http.client
import json
from contextlib import closing
from email.message import Message
from typing import Any

import psycopg
import pytest
from playwright.sync_api import Page

from helpers import until
from journeys.conftest import Installation, sign_in

pytestmark = pytest.mark.journey

LATE = [{"role": "user", "content": "The 14:05 from Corran to Finnvik is forty minutes late."}]
AGENT = "drafting-program/1"


def counter_desk_key(demo: Installation, page: Page) -> str:
    """A key of Counter Desk, whose plan covers Announcements."""
    sign_in(page, demo.portal, "a.quay@skerry.example", "counter-desk-88")
    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Counter Desk").click()
    page.get_by_label("Environment of the new key").select_option("production")
    page.get_by_role("button", name="Make a key").click()
    return page.locator("#key").inner_text()


def ask(demo: Installation, key: str, path: str, body: Any = None) -> tuple[int, Message, str]:
    """Status, fields and body of an answer, whole or streamed. The plan lets two calls a second through, so it asks
    again where it was too fast."""

    def answered() -> tuple[int, Message, str] | None:
        found = ask_once(demo, key, path, body)
        return None if found[0] == 429 and '"over-plan"' in found[2] else found

    return until(answered, f"an answer to {path}")  # type: ignore[no-any-return]


def ask_once(demo: Installation, key: str, path: str, body: Any = None) -> tuple[int, Message, str]:
    """One call."""
    fields = {"Authorization": f"Bearer {key}", "User-Agent": AGENT, "Content-Type": "application/json"}
    sent = json.dumps(body) if body is not None else None
    with closing(http.client.HTTPConnection("127.0.0.1", demo.base + 2, timeout=20)) as connection:
        connection.request("POST" if sent else "GET", f"/announcements/v1{path}", sent, fields)
        answer = connection.getresponse()
        return answer.status, answer.headers, answer.read().decode()


def events(text: str) -> list[str]:
    """The data of each event of a stream."""
    return [event.removeprefix("data: ") for event in text.split("\n\n") if event]


def test_a_key_as_bearer_gets_models_whole_drafts_and_drafts_piece_by_piece(demo: Installation, page: Page) -> None:
    key = counter_desk_key(demo, page)
    until(lambda: ask(demo, key, "/models")[0] == 200, "the key")
    model = json.loads(ask(demo, key, "/models")[2])["data"][0]["id"]
    whole = json.loads(ask(demo, key, "/chat/completions", {"model": model, "messages": LATE})[2])
    said, usage = whole["choices"][0]["message"]["content"], whole["usage"]
    assert "forty minutes late" in said and usage["total_tokens"] > 0
    assert [one["id"] for one in json.loads(ask(demo, key, "/models")[2])["data"]] == ["notices"]
    # piece by piece, and the last tells what it took
    streamed = {"model": model, "messages": LATE, "stream": True, "stream_options": {"include_usage": True}}
    _, fields, body = ask(demo, key, "/chat/completions", streamed)
    assert fields["Content-Type"] == "text/event-stream"
    came = events(body)
    assert came[-1] == "[DONE]"
    told = [json.loads(event) for event in came[:-1]]
    pieces = [one["choices"][0]["delta"].get("content", "") for one in told if one["choices"]]
    assert len(pieces) > 10 and "".join(pieces) == said and told[-1]["usage"] == usage
    # who did not ask for that is not told, and it is counted all the same
    unasked = events(ask(demo, key, "/chat/completions", {"model": model, "messages": LATE, "stream": True})[2])
    assert unasked[-1] == "[DONE]" and not any("usage" in event for event in unasked)
    assert ask(demo, key, "/chat/completions", {"model": "none", "messages": LATE})[0] == 404
    refused = ask(demo, key, "/chat/completions", {"model": "notices-long", "messages": LATE})
    assert refused[0] == 403 and "may ask for notices" in json.loads(refused[2])["detail"]
    status, fields, _ = ask(demo, "tmk_wrong", "/models")
    assert status == 401 and fields["WWW-Authenticate"].startswith("Bearer")
    # the tokens of all drafts are recorded, of streams from their last event
    all_three = [(usage["prompt_tokens"], usage["completion_tokens"])] * 3
    until(lambda: recorded(demo) == all_three, "the tokens")


def test_what_the_reserved_target_turns_away_goes_to_the_other_and_comes_back_and_no_call_fails(
    demo: Installation, page: Page
) -> None:
    key = counter_desk_key(demo, page)
    until(lambda: ask(demo, key, "/models")[0] == 200, "the key")
    failed: list[str] = []

    def served_by() -> str:
        status, _, body = ask(demo, key, "/chat/completions", {"model": "notices", "messages": LATE, "max_tokens": 60})
        if status != 200:
            failed.append(body)
        return str(json.loads(body).get("model", ""))

    until(lambda: served_by() == "quay-notices-1", "the reserved target")
    until(lambda: served_by() == "tide-notices-2", "the other one")
    until(lambda: served_by() == "quay-notices-1", "the reserved target again")
    assert failed == []
    query = "SELECT note FROM call WHERE agent = %s AND note LIKE '%%answered 429%%'"
    with psycopg.connect(demo.database) as connection:
        until(lambda: connection.execute(query, (AGENT,)).fetchall(), "why it went to the other one")


def recorded(demo: Installation) -> list[tuple[int, int]]:
    """Prompt and completion tokens of the drafts that were made."""
    query = (
        "SELECT prompt_tokens, completion_tokens FROM call WHERE operation = 'post /chat/completions'"
        " AND status = 200 AND agent = %s AND at > now() - interval '10 minutes' ORDER BY at"
    )
    with psycopg.connect(demo.database) as connection:
        return list(connection.execute(query, (AGENT,)))
