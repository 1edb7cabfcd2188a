"""The response cache on a real socket: what is kept, what is given again, and who waits for whom."""

import asyncio
import threading
from collections.abc import Callable
from time import time
from typing import Any

import pytest

from gateway.harness import KEY, Node, Reply, running
from helpers import configuration, until
from tamarack.core.caching.kept import Refusal, Rules, judge
from tamarack.core.carrying.needs import Ask, Failed
from tamarack.gateway.upstream.interface import Exchange, Listener
from tamarack.gateway.upstream.scripted import Asked, ScriptedAnswer, ScriptedUpstream

PATH = "/sailings/v2/sailings"
KEY_POLICY = {"kind": "api-key", "header": "X-Skerry-Key"}
FRESH = (b"cache-control", b"max-age=60")

Script = Callable[[Asked], ScriptedAnswer | Failed]


class Cached:
    """A node with a response cache, over a scripted backend that numbers its answers."""

    def __init__(self, *headers: tuple[bytes, bytes], open_to_all: bool = False, **policy: Any) -> None:
        self.headers = list(headers)
        self.status = 200
        self.failure: Failed | None = None
        self.pieces: tuple[bytes, ...] | None = None
        self.upstream = ScriptedUpstream(self._answer)
        ways = [{"kind": "open"}] if open_to_all else [KEY_POLICY]
        operations = [{"call": "get /sailings"}, {"call": "post /sailings"}, {"call": "get /sailings/{id}"},
                      {"call": "put /sailings/{id}"}]  # fmt: skip
        self.made = configuration(
            version={"policies": [*ways, {"kind": "response-cache", **policy}], "operations": operations}
        )

    def _answer(self, asked: Asked) -> ScriptedAnswer | Failed:
        if self.failure is not None:
            return self.failure
        conditional = b"if-none-match" in asked.head or b"if-modified-since" in asked.head
        if conditional and self.status == 304:
            return ScriptedAnswer(304, self.headers)
        body = b"answer %d" % len(self.upstream.asked)
        pieces = self.pieces if self.pieces is not None else (body,)
        length = (b"content-length", b"%d" % sum(map(len, pieces)))
        return ScriptedAnswer(200 if self.status == 304 else self.status, [*self.headers, length], pieces)

    @property
    def asked(self) -> int:
        return len(self.upstream.asked)


class SlowUpstream(ScriptedUpstream):
    """Answers when it is told to. `begun` is set when it is asked, `tries` counts how often."""

    def __init__(self, script: Script, begun: threading.Event, release: threading.Event) -> None:
        super().__init__(script)
        self.begun, self.release, self.tries = begun, release, 0

    def ask(self, ask: Ask, listener: Listener) -> Exchange | Failed:
        self.tries += 1
        self.begun.set()
        held = Held()

        def look() -> None:
            if self.release.is_set() and not held.closed:
                held.exchange = ScriptedUpstream.ask(self, ask, listener)  # type: ignore[assignment]
            elif not held.closed:
                asyncio.get_running_loop().call_later(0.005, look)

        look()
        return held


class Held:
    """An exchange that has not begun."""

    open = True

    def __init__(self) -> None:
        self.closed = False
        self.exchange: Exchange | None = None

    def send(self, data: bytes) -> bool:
        return True

    def finish(self) -> None: ...

    def pause(self) -> None:
        if self.exchange is not None:
            self.exchange.pause()

    def resume(self) -> None:
        if self.exchange is not None:
            self.exchange.resume()

    def close(self) -> None:
        self.closed = True
        if self.exchange is not None:
            self.exchange.close()


def both(node: Node, *fields: str, path: str = PATH, **call: Any) -> tuple[Reply, Reply]:
    """The same call twice."""
    return node.get(path, *fields, **call), node.get(path, *fields, **call)


def post(node: Node, body: str, path: str = PATH, media: str = "application/json") -> Reply:
    head = (
        f"POST {path} HTTP/1.1\r\nHost: gateway.example\r\nX-Skerry-Key: {KEY}\r\nContent-Type: {media}\r\n"
        f"Content-Length: {len(body)}\r\n\r\n"
    )
    return node.ask((head + body).encode())


def test_a_hit_is_given_without_the_backend_and_says_so_in_fields_and_record() -> None:
    cached = Cached(FRESH, (b"etag", b'"7"'), (b"x-tide", b"high"))
    with running(cached.made, cached.upstream) as node:
        miss, hit = both(node)
        assert (miss.body == hit.body, cached.asked) == (True, 1)
        assert miss["cache-status"] == "tamarack; fwd=uri-miss; fwd-status=200; stored"
        assert hit["cache-status"].startswith("tamarack; hit; ttl=")
        assert (hit["x-tide"], hit["age"], "age" in miss) == ("high", "0", False)
        records = [node.last_record(reply["tamarack-call-id"]) for reply in (miss, hit)]
        assert [one.cache for one in records] == ["miss", "hit"]
        assert (records[1].target, records[1].backend_us, records[1].application) == ("", 0, "kiosk")
        head = node.get(PATH, method="HEAD")
        assert (head.status, head["content-length"], cached.asked) == (200, str(len(hit.body)), 1)


def test_a_hit_still_passes_guard_identify_permit_and_meter() -> None:
    cached = Cached(FRESH)
    with running(cached.made, cached.upstream) as node:
        both(node)
        assert node.get(PATH, key="").problem["reason"] == "no-credential"
        assert node.get(PATH, key="tmk_unsubscribed").problem["reason"] == "not-subscribed"
    limited = Cached(FRESH)
    limit = configuration(everywhere=[{"kind": "rate-limit", "windows": ["2 per day"]}]).everywhere
    with running(limited.made.model_copy(update={"everywhere": limit}), limited.upstream) as node:
        assert [node.get(PATH).status for _ in range(3)] == [200, 200, 429]
        assert limited.asked == 1


def test_an_answer_to_one_caller_is_never_given_to_another_unless_the_policy_says_so() -> None:
    for shared, asked in ((False, 2), (True, 1)):
        cached = Cached(FRESH, whose="the same for all callers" if shared else "each caller's own")
        with running(cached.made, cached.upstream) as node:
            node.directory.apply(
                "subscription", "s2", {"application": "b", "product": "passage", "plan": "skiff", "state": "active"}
            )
            assert node.get(PATH).status == node.get(PATH, key="tmk_unsubscribed").status == 200
            assert cached.asked == asked


@pytest.mark.parametrize(
    ("headers", "why"),
    [
        ((), "says nothing of how long"),
        (((b"cache-control", b"no-store, max-age=60"),), "no-store"),
        (((b"cache-control", b"max-age=60, private"),), "private"),
        (((b"cache-control", b"max-age=60"), (b"vary", b"*")), "Vary"),
        (((b"cache-control", b"max-age=60"), (b"set-cookie", b"a=1")), "sets a cookie"),
        (((b"expires", b"0"),), "over at once"),
    ],
)
def test_what_the_backend_does_not_allow_is_not_kept_and_the_trace_says_why(
    headers: tuple[tuple[bytes, bytes], ...], why: str
) -> None:
    cached = Cached(*headers)
    with running(cached.made, cached.upstream) as node:
        both(node)
        assert cached.asked == 2
    found = judge(200, headers, Rules(), False, time())
    assert isinstance(found, Refusal)
    assert why in found.why


def test_an_own_time_counts_where_the_backend_says_nothing_or_whatever_it_says() -> None:
    nothing = Cached(how_long="by the backend, and where it says nothing for a time of its own", own_time=60)
    with running(nothing.made, nothing.upstream) as node:
        both(node)
        assert nothing.asked == 1
        nothing.headers = [(b"cache-control", b"no-store")]
        both(node, path=f"{PATH}?day=2")
        assert nothing.asked == 3
    over = Cached((b"cache-control", b"private"), how_long="for a time of its own, whatever the backend says",
                  own_time=60)  # fmt: skip
    with running(over.made, over.upstream) as node:
        both(node)
        assert over.asked == 1


def test_query_parameters_count_as_the_policy_says_and_never_their_order() -> None:
    every = Cached(FRESH)
    with running(every.made, every.upstream) as node:
        for query in ("a=1&b=2", "b=2&a=1", "a=1&b=3"):
            node.get(f"{PATH}?{query}")
        assert every.asked == 2
    listed = Cached(FRESH, query="listed", query_names=["from"])
    with running(listed.made, listed.upstream) as node:
        for query in ("from=HBR&trace=1", "trace=2&from=HBR", "fr%6fm=HBR", "from=STR"):
            node.get(f"{PATH}?{query}")
        assert listed.asked == 3
    none = Cached(FRESH, query="none")
    with running(none.made, none.upstream) as node:
        both(node)
        node.get(f"{PATH}?any=1")
        assert none.asked == 1


def test_a_key_shows_no_value_of_what_looks_like_a_credential_and_still_keeps_them_apart() -> None:
    cached = Cached(FRESH, (b"vary", b"X-Session-Token"), headers=["authorization"], open_to_all=True)
    cached.headers.append((b"cache-control", b"public"))
    with running(cached.made, cached.upstream) as node:
        for secret in ("a-secret", "another"):
            for _ in range(2):
                node.get(f"{PATH}?api_token={secret}&day=1", f"X-Session-Token: {secret}", f"Authorization: X {secret}")
        assert cached.asked == 2
        keys = [one.key for one in node.gateway.caches.memory.listed("sailings/2/response-cache", "", time(), 9)]
        assert len(keys) == 2
        assert all("secret" not in key and "another" not in key and "day=1" in key for key in keys)


def test_answers_that_vary_are_kept_apart_by_the_fields_they_vary_by() -> None:
    cached = Cached(FRESH, (b"vary", b"Accept-Language, X-Ship"))
    with running(cached.made, cached.upstream) as node:
        german = [node.get(PATH, "Accept-Language: de") for _ in range(3)]
        french = [node.get(PATH, "Accept-Language: fr") for _ in range(2)]
        again = node.get(PATH, "Accept-Language: de")
        assert cached.asked == 2
        assert {one.body for one in (*german, again)} != {one.body for one in french}
        assert len({one.body for one in (*german, again)}) == 1


def test_a_search_by_post_is_kept_by_chosen_values_of_its_body() -> None:
    cached = Cached(FRESH, body_values=["/from", "/to/port"])
    with running(cached.made, cached.upstream) as node:
        first = post(node, '{"from": "HBR", "to": {"port": "STR"}, "asked_by": 1}')
        again = post(node, '{"asked_by": 2, "to": {"port": "STR"}, "from": "HBR"}')
        other = post(node, '{"from": "HBR", "to": {"port": "SKY"}}')
        assert (first.body == again.body, first.body == other.body, cached.asked) == (True, False, 2)
        assert cached.upstream.asked[0].body == b'{"from": "HBR", "to": {"port": "STR"}, "asked_by": 1}'
        for body, media in (("{", "application/json"), ('{"from": "HBR"}', "application/json"), ("x=1", "text/plain")):
            reply = post(node, body, media=media)
            assert reply["cache-status"] in ("tamarack; fwd=bypass", "tamarack; fwd=method")
        assert cached.asked == 5


def test_one_that_is_over_is_asked_about_and_still_good_where_nothing_changed() -> None:
    cached = Cached((b"cache-control", b"max-age=0"), (b"etag", b'"7"'))
    cached.status = 304
    with running(cached.made, cached.upstream) as node:
        first, second = both(node)
        assert first.body == second.body
        assert second.status == 200
        assert b'if-none-match: "7"\r\n' in cached.upstream.asked[1].head
        assert second["cache-status"].startswith("tamarack; fwd=stale; fwd-status=304")
        assert node.last_record(second["tamarack-call-id"]).cache == "revalidated"
        unchanged = node.get(PATH, 'If-None-Match: W/"7"')
        assert (unchanged.status, unchanged.body, unchanged["etag"]) == (304, b"", '"7"')
        cached.status = 200
        newer = node.get(PATH)
        assert newer.body != first.body


def test_a_caller_that_has_it_is_told_that_nothing_changed_without_the_backend() -> None:
    modified = b"Sat, 28 Nov 2026 00:00:00 GMT"
    cached = Cached(FRESH, (b"etag", b'"a,b"'), (b"last-modified", modified))
    with running(cached.made, cached.upstream) as node:
        node.get(PATH)
        for field, status in (('If-None-Match: "x", "a,b"', 304), ('If-None-Match: "x"', 200), ("If-None-Match: *", 304),
                              (f"If-Modified-Since: {modified.decode()}", 304),
                              ("If-Modified-Since: Fri, 27 Nov 2026 00:00:00 GMT", 200)):  # fmt: skip
            assert node.get(PATH, field).status == status, field
        assert cached.asked == 1


def test_one_that_is_over_is_given_while_it_is_asked_for_anew() -> None:
    cached = Cached((b"cache-control", b"max-age=0, stale-while-revalidate=60"), (b"etag", b'"7"'))
    with running(cached.made, cached.upstream) as node:
        first, second = both(node)
        assert second.body == first.body
        assert node.last_record(second["tamarack-call-id"]).cache == "stale"
        until(lambda: cached.asked == 2, "the asking anew")
        until(lambda: node.get(PATH).body != first.body, "the newer answer")


def test_one_that_is_over_stands_in_when_the_backend_fails() -> None:
    cached = Cached((b"cache-control", b"max-age=0"), (b"etag", b'"7"'), stale_on_error=60)
    with running(cached.made, cached.upstream) as node:
        first, other = node.get(PATH), node.get(f"{PATH}/9")
        cached.failure = Failed("away", "took no connection")
        assert node.get(PATH).body == first.body
        cached.failure, cached.status = None, 503
        stood_in = node.get(f"{PATH}/9")
        assert (stood_in.status, stood_in.body) == (200, other.body)
        assert "stale-if-error" in stood_in["cache-status"]
        assert node.get(f"{PATH}?other=1").status == 503
    strict = Cached((b"cache-control", b"max-age=0, must-revalidate"), (b"etag", b'"7"'), stale_on_error=60)
    with running(strict.made, strict.upstream) as node:
        node.get(PATH)
        strict.failure = Failed("away", "took no connection")
        assert node.get(PATH).problem["reason"] == "backend-away"


def test_what_changes_something_at_a_path_makes_what_is_kept_of_it_invalid() -> None:
    cached = Cached(FRESH)
    with running(cached.made, cached.upstream) as node:
        both(node, path=f"{PATH}/7?full=1")
        both(node, path=f"{PATH}/8")
        cached.status = 409
        node.get(f"{PATH}/7", method="PUT")
        cached.status = 200
        assert cached.asked == 3
        both(node, path=f"{PATH}/7?full=1")
        assert cached.asked == 3  # the change was refused
        node.get(f"{PATH}/7", method="PUT")
        both(node, path=f"{PATH}/7?full=1")
        both(node, path=f"{PATH}/8")
        assert cached.asked == 5


@pytest.mark.parametrize(
    ("field", "asked", "status"),
    [
        ("Cache-Control: no-cache", 2, 200), ("Cache-Control: no-store", 1, 200), ("Cache-Control: max-age=9", 1, 200),
        ("Cache-Control: min-fresh=120", 2, 200), ("Cache-Control: only-if-cached", 1, 200), ("Range: bytes=0-1", 2, 200),
        ("Cookie: theme=dark", 2, 200), ('If-Match: "7"', 2, 200),
    ],
)  # fmt: skip
def test_callers_may_ask_for_a_newer_answer_or_for_none_of_the_backend(field: str, asked: int, status: int) -> None:
    cached = Cached(FRESH)
    with running(cached.made, cached.upstream) as node:
        node.get(PATH)
        assert node.get(PATH, field).status == status
        assert cached.asked == asked
        none = node.get(f"{PATH}?x=1", "Cache-Control: only-if-cached")
        assert (none.status, none.problem["reason"]) == (504, "not-kept")
    deaf = Cached(FRESH, callers_may_ask=False)
    with running(deaf.made, deaf.upstream) as node:
        node.get(PATH)
        node.get(PATH, "Cache-Control: no-cache")
        assert deaf.asked == 1


def test_one_asks_the_backend_and_those_that_come_meanwhile_wait_for_its_answer() -> None:
    cached = Cached(FRESH, wait_ms=20_000)
    begun, release = threading.Event(), threading.Event()
    slow = SlowUpstream(cached.upstream.script, begun, release)
    with running(cached.made, slow) as node:
        replies: list[Reply] = []
        threads = [threading.Thread(target=lambda: replies.append(node.get(PATH))) for _ in range(8)]
        threads[0].start()
        assert begun.wait(10)
        for thread in threads[1:]:
            thread.start()
        until(lambda: sum(map(len, node.gateway.caches._leading.values())) == 7, "the others to wait")
        release.set()
        for thread in threads:
            thread.join(20)
        assert [reply.status for reply in replies] == [200] * 8
        assert len({reply.body for reply in replies}) == 1
        assert slow.tries == 1


def test_those_who_wait_are_given_what_stands_in_when_the_one_that_asks_hears_of_a_failure() -> None:
    cached = Cached((b"cache-control", b"max-age=0"), (b"etag", b'"7"'), stale_on_error=60, wait_ms=20_000)
    begun, release = threading.Event(), threading.Event()
    slow = SlowUpstream(cached.upstream.script, begun, release)
    release.set()
    with running(cached.made, slow) as node:
        first = node.get(PATH)
        release.clear()
        begun.clear()
        cached.failure = Failed("away", "took no connection")
        replies: list[Reply] = []
        threads = [threading.Thread(target=lambda: replies.append(node.get(PATH))) for _ in range(5)]
        threads[0].start()
        assert begun.wait(10)
        for thread in threads[1:]:
            thread.start()
        until(lambda: sum(map(len, node.gateway.caches._leading.values())) == 4, "the others to wait")
        release.set()
        for thread in threads:
            thread.join(20)
        assert [(reply.status, reply.body) for reply in replies] == [(200, first.body)] * 5
        assert slow.tries <= 3  # the first, the one that failed, and one that asks anew beside the calls


def test_when_the_one_that_asks_goes_away_the_next_in_line_asks() -> None:
    cached = Cached(FRESH, wait_ms=20_000)
    begun, release = threading.Event(), threading.Event()
    slow = SlowUpstream(cached.upstream.script, begun, release)
    with running(cached.made, slow) as node, node.caller() as leaver:
        leaver.send(f"GET {PATH} HTTP/1.1\r\nHost: gateway.example\r\nX-Skerry-Key: {KEY}\r\n\r\n".encode())
        assert begun.wait(10)
        replies: list[Reply] = []
        threads = [threading.Thread(target=lambda: replies.append(node.get(PATH))) for _ in range(3)]
        for thread in threads:
            thread.start()
        until(lambda: sum(map(len, node.gateway.caches._leading.values())) == 3, "the others to wait")
        leaver.close()
        release.set()
        for thread in threads:
            thread.join(20)
        assert [reply.status for reply in replies] == [200] * 3
        until(lambda: not node.gateway.caches._leading, "nobody to be waited for")
        assert (slow.tries, len({reply.body for reply in replies})) == (2, 1)


def test_an_answer_that_is_cut_off_or_too_large_is_not_kept_and_nobody_waits_for_it_in_vain() -> None:
    cached = Cached(FRESH, at_most="8 B")
    cached.pieces = (b"12345", b"6789")
    with running(cached.made, cached.upstream) as node:
        both(node)
        assert cached.asked == 2
        assert not node.gateway.caches._leading
        cached.pieces = (b"1234", b"5678")
        both(node)
        assert cached.asked == 3


def test_a_rollout_that_changes_the_policy_begins_anew() -> None:
    cached = Cached(FRESH)
    with running(cached.made, cached.upstream) as node:
        both(node)
        node.serve(cached.made, 2)
        node.get(PATH)
        assert cached.asked == 1
        node.serve(Cached(FRESH, whose="the same for all callers").made, 3)
        node.get(PATH)
        assert cached.asked == 2
