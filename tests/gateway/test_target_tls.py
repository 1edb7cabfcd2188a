"""Targets over TLS: signed by an authority of one's own, and shown a certificate from the secret store."""

import socket
import ssl
import threading
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import Any

import pytest

from certificates import Authority
from gateway.harness import Node, running
from helpers import configuration, until
from tamarack.core.http.reach import EVERYWHERE
from tamarack.core.identity.material import SecretHolder
from tamarack.gateway.upstream.pool import PooledUpstream

PATH = "/sailings/v2/sailings"


class SecureBackend:
    """Answers over TLS with the common name of the certificate that it was shown; it demands one where `shown_by` says
    who has to have signed it."""

    def __init__(self, shown: Path, shown_by: Path | None = None) -> None:
        self.context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        self.context.load_cert_chain(shown)
        if shown_by is not None:
            self.context.verify_mode = ssl.CERT_REQUIRED
            self.context.load_verify_locations(shown_by)
        self._listening = socket.create_server(("127.0.0.1", 0))
        self.port = self._listening.getsockname()[1]
        self.connections = 0
        self._threads = [threading.Thread(target=self._accept, daemon=True)]
        self._threads[0].start()

    def _accept(self) -> None:
        with suppress(OSError):
            while True:
                taken, _ = self._listening.accept()
                threading.Thread(target=self._serve, args=(taken,), daemon=True).start()

    def _serve(self, taken: socket.socket) -> None:
        with suppress(OSError), self.context.wrap_socket(taken, server_side=True) as secure:
            self.connections += 1
            subject: Any = (secure.getpeercert() or {}).get("subject", ())
            name = next((value for part in subject for key, value in part if key == "commonName"), "nobody").encode()
            while secure.recv(65536):
                secure.sendall(b"HTTP/1.1 200 OK\r\ncontent-length: %d\r\n\r\n%b" % (len(name), name))

    def close(self) -> None:
        self._listening.close()


@contextmanager
def behind(backend: SecureBackend, holder: SecretHolder | None = None, **fields: Any) -> Iterator[Node]:
    made = {"name": "timetable", "targets": [{"address": f"https://localhost:{backend.port}"}],
            "connect_timeout_ms": 60_000, **fields}  # fmt: skip
    if holder is not None:
        made["certificate_secret"] = holder.name
    upstream = PooledUpstream(EVERYWHERE, lambda name: holder or SecretHolder(name))
    try:
        with running(configuration(backends=[made]), upstream) as node:
            yield node
    finally:
        backend.close()


def holding(path: Path) -> SecretHolder:
    holder = SecretHolder("crew-certificate")
    holder.put(((path.read_bytes(), 0),))
    return holder


@pytest.fixture
def authority(tmp_path: Path) -> Authority:
    return Authority(tmp_path)


def test_an_authority_of_ones_own_is_taken_and_no_other(authority: Authority) -> None:
    shown = authority.sign("backend.pem", "localhost")
    with behind(SecureBackend(shown), authorities=authority.path.read_text()) as node:
        assert (node.get(PATH).status, node.get(PATH).body) == (200, b"nobody")
    with behind(SecureBackend(shown)) as node:
        refused = node.get(PATH)
        assert (refused.status, refused.problem["reason"]) == (502, "backend-away")


def test_the_name_has_to_be_the_targets(authority: Authority) -> None:
    other = SecureBackend(authority.sign("backend.pem", "elsewhere.example"))
    with behind(other, authorities=authority.path.read_text()) as node:
        assert node.get(PATH).status == 502


def test_a_certificate_of_the_secret_store_is_shown_and_replaced_while_calls_go_on(authority: Authority) -> None:
    backend = SecureBackend(authority.sign("backend.pem", "localhost"), authority.path)
    holder = holding(authority.sign("one.pem", "tamarack-one"))
    with behind(backend, holder, authorities=authority.path.read_text()) as node:
        assert [node.get(PATH).body for _ in range(3)] == [b"tamarack-one"] * 3
        assert backend.connections == 1
        holder.put(((authority.sign("two.pem", "tamarack-two").read_bytes(), 0),))
        until(lambda: node.get(PATH).body == b"tamarack-two", "the new certificate to be shown")
        assert backend.connections == 2


@pytest.mark.parametrize("value", [b"", b"a password", b"-----BEGIN CERTIFICATE-----\nxx\n-----END CERTIFICATE-----\n"])
def test_a_secret_that_holds_no_certificate_fails_the_call_and_says_so(authority: Authority, value: bytes) -> None:
    backend = SecureBackend(authority.sign("backend.pem", "localhost"), authority.path)
    holder = SecretHolder("crew-certificate")
    if value:
        holder.put(((value, 0),))
    with behind(backend, holder, authorities=authority.path.read_text()) as node:
        refused = node.get(PATH)
        assert (refused.status, refused.problem["reason"]) == (502, "backend-away")
        assert "crew-certificate" not in refused.body.decode(), "it is no matter of the caller's"
        assert "the secret 'crew-certificate'" in node.last_record(refused["tamarack-call-id"]).note
        holder.put(((authority.sign("one.pem", "tamarack-one").read_bytes(), 0),))
        until(lambda: node.get(PATH).body == b"tamarack-one", "the certificate that was set since")
