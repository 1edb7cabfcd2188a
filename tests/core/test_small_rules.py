"""Small rules: credentials, passwords, permissions, example calls, refusals."""

import json
import shlex
import subprocess
import sys

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.carrying.refusals import REASONS
from tamarack.core.environments.environment import Environment
from tamarack.core.http.agents import agent_in_words
from tamarack.core.identity.credentials import LENGTH, PREFIX, digest, hint, make_key, state_of
from tamarack.core.identity.passwords import password_problem
from tamarack.core.identity.permissions import STAFF_ROLES, person_may, staff_may, staff_may_roll_out
from tamarack.core.policies import KINDS
from tamarack.core.text import cleaned, one_line
from tamarack.core.trying.examples import ExampleCall, as_curl, as_javascript, as_python


@given(st.binary(min_size=400, max_size=400))
def test_a_key_has_its_form_whatever_the_chance(random: bytes) -> None:
    key = make_key(bytes(range(200)) + random)
    assert key.startswith(PREFIX)
    assert len(key) == len(PREFIX) + LENGTH
    assert key[len(PREFIX) + 3 : -4] not in hint(key)


def test_a_key_is_never_made_of_too_little_chance() -> None:
    with pytest.raises(ValueError, match="made only"):
        make_key(b"\xff" * 200)


def test_the_same_key_hashes_otherwise_under_another_pepper() -> None:
    assert digest(b"key", bytes(32)) == digest(b"key", bytes(32))
    assert digest(b"key", bytes(32)) != digest(b"key", b"\1" * 32)


def test_a_credential_ends_at_its_last_moment() -> None:
    assert state_of(100.0, False, 99.9) == "in force"
    assert state_of(100.0, False, 100.0) == "expired"
    assert state_of(None, True, 0) == "revoked"


@pytest.mark.parametrize(
    ("password", "words"),
    [("short", "at least 12"), ("aaaaaaaaaaaa", "same few"), ("mette-tern-1", "e-mail name"), ("password1234", "well-known"),
     ("x" * 300, "at most 200"), ("island-hopper-52", None)],
)  # fmt: skip
def test_a_password_is_held_to_rules_that_are_named(password: str, words: str | None) -> None:
    problem = password_problem(password, "mette-tern@tern-trips.example")
    assert (problem is None) if words is None else (problem is not None and words in problem)


def test_api_owners_roll_out_where_it_is_open_to_them_and_unknown_roles_do_nothing() -> None:
    tried, live = Environment(name="test", open_to_owners=True), Environment(name="production")
    assert [role for role in STAFF_ROLES if staff_may_roll_out(role, live)] == ["platform-admin"]
    assert [role for role in STAFF_ROLES if staff_may_roll_out(role, tried)] == ["platform-admin", "api-owner"]
    assert not staff_may_roll_out("platform-admin", None)
    assert all(staff_may(role, "see") for role in STAFF_ROLES)
    assert not staff_may("captain", "see")
    assert person_may("lead", "team")
    assert not person_may("member", "team")


CALL = ExampleCall(
    "POST",
    "http://127.0.0.1:9/a?b=it's",
    {"x-skerry-key": "k'\"$x", "content-type": "application/json"},
    '{"a": "it\'s"}',
)


def test_an_example_in_curl_keeps_every_character() -> None:
    words = shlex.split(as_curl(CALL))
    assert words[-1] == CALL.url
    assert words[words.index("--data-raw") + 1] == CALL.body
    assert [words[n + 1] for n, word in enumerate(words) if word == "--header"] == [
        f"{name}: {value}" for name, value in CALL.headers.items()
    ]


def test_an_example_in_python_is_a_program() -> None:
    compile(as_python(CALL), "example", "exec")
    checked = subprocess.run([sys.executable, "-c", f"import ast; ast.parse({as_python(CALL)!r})"], check=False)
    assert checked.returncode == 0


def test_an_example_in_javascript_quotes_by_json() -> None:
    assert json.dumps(CALL.url) in as_javascript(CALL)
    assert json.dumps(CALL.body) in as_javascript(CALL)


def test_every_reason_has_words_and_a_status_of_its_kind() -> None:
    for code, reason in REASONS.items():
        assert code == reason.code
        assert 400 <= reason.status < 600
        assert reason.status < 500 or reason.by != "caller" or reason.status == 501  # what it asked for is not known
        assert reason.title
        assert reason.detail.endswith(".")
        assert reason.mend.endswith(".")


def test_every_policy_kind_has_words_for_its_form() -> None:
    for kind in KINDS.values():
        for name, field in kind.model.model_fields.items():
            assert name == "kind" or (field.title and field.description), f"{kind.kind}.{name}"


@pytest.mark.parametrize(
    ("text", "line"),
    [("plain", "plain"), ("a\r\nX-Evil: 1", "a\ufffd\ufffdX-Evil: 1"), ("nul \0", "nul \ufffd"), ("caf\u00e9 \u2028", "caf\u00e9 \ufffd"),
     ("\ud800", "\ufffd"), ("\x9b31m", "\ufffd31m")],
)  # fmt: skip
def test_text_of_people_is_one_line_that_everything_takes(text: str, line: str) -> None:
    assert one_line(text) == line
    assert one_line(line) == line


def test_json_is_cleaned_of_what_no_database_takes_and_keeps_its_line_ends() -> None:
    assert cleaned({"a\0": ["b\0", 1, None, ("c\nd",)]}) == {"a\ufffd": ["b\ufffd", 1, None, ["c\nd"]]}


@pytest.mark.parametrize(
    ("said", "words"),
    [
        (
            "Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 (KHTML, like Gecko) Chrome/156.0.0.0 Safari/537.36",
            "Chrome on Linux",
        ),
        ("Mozilla/5.0 (Windows NT 10.0; Win64; x64; rv:140.0) Gecko/20100101 Firefox/140.0", "Firefox on Windows"),
        (
            "Mozilla/5.0 (iPhone; CPU iPhone OS 19_0 like Mac OS X) AppleWebKit/605.1.15 (KHTML, like Gecko) Version/19.0"
            " Mobile/15E148 Safari/604.1",
            "Safari on an iPhone",
        ),
        (
            "Mozilla/5.0 (Windows NT 10.0) AppleWebKit/537.36 Chrome/156.0.0.0 Safari/537.36 Edg/156.0",
            "Edge on Windows",
        ),
        ("Mozilla/5.0 of my own", "Mozilla/5.0 of my own"),
        ("curl/8.14.1", "curl/8.14.1"),
        ("", "a program that does not say what it is"),
        ("x" * 200, "x" * 59 + "…"),
    ],
)
def test_a_session_is_told_by_browser_and_system(said: str, words: str) -> None:
    assert agent_in_words(said) == words
