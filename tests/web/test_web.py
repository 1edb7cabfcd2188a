"""Words and numbers, pictures, outgoing addresses, values shown once, and the built front end."""

import hashlib
import http.server
import json
import re
import threading
from collections.abc import Iterator
from datetime import UTC, datetime, timedelta
from itertools import pairwise
from pathlib import Path

import pytest
from flask import abort
from hypothesis import given
from hypothesis import strategies as st
from jinja2 import Environment

from tamarack.core.traffic.histogram import Histogram, bucket_of
from tamarack.settings import Settings
from tamarack.store.errors import NotPossible
from tamarack.web.application import WEB, make_application
from tamarack.web.once import Once
from tamarack.web.outgoing.asking import NotReached, fetch_text, probe
from tamarack.web.pictures.charts import Line, heat_map, over_time, round_scale
from tamarack.web.safe import safe_next
from tamarack.web.words import ago, duration, number, share, size, ticked, until

ROOT = Path(__file__).parents[2]


@pytest.mark.parametrize(
    ("said", "words"),
    [
        (number(0), "0"), (number(318), "318"), (number(12_400), "12.4 k"), (number(999_950), "1.0 M"), (number(0.7), "0.7"), (number(0.0012), "0.0012"), (number(9.3e-05), "<0.001"),
        (number(46_100_000), "46.1 M"), (number(None), "–"), (duration(28_000), "28 ms"), (duration(640), "640 µs"),
        (duration(1_400_000), "1.4 s"), (share(0.039), "3.9 %"), (share(0), "0 %"), (share(0.61), "61 %"), (size(640), "640 B"),
        (size(2_400_000), "2.4 MB"),
    ],
)  # fmt: skip
def test_numbers_are_said_the_same_way_everywhere(said: str, words: str) -> None:
    assert said.replace("\u202f", " ") == words


def test_times_are_relative_with_the_exact_one_behind_them() -> None:
    now = datetime(2026, 11, 23, 12, tzinfo=UTC)
    assert "3 min ago" in ago(now - timedelta(minutes=3), now)
    assert "in 5 h" in ago(now + timedelta(hours=5), now)
    assert "3 days left" in until(now + timedelta(days=3), now)
    assert "over" in until(now - timedelta(days=3), now)
    assert 'datetime="2026-11-23T12:00:00+00:00">just now' in ago(now, now)
    assert ago(None) == "never"


def test_words_in_backquotes_become_code_and_stay_text() -> None:
    assert ticked("in `<b>` & `x`") == "in <code>&lt;b&gt;</code> &amp; <code>x</code>"


@pytest.mark.parametrize("target", ["//evil.example", "https://evil.example", "/\\evil", "", "javascript:x", "/a\nb"])
def test_a_reader_is_sent_on_only_within_the_application(target: str) -> None:
    assert safe_next(target) == "/"
    assert safe_next("/apis/?x=1") == "/apis/?x=1"


def test_a_picture_stacks_its_layers_leaves_gaps_and_keeps_within_its_frame() -> None:
    times = [datetime(2026, 11, 23, tzinfo=UTC) + timedelta(minutes=10 * n) for n in range(4)]
    lines = [Line("a", "a", [1, 2, None, 4]), Line("b", "b", [1, 1, 1, 1])]
    words = [f"<{n}>" for n in range(4)]
    stacked = over_time(times, lines, width=258, height=124, stacked=True, words=words, label="x")
    assert stacked.rows[-1].label == "5"
    assert all(
        0 <= float(y) <= 100
        for _, path in stacked.paths
        for y in path.replace("Z", "").replace("L", "").split(",")[1::2]
        for y in [y.split()[0]]
    )
    assert [point["text"] for point in json.loads(stacked.points)] == words
    plain = over_time(times, lines[:1], width=258, height=124, stacked=False, words=words, label="x")
    assert plain.paths[0][1].count("M") == 2


def test_axes_end_at_round_numbers() -> None:
    assert [round_scale(value) for value in (0, 1, 3, 11, 260, 7000)] == [
        (1, 5), (1, 5), (3, 3), (12.5, 5), (300, 3), (8000, 4)
    ]  # fmt: skip


@given(st.floats(1e-6, 1e12))
def test_an_axis_holds_its_highest_value_and_is_used_to_more_than_half(value: float) -> None:
    top, parts = round_scale(value)
    assert value * 0.998 <= top < value * 2
    assert 2 <= parts <= 6


def test_a_heat_map_names_round_times_where_they_lie() -> None:
    times = [datetime(2026, 11, 23, 9, minute, tzinfo=UTC) for minute in range(2)]
    columns = [Histogram({bucket_of(40): 3, bucket_of(900_000): 1}), Histogram({bucket_of(9_000): 5})]
    drawn = heat_map(times, columns, width=258, height=124, words=["a", "b"], label="x")
    assert [tick.label for tick in drawn.rows] == ["100 µs", "1 ms", "10 ms", "100 ms"]
    apart = [below.at - above.at for below, above in pairwise(drawn.rows)]
    assert apart == pytest.approx([apart[0]] * 3, abs=0.2)  # each tenfold is as high as the next


@pytest.mark.parametrize(
    "path", sorted((ROOT / "src/tamarack").glob("*/templates/**/*.html")), ids=lambda path: path.stem
)
def test_no_template_shows_pieces_of_its_own_source(path: Path) -> None:
    for line, kind, text in Environment().lex(path.read_text()):
        assert kind != "data" or not re.search(r"[{][{%#]|[%}#][}]", text), f"{path.name}, line {line}: {text[-80:]}"


def test_a_value_is_shown_once() -> None:
    once = Once()
    ticket = once.put("secret")
    assert once.take("other") is None
    assert once.take(ticket) == "secret"
    assert once.take(ticket) is None


class _Pages(http.server.BaseHTTPRequestHandler):
    def do_GET(self) -> None:
        answers = {"/good": (200, b"openapi: 3.0.3"), "/away": (302, b""), "/bytes": (200, b"openapi: \xe9")}
        status, body = answers.get(self.path, (404, b""))
        self.send_response(status)
        self.send_header("Location", "http://169.254.169.254/")
        self.send_header("Content-Length", str(len(body)))
        self.end_headers()
        self.wfile.write(body)

    def log_message(self, format: str, *arguments: object) -> None:
        pass


@pytest.fixture(scope="module")
def pages() -> Iterator[str]:
    with http.server.ThreadingHTTPServer(("127.0.0.1", 0), _Pages) as server:
        thread = threading.Thread(target=server.serve_forever)
        thread.start()
        yield f"http://127.0.0.1:{server.server_port}"
        server.shutdown()
        thread.join()


DENIED = Settings(reachable="127.0.0.0/8").reach


def test_a_connection_is_tested_step_by_step(pages: str) -> None:
    steps = probe(f"{pages}/good", DENIED)
    assert [(step.name, step.good) for step in steps] == [("name", True), ("TCP", True), ("HTTP", True)]
    assert "answered 200" in steps[-1].detail
    assert [(s.name, s.good) for s in probe("http://127.0.0.1:1", DENIED)] == [("name", True), ("TCP", False)]
    assert [(s.name, s.good) for s in probe("http://no-such-host.invalid", DENIED)] == [("name", False)]
    secure = probe(pages.replace("http:", "https:"), DENIED)
    assert [(s.name, s.good) for s in secure] == [("name", True), ("TCP", True), ("TLS", False)]


def test_a_document_is_fetched_and_anything_else_is_said(pages: str) -> None:
    assert fetch_text(f"{pages}/good", DENIED) == "openapi: 3.0.3"
    for address, words in (("/away", "answered 302"), ("/none", "answered 404"), ("/bytes", "cannot be read")):
        with pytest.raises(NotReached, match=words):
            fetch_text(pages + address, DENIED)
    for address in (
        "file:///etc/passwd",
        "http://169.254.169.254/x",
        "http://[fe80::1]/",
        "gopher://x",
        "http://127.0.0.1:99999/",
        "http://127.0.0.1:0/",
        "http://[::1/",
        f"http://{'a' * 70}.example/",
    ):
        with pytest.raises(NotReached):
            fetch_text(address, DENIED)


def test_the_built_front_end_matches_its_sources() -> None:
    """Where this fails, run `npm ci` and `npm run build` in `frontend/` and commit what it wrote."""
    manifest = json.loads((WEB / "static/dist/manifest.json").read_text())
    for part in ("inputs", "outputs"):
        for name, expected in manifest[part].items():
            assert hashlib.sha256((ROOT / name).read_bytes()).hexdigest() == expected, f"{name} changed"
    templates = {str(path.relative_to(ROOT)) for path in (ROOT / "src/tamarack").rglob("*.html")}
    assert templates <= set(manifest["inputs"]), "a template is new"
    assert "resolved" not in (ROOT / "frontend/package-lock.json").read_text()


def test_what_the_store_does_not_do_is_said_on_a_page_even_where_no_page_foresaw_it(settings: Settings) -> None:
    app = make_application("tamarack.console", "console", settings, ROOT / "src/tamarack/console")

    def refuse() -> str:
        raise NotPossible("The port <corran> was removed meanwhile.")

    app.add_url_rule("/refuse", view_func=refuse)
    answer = app.test_client().get("/refuse")
    assert answer.status_code == 409
    assert "The port &lt;corran&gt; was removed meanwhile." in answer.text


def test_a_page_that_cannot_be_shown_says_so_in_our_words_or_in_those_of_who_knows_better(settings: Settings) -> None:
    app = make_application("tamarack.console", "console", settings, ROOT / "src/tamarack/console")
    app.add_url_rule("/gone", "gone", lambda: abort(404, "There is no such port."))
    app.add_url_rule("/fails", "fails", lambda: {}["port"])
    service = app.test_client()
    for answer, status, words in (
        (service.get("/nowhere"), 404, "No page has this address"),
        (service.get("/gone"), 404, "There is no such port."),
        (service.put("/gone", headers={"x-csrftoken": "none"}), 405, "It is not opened in this way."),
        (service.get("/fails"), 500, "It is not your doing."),
    ):
        assert (answer.status_code, words in answer.text) == (status, True)
        assert not re.search("requested URL|Not Found|server|try again", answer.text)
