"""A program drafts notices as clients of chat completions do: a key as bearer, whole answers, and streams of events."""

import http.client
import json
import re
from contextlib import closing
from email.message import Message
from typing import Any

import psycopg
import pytest
from playwright.sync_api import Page, expect

from helpers import until
from journeys.conftest import Installation, sign_in
from tamarack.demo.places import ANNOUNCER_OVERFLOW
from tamarack.demo.world import STAFF

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


def ask(
    demo: Installation, key: str, path: str, body: Any = None, api: str = "announcements", agent: str = AGENT
) -> tuple[int, Message, str]:
    """Status, fields and body of an answer, whole or streamed. The plan lets two calls a second through, so it asks
    again where it was too fast."""

    def answered() -> tuple[int, Message, str] | None:
        found = ask_once(demo, key, f"/{api}/v1{path}", body, agent)
        return None if found[0] == 429 and '"over-plan"' in found[2] else found

    return until(answered, f"an answer to {path}")  # type: ignore[no-any-return]


def ask_once(demo: Installation, key: str, path: str, body: Any = None, agent: str = AGENT) -> tuple[int, Message, str]:
    """One call."""
    fields = {"Authorization": f"Bearer {key}", "User-Agent": agent, "Content-Type": "application/json"}
    sent = json.dumps(body) if body is not None else None
    with closing(http.client.HTTPConnection("127.0.0.1", demo.base + 2, timeout=20)) as connection:
        connection.request("POST" if sent else "GET", path, sent, fields)
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


def test_five_phrasings_of_one_question_ask_the_model_once_until_what_is_kept_is_purged(
    demo: Installation, page: Page
) -> None:
    key = counter_desk_key(demo, page)
    until(lambda: ask(demo, key, "/models")[0] == 200, "the key")
    agent = "phrasing-program/1"

    def drafted(text: str, **more: Any) -> tuple[str, str]:
        """What Cache-Status says, and the draft."""
        asked = {"model": "notices", "temperature": 0, "messages": [{"role": "user", "content": text}]} | more
        _, fields, body = ask(demo, key, "/chat/completions", asked, agent=agent)
        return fields["Cache-Status"], json.loads(body)["choices"][0]["message"]["content"]

    first = drafted("Draft a notice that the 09:15 to Finnvik is forty minutes late.")
    assert first[0].endswith("; stored")
    for text in (
        "draft a notice that the 09:15 to Finnvik is forty minutes late",
        "Please draft a notice: the 09:15 to Finnvik is 40 minutes late!",
        "Could you draft a notice that the 09:15 to Finnvik is forty minutes delayed?",
        "Hello, can you draft a notice that the 09:15 to Finnvik is 40 minutes late, please?",
    ):
        status, said = drafted(text)
        assert "; hit; " in status and "detail=same-words" in status and said == first[1], text
    # by its meaning, once the node has read its model; what only looks alike is asked for
    hours = iter(range(10, 24))

    def meant() -> bool:
        sails = f"the {next(hours)}:15 to Finnvik is forty minutes late."
        drafted(f"Draft a notice that {sails}")
        return "; detail=similarity-0.9" in drafted(f"Draft a notice saying that {sails}")[0]

    until(meant, "a near one")
    status, said = drafted("Draft a notice that the 09:15 from Finnvik is forty minutes late.")
    assert status.endswith("; stored") and "from Finnvik" in said
    query = (
        "SELECT count(*), sum(saved_tokens), sum(saved_us) FROM call WHERE agent = %s AND target = '' AND status = 200"
    )
    with psycopg.connect(demo.database) as connection:
        until(lambda: connection.execute(query, (agent,)).fetchone()[0] >= 4, "the records")  # type: ignore[index]
        many, tokens, waited = connection.execute(query, (agent,)).fetchone()  # type: ignore[misc]
        assert tokens >= many * 30 and waited > many * 1000
    # seen, tried and purged in the console
    sign_in(page, demo.console, STAFF[0].email, STAFF[0].password)
    page.goto(f"{demo.console}/kept/")
    page.get_by_role("link", name="near-equal-prompts").click()
    expect(page.get_by_text("prompt: ").first).to_be_visible()
    expect(page.locator("main")).not_to_contain_text("09:15")
    page.get_by_role("link", name="compare prompts").click()
    expect(page.get_by_label("Words that mean the same here")).to_have_value(re.compile("late, delayed"))
    page.get_by_label("Prompts, in the order they come").fill("Is it late?\nIs it delayed?\nIs it early?")
    page.get_by_role("button", name="Compare").click()
    expect(page.get_by_text("3 prompts: 2 ask the model, 1 is given an answer that is kept.")).to_be_visible()
    page.get_by_label("Least nearness of meanings").fill("7")
    page.get_by_label("Prompts, in the order they come").fill("alone")
    page.get_by_role("button", name="Compare").click()
    expect(page.get_by_text("Two prompts or more are compared")).to_be_visible()
    expect(page.get_by_label("Least nearness of meanings")).to_have_value("7")
    page.goto(f"{demo.console}/kept/")
    page.get_by_role("link", name="near-equal-prompts").click()
    page.on("dialog", lambda dialog: dialog.accept())
    page.get_by_role("button", name="Forget all of it").click()
    until(
        lambda: drafted("draft a notice that the 09:15 to Finnvik is forty minutes late")[0].endswith("; stored"),
        "a purge",
    )


def recorded(demo: Installation) -> list[tuple[int, int]]:
    """Prompt and completion tokens of the drafts that were made."""
    query = (
        "SELECT prompt_tokens, completion_tokens FROM call WHERE operation = 'post /chat/completions'"
        " AND status = 200 AND agent = %s AND at > now() - interval '10 minutes' ORDER BY at"
    )
    with psycopg.connect(demo.database) as connection:
        return list(connection.execute(query, (AGENT,)))


def test_a_models_server_becomes_a_chat_api_whose_fifth_call_is_over_its_tokens(demo: Installation, page: Page) -> None:
    admin = STAFF[0]
    sign_in(page, demo.console, admin.email, admin.password)
    # brought in from its address alone, which tells its models
    page.goto(f"{demo.console}/apis/new/")
    page.get_by_role("link", name="Start from a language model's server").click()
    page.get_by_label("Address", exact=True).fill("http://127.0.0.1:1")
    page.get_by_role("button", name="Ask for its models").click()
    expect(page.get_by_text("may not be reached from here")).to_be_visible()
    page.get_by_label("Address", exact=True).fill(f"http://127.0.0.1:{demo.base + 20 + ANNOUNCER_OVERFLOW}")
    page.get_by_role("button", name="Ask for its models").click()
    expect(page.get_by_text("It offers 1: tide-notices-2.")).to_be_visible()
    page.get_by_label("Models that callers may ask for").fill("pen = tide-notices-2")
    page.get_by_label("Title").fill("Harbour Pen")
    page.get_by_label("Name in addresses and files").fill("harbour-pen")
    page.get_by_label("Base path").fill("/harbour-pen/v1")
    page.get_by_role("button", name="Save to the draft").click()
    expect(page.get_by_text("Harbour Pen 1 is in the draft, with 4 operations.")).to_be_visible()
    # bounded by tokens, offered, and rolled out
    page.get_by_label("Add to Meter, Harbour Pen 1").click()
    page.get_by_role("link", name="Token limit").click()
    page.get_by_label("Tokens, at most, as text").fill("250 per day")
    page.get_by_role("button", name="Place it").click()
    expect(page.get_by_text("Each caller may use 250 tokens a day.")).to_be_visible()
    page.goto(f"{demo.console}/plans/notices")
    page.get_by_role("checkbox", name="Harbour Pen", exact=True).check()
    page.get_by_role("button", name="Save to the draft").click()
    page.get_by_role("link", name=re.compile("not rolled out")).click()
    page.get_by_role("button", name="Roll out to production").click()
    expect(page.get_by_text("Every node that responds is running it.")).to_be_visible()
    # the four first calls leave too little for a fifth
    key = counter_desk_key(demo, page)
    late = {"model": "pen", "messages": LATE, "max_tokens": 60}
    until(lambda: ask(demo, key, "/models", api="harbour-pen")[0] == 200, "the key")
    for _ in range(4):
        status, fields, body = ask(demo, key, "/chat/completions", late, api="harbour-pen")
        assert (status, json.loads(body)["model"]) == (200, "tide-notices-2")
        assert 'qu="tokens"' in fields["RateLimit-Policy"]
    status, fields, body = ask(demo, key, "/chat/completions", late, api="harbour-pen")
    problem = json.loads(body)
    assert (status, problem["reason"]) == (429, "over-tokens"), body
    assert int(fields["Retry-After"]) > 0 and "250 tokens per day" in problem["detail"]
    assert ask(demo, key, "/chat/completions", late | {"max_tokens": 1}, api="harbour-pen")[0] == 200
    # the board of whoever pays tells whose tokens they were
    sign_in(page, demo.console, admin.email, admin.password)
    page.goto(f"{demo.console}/traffic/boards/language-models?span=hour")
    expect(page.get_by_role("link", name="Tokens, by application", exact=True)).to_be_visible()
    until(lambda: page.reload() and page.get_by_text("counter-desk").count(), "the application on the board")


def test_a_developer_talks_to_the_api_from_its_page(demo: Installation, page: Page) -> None:
    sign_in(page, demo.portal, "a.quay@skerry.example", "counter-desk-88")
    page.goto(f"{demo.portal}/apis/announcements/1/")
    page.get_by_role("link", name="Talk").click()
    page.get_by_label("Your message").fill("The 14:05 from Corran is late.")
    page.keyboard.press("Control+Enter")
    answers = page.locator(".talk .assistant")
    expect(answers.first).to_contain_text("The 14:05 from Corran is late")
    expect(page.locator("[data-took=completion_tokens]")).to_have_text(re.compile("[0-9]+"))
    first = int(page.locator("[data-took=prompt_tokens]").inner_text())
    # what was said before goes along, so the next prompt is longer
    page.get_by_label("Your message").fill("And the next one?")
    page.get_by_role("button", name="Send").click()
    expect(answers.nth(1)).to_contain_text("And the next one")
    expect(page.locator("[data-took=prompt_tokens]")).not_to_have_text(str(first))
    assert int(page.locator("[data-took=prompt_tokens]").inner_text()) > first
    # what is refused is told in the gateway's words, and what was typed is still there
    page.get_by_label("Longest answer, in tokens").fill("50000")
    page.get_by_label("Your message").fill("A long story.")
    page.get_by_role("button", name="Send").click()
    expect(page.locator(".talk .refused")).to_contain_text("asks for about")
    expect(page.get_by_label("Your message")).to_have_value("A long story.")
