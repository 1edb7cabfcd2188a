"""Whatever is put into addresses and forms, no page is an error of ours: every route, with odd values everywhere."""

import json
import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from flask.testing import FlaskClient

import tamarack
from tamarack.core.trying.bench import BenchAnswer, BenchCall, failures

SOURCES = Path(tamarack.__file__).parent
ODD = [
    "²",
    "9" * 40,
    "-1",
    "1e999",
    "\u202e<script>",
    "a\r\nb: c",
    "%00%0a",
    "{}",
    "[[[[",
    "' OR 1=1 --",
    "😀\u0301",
    "x" * 1200,
    "",
]
REAL = {"api": "sailings", "version": "2", "name": "timetable", "product": "passage", "number": "1", "change": "1",
        "form": "csv", "place": "0", "organization": "tern-trips", "month": "2026-11", "ending": "json",
        "code": "over-plan"}  # fmt: skip
SKIPPED = {"sign_in.sign_out", "static", "own_password.change", "own_password.end"}
"""What would end the session that all others need."""


def names(program: str) -> list[str]:
    """Every name that a program asks addresses and forms for, as its sources say."""
    text = "\n".join(
        path.read_text() for path in [*(SOURCES / program).rglob("*.py"), *(SOURCES / "web").rglob("*.py")]
    )
    asked = re.findall(r"request\.(?:args|form)\.get(?:list)?\(\"([a-z_]+)\"", text)
    listed = re.findall(r"for \w+ in \(((?:\s*\"[a-z_]+\",?)+)\s*\)", text)
    constants = re.findall(r"^[A-Z_]+ = \(((?:\s*\"[a-z_]+\",?)+)\s*\)", text, re.M)
    return sorted({"page", *asked, *(one for part in listed + constants for one in re.findall(r"[a-z_]+", part))})


def paths(client: FlaskClient, values: dict[str, str]) -> Iterator[tuple[str, str]]:
    """Method and path of every route."""
    for rule in client.application.url_map.iter_rules():
        if rule.endpoint in SKIPPED:
            continue
        for method in sorted((rule.methods or set()) - {"HEAD", "OPTIONS"}):
            yield method, re.sub(r"<(?:\w+:)?(\w+)>", lambda part: values.get(part[1], "x"), rule.rule)


def asked(client: FlaskClient, program: str, turn: int) -> list[str]:
    """The routes that were errors of ours, in an address or in a form; every field gets another odd value each turn."""
    fields = {name: ODD[(place + turn * 5) % len(ODD)] for place, name in enumerate(names(program))}
    found = []
    for values in (REAL, dict.fromkeys(REAL, "9" * 30)):
        for method, path in paths(client, values):
            sent = {"query_string": fields} if method == "GET" else {"data": fields}
            answer = client.open(path, method=method, **sent)
            if answer.status_code >= 500:
                found.append(f"{method} {path}: {answer.status_code}")
            answer.close()
    return found


def test_the_sources_tell_what_is_asked_for() -> None:
    assert {"page", "search", "span", "environment"} <= set(names("console"))
    assert len(names("portal")) > 20


@pytest.mark.parametrize("turn", range(2))
def test_no_page_of_the_console_is_an_error_of_ours(admin: FlaskClient, turn: int) -> None:
    assert asked(admin, "console", turn) == []


@pytest.mark.parametrize("turn", range(4))
def test_no_page_of_the_portal_is_an_error_of_ours(lead: FlaskClient, turn: int) -> None:
    assert asked(lead, "portal", turn) == []


DEEP = "[" * 60_000


def test_what_stands_in_files_and_texts_of_json_is_no_error_of_ours_either(admin: FlaskClient) -> None:
    board = json.loads((SOURCES / "boards" / "business.json").read_text()) | {"name": "mine"}
    board["tiles"][0]["question"]["where"] = ["api is a\x00b"]
    for file in (
        json.dumps(board),
        DEEP,
        '{"name": ' + "9" * 5_000 + "}",
        '{"title": 1e999}',
        '{"title": "\\ud800"}',
        "",
    ):
        assert admin.post("/traffic/boards/read", data={"file": file}).status_code == 422, file[:40]
    for claims in (DEEP, '{"a":' * 50_000, "9" * 5_000, '{"sub": NaN}'):
        form = {"operation": "get /sailings", "method": "GET", "claims": claims, "application": "x"}
        assert admin.post("/apis/sailings/2/bench/", data=form).status_code < 500


def test_an_answer_of_any_depth_is_read_as_text_where_it_is_too_deep() -> None:
    answer = BenchAnswer(status=200, headers=(("content-type", "application/json"),), body=DEEP)
    assert answer.formatted == DEEP
    call = BenchCall.model_validate({"method": "GET", "path": "/a", "expectations": ["json /a is 1"]})
    assert failures(call, answer)
