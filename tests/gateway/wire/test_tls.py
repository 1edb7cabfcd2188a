"""Nodes over TLS: the certificate that a name asks for, new ones without a restart, and what is refused."""

import http.client
import socket
import ssl
from collections.abc import Iterator
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from certificates import Authority
from gateway.harness import KEY, Node, running
from gateway.test_carry import PATH, answering
from helpers import configuration
from tamarack.core.http.server_names import chosen, is_for
from tamarack.gateway.upstream.scripted import ScriptedUpstream
from tamarack.tls import LOOK_EVERY_S, CannotServe, Certificates, Pair, pairs_of

# which certificate is shown


@pytest.mark.parametrize(
    ("pattern", "asked", "covers"),
    [
        ("api.skerry.example", "API.skerry.example.", True),
        ("*.skerry.example", "api.skerry.example", True),
        ("*.skerry.example", "a.b.skerry.example", False),
        ("*.skerry.example", "skerry.example", False),
        ("*.example", "skerry.example", False),
        ("*", "skerry", False),
        ("a*.skerry.example", "api.skerry.example", False),
    ],
)
def test_a_star_stands_for_one_whole_label(pattern: str, asked: str, covers: bool) -> None:
    assert is_for(pattern, asked) is covers


def test_the_very_name_comes_before_a_star_and_the_first_for_what_nobody_has() -> None:
    names = [["skerry.example"], ["*.skerry.example"], ["api.skerry.example"]]
    for asked, place in (("api.skerry.example", 2), ("www.skerry.example", 1), ("tern.example", 0), ("", 0)):
        assert chosen(names, asked) == place


@given(st.lists(st.lists(st.text(max_size=8), max_size=3), min_size=1, max_size=4), st.text(max_size=12))
def test_some_certificate_is_always_shown(names: list[list[str]], asked: str) -> None:
    assert 0 <= chosen(names, asked) < len(names)


def test_files_are_named_as_pairs_or_as_one() -> None:
    assert pairs_of(" a.pem:a.key , b.pem ") == [Pair(Path("a.pem"), Path("a.key")), Pair(Path("b.pem"), Path("b.pem"))]
    assert pairs_of("") == []


# on a real socket


class Shown:
    """A node over TLS with two certificates, and a clock for looking at their files."""

    def __init__(self, folder: Path) -> None:
        self.authority = Authority(folder)
        self.first = self.authority.sign("first.pem", "skerry.example", "127.0.0.1")
        self.second = self.authority.sign("second.pem", "*.tern.example")
        self.now = 0.0
        self.said: list[str] = []
        pairs = pairs_of(f"{self.first}, {self.second}")
        self.certificates = Certificates(pairs, self.said.append, lambda: self.now)
        self.node: Node

    def connect(self, name: str, **limits: ssl.TLSVersion) -> ssl.SSLSocket:
        context = ssl.create_default_context(cafile=str(self.authority.path))
        for limit, version in limits.items():
            setattr(context, limit, version)
        plain = socket.create_connection(("127.0.0.1", self.node.port), 10)
        try:
            return context.wrap_socket(plain, server_hostname=name)
        except BaseException:
            plain.close()
            raise

    def serial(self, name: str) -> str:
        with self.connect(name) as connection:
            found = connection.getpeercert()
            assert found is not None
            return str(found["serialNumber"])


@pytest.fixture
def shown(tmp_path: Path) -> Iterator[Shown]:
    made = Shown(tmp_path)
    with running(configuration(), ScriptedUpstream(answering), tls=made.certificates.context, hsts_s=600) as node:
        made.node = node
        yield made


def get(connection: ssl.SSLSocket) -> http.client.HTTPResponse:
    head = f"GET {PATH} HTTP/1.1\r\nHost: skerry.example\r\nX-Skerry-Key: {KEY}\r\n\r\n"
    connection.sendall(head.encode())
    answer = http.client.HTTPResponse(connection)
    answer.begin()
    answer.read()
    return answer


def test_calls_come_over_tls_by_the_name_that_is_asked_for(shown: Shown) -> None:
    assert shown.serial("skerry.example") != shown.serial("kiosk.tern.example")
    with shown.connect("127.0.0.1") as connection:
        assert connection.version() == "TLSv1.3"
        answer = get(connection)
        assert (answer.status, answer.getheader("strict-transport-security")) == (200, "max-age=600")
    upstream = shown.node.gateway.upstream
    assert isinstance(upstream, ScriptedUpstream)
    assert b"x-forwarded-proto: https" in upstream.asked[-1].head
    with pytest.raises(ssl.SSLCertVerificationError):
        shown.connect("elsewhere.example")


def test_what_is_no_longer_safe_is_not_spoken(shown: Shown) -> None:
    with shown.connect("skerry.example", maximum_version=ssl.TLSVersion.TLSv1_2) as connection:
        cipher = connection.cipher()
        assert cipher is not None and cipher[0].startswith("ECDHE-")
    with pytest.warns(DeprecationWarning), pytest.raises((ssl.SSLError, OSError)):
        shown.connect("skerry.example", minimum_version=ssl.TLSVersion.TLSv1, maximum_version=ssl.TLSVersion.TLSv1_1)


def test_new_certificates_are_taken_up_without_cutting_a_connection(shown: Shown) -> None:
    before = shown.serial("skerry.example")
    with shown.connect("skerry.example") as kept:
        assert get(kept).status == 200
        shown.authority.sign("first.pem", "skerry.example", "127.0.0.1")
        assert shown.serial("skerry.example") == before, "it is looked at once a second"
        shown.now += LOOK_EVERY_S
        after = shown.serial("skerry.example")
        assert after != before
        assert get(kept).status == 200
        shown.first.write_text("half a certifi")
        shown.now += LOOK_EVERY_S
        assert shown.serial("skerry.example") == after
        assert get(kept).status == 200
    assert "taken up anew: skerry.example, 127.0.0.1, *.tern.example" in shown.said[0]
    assert "cannot be taken up, the earlier ones stay" in shown.said[1]
    assert str(shown.first) in shown.said[1]


def test_a_caller_that_speaks_no_tls_is_let_go(shown: Shown) -> None:
    with socket.create_connection(("127.0.0.1", shown.node.port), 10) as plain:
        plain.sendall(b"GET / HTTP/1.1\r\nHost: a\r\n\r\n")
        plain.settimeout(10)
        assert not plain.recv(100).startswith(b"HTTP/")
    assert shown.serial("skerry.example")


def test_certificates_that_cannot_be_shown_are_named(tmp_path: Path) -> None:
    authority = Authority(tmp_path)
    good, other = authority.sign("good.pem", "a.example"), authority.sign("other.pem", "b.example")
    for said, words in (
        (f"{tmp_path}/none.pem", "No such file"),
        (f"{authority.path}", "authority.pem"),
        (f"{good}:{other}", "good.pem with"),
    ):
        with pytest.raises(CannotServe, match=words):
            Certificates(pairs_of(said), print)


def test_the_port_without_tls_says_where_calls_belong() -> None:
    with running(configuration(), ScriptedUpstream(answering), redirects_to=8443) as node:
        answer = node.get(f"{PATH}?day=2026-11-23", method="POST")
        assert (answer.status, answer["location"]) == (308, f"https://gateway.example:8443{PATH}?day=2026-11-23")
        assert node.get("/.tamarack/ready").status == 200
        assert node.ask(b"GET / HTTP/1.0\r\n\r\n").status == 400
        ipv6 = node.ask(b"GET /a HTTP/1.1\r\nHost: [::1]:80\r\n\r\n")
        assert ipv6["location"] == "https://[::1]:8443/a"
