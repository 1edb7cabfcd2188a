"""Policy forms: what depends on a choice, pickers, the sentence, warnings, and what would be replaced further out."""

import re

import pytest
from flask.testing import FlaskClient
from hypothesis import given
from hypothesis import strategies as st
from sqlmodel import Session

from helpers import sign_in
from tamarack.core.limits.window import UNITS, Window
from tamarack.core.policies.identify.token import JwtPolicy
from tamarack.store.applications import queries as subscribers
from tamarack.store.draft import queries as drafting
from tamarack.store.secrets import queries as secrets
from tamarack.web.rates import RateRow, rate_rows, to_try

POLICIES = "/apis/sailings/2/policies"
CLAIMED = {"level": "operation", "operation": "get /sailings/{id}", "kind": "rate-limit", "by": "caller", "old_name": "",
           "windows": "5 per minute"}  # fmt: skip


def names_at(world: Session, call: str) -> list[str]:
    world.expire_all()
    version = drafting.load_configuration(world).api("sailings").version("2")  # type: ignore[union-attr]
    operation = version.operation(call) if version is not None else None
    assert operation is not None
    return [policy.name for policy in operation.policies]


def test_a_policy_that_would_replace_one_further_out_asks_replace_or_keep_both(
    admin: FlaskClient, world: Session
) -> None:
    typed = CLAIMED | {"name": "steady"}
    checked = admin.post(f"{POLICIES}/check", data=typed).text
    assert 'id="policy-outer" value="sailings 2"' in checked
    assert "<input" not in checked  # what is answered stands apart from what a check says anew
    asked = admin.post(f"{POLICIES}/save", data=typed)
    assert asked.status_code == 422
    assert re.search(r'id="policy-asks">\s*<legend><span>sailings 2</span>', asked.text)
    assert names_at(world, "get /sailings/{id}") == []
    assert admin.post(f"{POLICIES}/save", data=typed | {"beside": "beside"}).status_code == 303
    assert names_at(world, "get /sailings/{id}") == ["steady-2"]
    assert admin.post(f"{POLICIES}/save", data=typed | {"beside": "replace"}).status_code == 303
    assert names_at(world, "get /sailings/{id}") == ["steady-2", "steady"]
    changed = typed | {"old_name": "steady", "windows": "6 per minute"}  # it replaces already: nothing to ask
    assert admin.post(f"{POLICIES}/save", data=changed).status_code == 303


def test_a_field_that_another_choice_hides_counts_as_empty_and_is_kept_in_the_form(admin: FlaskClient) -> None:
    typed = CLAIMED | {"name": "x", "by_name": "x-tenant"}
    assert "Each caller may call 5 times a minute." in admin.post(f"{POLICIES}/check", data=typed).text
    by_header = admin.post(f"{POLICIES}/check", data=typed | {"by": "header"}).text
    assert "each value of the header <code>x-tenant</code>" in by_header
    again = admin.post(f"{POLICIES}/save", data=typed | {"windows": "abc"}).text
    assert 'value="x-tenant"' in again
    assert re.search(r'data-shown-for="header,query,claim" data-shown-by="by" hidden', again)


@pytest.mark.parametrize(
    ("keys", "fields", "kept"),
    [
        ("a shared secret", {"secret": "harbour-register", "key_set": "http://127.0.0.1:1/x"}, ("HS256",)),
        ("a key set", {"secret": "harbour-register", "key_set": "http://127.0.0.1:1/x"}, ("RS256",)),
    ],
)
def test_jwt_asks_where_keys_come_from_and_takes_only_what_goes_with_the_answer(
    admin: FlaskClient, world: Session, keys: str, fields: dict[str, str], kept: tuple[str, ...]
) -> None:
    page = admin.get(f"{POLICIES}/add?level=operation&operation=get+/sailings/%7Bid%7D&kind=jwt").text
    assert re.search(r'<option value="a key set" selected>', page)
    assert re.search(
        r'data-shown-for="a shared secret" data-shown-by="keys_from" hidden>\s*<input[^>]*value="HS256"', page
    )
    typed = {"level": "operation", "operation": "get /sailings/{id}", "kind": "jwt", "name": "jwt", "old_name": "",
             "keys_from": keys, "algorithms": ["RS256", "HS256"]} | fields  # fmt: skip
    answer = admin.post(f"{POLICIES}/save", data=typed)
    assert answer.status_code == 303, answer.text
    world.expire_all()
    version = drafting.load_configuration(world).api("sailings").version("2")  # type: ignore[union-attr]
    assert version is not None
    placed = version.operation("get /sailings/{id}").policies[0]  # type: ignore[union-attr]
    assert isinstance(placed, JwtPolicy)
    assert placed.algorithms == kept
    assert bool(placed.secret) != bool(placed.key_set)
    edit = admin.get(f"{POLICIES}/edit?level=operation&operation=get+/sailings/%7Bid%7D&policy=jwt").text
    assert f'<option value="{keys}" selected>' in edit


def test_a_shared_secret_is_set_with_the_policy_that_uses_it(admin: FlaskClient, world: Session) -> None:
    typed = {"level": "operation", "operation": "get /sailings/{id}", "kind": "jwt", "name": "jwt", "old_name": "",
             "keys_from": "a shared secret", "algorithms": ["HS256"], "new_secret": "tide-signing"}  # fmt: skip
    short = admin.post(f"{POLICIES}/save", data=typed | {"new_value": "short-but-secret"})
    assert (short.status_code, "has 16 bytes" in short.text) == (422, True)
    assert "short-but-secret" not in short.text, "a value is never sent back"
    taken = admin.post(f"{POLICIES}/save", data=typed | {"new_secret": "harbour-register", "new_value": "x" * 40})
    assert (taken.status_code, "already" in taken.text) == (422, True)
    assert not secrets.is_set(world, "tide-signing")
    assert admin.post(f"{POLICIES}/save", data=typed | {"new_value": "x" * 40}).status_code == 303
    world.expire_all()
    assert secrets.is_set(world, "tide-signing")
    assert names_at(world, "get /sailings/{id}") == ["jwt"]
    sign_in(admin, "o.reed@skerry.example", "spruce-ink-17")  # may edit, and sets no secrets
    typed |= {"name": "other", "new_secret": "mine", "new_value": "x" * 40, "beside": "beside"}
    assert admin.post(f"{POLICIES}/save", data=typed).status_code == 422
    world.expire_all()
    assert not secrets.is_set(world, "mine")


def test_names_that_exist_are_offered_and_a_group_that_nobody_carries_is_warned_of(
    admin: FlaskClient, world: Session
) -> None:
    organization = subscribers.organization_named(world, "tern-trips")
    assert organization is not None
    organization.groups = ["island-hoppers"]
    world.add(organization)
    world.commit()
    where = f"{POLICIES}/add?level=api&kind="
    assert re.search(r'data-writes="f-allow"\s+data-adds="line">island-hoppers<', admin.get(where + "groups").text)
    browser = admin.get(where + "browser-access").text
    assert re.search(r'data-writes="f-headers"\s+data-adds="line">x-skerry-key<', browser)
    typed = {"level": "api", "kind": "groups", "name": "g", "allow": "night-watch"}
    checked = admin.post(f"{POLICIES}/check", data=typed).text.replace("&#39;", "'")
    assert "carries the group 'night-watch' yet" in checked
    assert "belongs to <code>night-watch</code>" in checked, "it is a warning, not an error"


@pytest.mark.parametrize(
    ("typed", "said"),
    [
        ({"kind": "answer-body", "do": "JSON to XML"}, "XML does not tell a list of one item"),
        ({"kind": "answer-body", "do": "XML to JSON"}, "name those that may stand several times"),
        ({"kind": "answer-body", "do": "XML to JSON", "lists": "car"}, "Numbers and truth values come as texts"),
        ({"kind": "answer-body", "do": "XML to JSON", "lists": "car", "read_values": "yes"}, ""),
        ({"kind": "request-check", "parameters": "yes"}, ""),
    ],
)
def test_what_would_not_come_back_as_it_was_is_said_before_it_is_placed(
    admin: FlaskClient, typed: dict[str, str], said: str
) -> None:
    whole = {"level": "api", "name": "n", "root": "document", "item": "item", "at_most": "1 MB"} | typed
    checked = admin.post(f"{POLICIES}/check", data=whole).text
    assert 'class="good"' in checked and (said in checked if said else 'class="warn"' not in checked)


windows = st.builds(
    lambda limit, seconds, how, burst: Window(
        limit=limit, seconds=seconds, algorithm=how, burst=burst if how == "bucket" else 0
    ),
    st.integers(1, 10**6), st.sampled_from([1, 5, 60, 90, 3600, 86_400]), st.sampled_from(["fixed", "sliding", "bucket"]),
    st.integers(1, 1_000),
)  # fmt: skip


@given(st.lists(windows, max_size=6))
def test_the_picker_shows_every_limit_of_the_text_and_a_row_more(limits: list[Window]) -> None:
    rows = rate_rows("\n".join(map(str, limits)))
    assert rows[-1] == RateRow("", "minute", "fixed", "")
    read = [(int(row.calls), row.per, row.how, int(row.burst or 0)) for row in rows[:-1]]
    assert read == [(one.limit, one.span, one.algorithm, one.burst) for one in limits]
    assert all(row.per in row.spans and set(UNITS) <= set(row.spans) for row in rows)
    tried = to_try(rows)
    if limits:
        assert (tried["rate"], tried["per"]) == (str(limits[0].limit), limits[0].span)
        others = [part for part in tried["also"].split("; ") if part]
        assert [Window.model_validate(part) for part in others] == limits[1:]


def test_the_rows_follow_the_text_and_lines_that_are_no_limit_are_left_to_the_text(admin: FlaskClient) -> None:
    rows = admin.get("/limits/rows?windows=5 per second, burst 20%0Asoon").text
    assert rows.count("rate-row") == 2
    assert 'value="5"' in rows
    assert "rate=5&amp;per=second" in rows
