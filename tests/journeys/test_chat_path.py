"""A program drafts notices with a client library of language models, unchanged: only address and key are other ones."""

import psycopg
import pytest
from openai import AuthenticationError, NotFoundError, OpenAI
from playwright.sync_api import Page

from helpers import until
from journeys.conftest import Installation, sign_in

pytestmark = pytest.mark.journey

LATE = [{"role": "user", "content": "The 14:05 from Corran to Finnvik is forty minutes late."}]


def counter_desk_key(demo: Installation, page: Page) -> str:
    """A key of Counter Desk, whose plan covers Announcements."""
    sign_in(page, demo.portal, "a.quay@skerry.example", "counter-desk-88")
    page.goto(f"{demo.portal}/applications/")
    page.get_by_role("link", name="Counter Desk").click()
    page.get_by_label("Environment of the new key").select_option("production")
    page.get_by_role("button", name="Make a key").click()
    return page.locator("#key").inner_text()


def test_a_client_library_of_language_models_works_unchanged_streamed_and_not(demo: Installation, page: Page) -> None:
    key = counter_desk_key(demo, page)
    client = OpenAI(base_url=f"{demo.production}/announcements/v1", api_key=key, max_retries=0)
    until(lambda: _models(client), "the key")
    model = _models(client)[0]
    whole = client.chat.completions.create(model=model, messages=LATE)  # type: ignore[arg-type]
    said = whole.choices[0].message.content
    assert said and "forty minutes late" in said and whole.usage and whole.usage.total_tokens > 0
    # piece by piece: as many pieces as it is told in, and what it took at the end
    pieces = list(client.chat.completions.create(model=model, messages=LATE, stream=True,  # type: ignore[call-overload]
                                                 stream_options={"include_usage": True}))  # fmt: skip
    told = [piece.choices[0].delta.content for piece in pieces if piece.choices and piece.choices[0].delta.content]
    assert len(told) > 10 and "".join(told) == said
    assert pieces[-1].usage.total_tokens == whole.usage.total_tokens
    # errors are those that the library knows
    with pytest.raises(NotFoundError):
        client.chat.completions.create(model="no-such-model", messages=LATE)  # type: ignore[arg-type]
    with pytest.raises(AuthenticationError):
        OpenAI(base_url=client.base_url, api_key="tmk_wrong", max_retries=0).models.list()
    # the tokens of both calls are recorded, of the stream from its last event
    usage = (whole.usage.prompt_tokens, whole.usage.completion_tokens)
    until(lambda: _recorded(demo) == [usage, usage], "the tokens")


def _recorded(demo: Installation) -> list[tuple[int, int]]:
    """Prompt and completion tokens of the drafts of Counter Desk that were made by now."""
    query = (
        "SELECT prompt_tokens, completion_tokens FROM call WHERE api = 'announcements' AND application = 'counter-desk'"
        " AND operation = 'post /chat/completions' AND status = 200 AND at > now() - interval '10 minutes'"
        " AND agent LIKE 'OpenAI/%' ORDER BY at"
    )
    with psycopg.connect(demo.database) as connection:
        return list(connection.execute(query))


def _models(client: OpenAI) -> list[str]:
    try:
        return [one.id for one in client.models.list()]
    except AuthenticationError:
        return []  # the key is on its way to the nodes
