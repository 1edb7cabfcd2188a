"""Callers known by a certificate that they show over TLS: by itself, its subject or its names; and who is not."""

import http.client
import socket
import ssl
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from typing import Any

import pytest

from certificates import Authority
from gateway.harness import KEY, PEPPER, Node, running
from gateway.test_carry import PATH, answering
from gateway.wire.test_tls import get
from helpers import configuration
from tamarack.core.certificates.certificate import in_pem, known_by
from tamarack.core.configuration.model import Configuration
from tamarack.core.identity.credentials import certificate_value, digest
from tamarack.gateway import driver
from tamarack.gateway.upstream.scripted import ScriptedUpstream
from tamarack.tls import Certificates, pairs_of

KEY_WAY = {"kind": "api-key", "header": "x-skerry-key", "query": "key"}
FORGED = ("Client-Cert", "X-SSL-Client-Cert", "X-Forwarded-Client-Cert", "SSL_CLIENT_CERT", "X-Client-Cert")


def asking(authority: Authority, *others: dict[str, Any], by: str = "the certificate itself") -> Configuration:
    """Sailings, which take certificates that an authority signed."""
    own = {"kind": "client-certificate", "by": by, "authorities": authority.pem}
    return configuration(version={"policies": [own, *others]})


class Quay:
    """A node over TLS, callers' certificates, and an authority that nobody asked for."""

    def __init__(self, folder: Path) -> None:
        (folder / "other").mkdir()
        self.authority, self.other = Authority(folder), Authority(folder / "other", "Other")
        self.ferry = self.authority.sign("ferry.pem", "ferry.tern.example", "uri:urn:tern:ferry")
        self.node: Node

    def knows(self, typed: str, id: str = "cert", **more: Any) -> None:
        """The kiosk's application has a credential of a certificate."""
        value = certificate_value(known_by(typed).name, "production")
        body = {"application": "a", "digest": digest(value, PEPPER, "certificate")} | more
        self.node.directory.apply("credential", id, body)

    def connect(self, shown: Path | None) -> ssl.SSLSocket:
        context = ssl.create_default_context(cafile=str(self.authority.path))
        if shown is not None:
            context.load_cert_chain(shown)
        plain = socket.create_connection(("127.0.0.1", self.node.port), 10)
        try:
            return context.wrap_socket(plain, server_hostname="skerry.example")
        except BaseException:
            plain.close()
            raise

    def call(self, shown: Path | None, *fields: str) -> http.client.HTTPResponse:
        with self.connect(shown) as connection:
            lines = [f"GET {PATH} HTTP/1.1", "Host: skerry.example", *fields]
            connection.sendall(("\r\n".join(lines) + "\r\n\r\n").encode())
            answer = http.client.HTTPResponse(connection)
            answer.begin()
            answer.read()
            return answer

    def reason(self, shown: Path | None, *fields: str) -> str:
        answer = self.call(shown, *fields)
        return self.node.last_record(str(answer.getheader("tamarack-call-id"))).reason


def pem(path: Path) -> str:
    return path.read_text().partition("-----BEGIN PRIVATE")[0]


@pytest.fixture
def quay(tmp_path: Path) -> Iterator[Quay]:
    made = Quay(tmp_path)
    certificates = Certificates(pairs_of(str(made.authority.sign("node.pem", "skerry.example"))), lambda _: None)
    with running(configuration(), ScriptedUpstream(answering), tls=certificates.context) as node:
        made.node = node
        node.gateway.trust = certificates.trust
        node.serve(asking(made.authority))
        yield made


def test_a_certificate_is_known_by_itself(quay: Quay) -> None:
    assert quay.reason(quay.ferry) == "unknown-credential"
    quay.knows(pem(quay.ferry))
    assert quay.call(quay.ferry).status == 200
    again = quay.authority.sign("again.pem", "ferry.tern.example")
    assert quay.reason(again) == "unknown-credential", "another one of the same name is another one"
    quay.knows(pem(quay.ferry), revoked=True)
    assert quay.reason(quay.ferry) == "revoked-credential"


@pytest.mark.parametrize(
    ("by", "typed"),
    [("its subject", "CN=ferry.tern.example"), ("one of its alternative names", "dns:Ferry.tern.example"),
     ("one of its alternative names", "uri:urn:tern:ferry")],
)  # fmt: skip
def test_it_is_known_by_what_it_names_whoever_of_that_name_shows_it(quay: Quay, by: str, typed: str) -> None:
    quay.node.serve(asking(quay.authority, by=by), 2)
    quay.knows(typed)
    renewed = quay.authority.sign("renewed.pem", "ferry.tern.example", "uri:urn:tern:ferry")
    assert [quay.call(one).status for one in (quay.ferry, renewed)] == [200, 200]
    assert quay.reason(quay.authority.sign("tug.pem", "tug.tern.example")) == "unknown-credential"


def test_no_certificate_is_a_missing_credential_and_says_what_to_show(quay: Quay) -> None:
    answer = quay.call(None)
    assert answer.status == 401
    assert "TLS-Client-Certificate" in str(answer.getheader("www-authenticate"))
    assert quay.reason(None) == "no-credential"


def test_one_that_others_signed_ends_the_handshake(quay: Quay) -> None:
    with pytest.raises((ssl.SSLError, ConnectionError, http.client.HTTPException)):
        quay.call(quay.other.sign("forged.pem", "ferry.tern.example"))


def test_an_authority_of_another_api_is_not_this_ones(quay: Quay) -> None:
    whole = asking(quay.authority, by="its subject").model_dump(mode="json", exclude_defaults=True)
    second = asking(quay.other, by="its subject").model_dump(mode="json", exclude_defaults=True)["apis"][0]
    second |= {"name": "tides", "versions": [second["versions"][0] | {"base_path": "/tides/v2"}]}
    quay.node.serve(Configuration.model_validate(whole | {"apis": [*whole["apis"], second]}), 2)
    quay.knows("CN=ferry.tern.example")
    forged = quay.other.sign("forged.pem", "ferry.tern.example")
    assert quay.call(quay.ferry).status == 200
    answer = quay.call(forged)
    record = quay.node.last_record(str(answer.getheader("tamarack-call-id")))
    assert (answer.status, record.reason) == (401, "unknown-credential")
    assert "signed by none of the authorities: CN=ferry.tern.example" in record.note


@pytest.mark.parametrize("field", FORGED)
def test_fields_that_tell_of_certificates_are_believed_by_nobody_and_go_no_further(quay: Quay, field: str) -> None:
    quay.knows(pem(quay.ferry))
    said = f"{field}: {pem(quay.ferry).replace(chr(10), ' ')}"
    assert quay.reason(None, said) == "no-credential"
    assert quay.call(quay.ferry, said).status == 200
    upstream = quay.node.gateway.upstream
    assert isinstance(upstream, ScriptedUpstream)
    assert field.lower().encode() not in upstream.asked[-1].head.lower()


def test_beside_a_key_the_key_decides_where_the_certificate_is_not_known(quay: Quay) -> None:
    quay.node.serve(asking(quay.authority, KEY_WAY), 2)
    assert quay.call(quay.ferry, f"X-Skerry-Key: {KEY}").status == 200
    assert quay.call(None, f"X-Skerry-Key: {KEY}").status == 200
    quay.knows(pem(quay.ferry))
    assert quay.call(quay.ferry).status == 200
    assert quay.reason(quay.ferry, f"X-Skerry-Key: {KEY}") == "doubled-credential"
    assert quay.reason(quay.ferry, "X-Skerry-Key: tmk_unknown") == "doubled-credential"


def test_one_that_signs_itself_may_stand_for_its_own_authority(quay: Quay, tmp_path: Path) -> None:
    (tmp_path / "own").mkdir()
    own = Authority(tmp_path / "own", "Buoy")
    quay.node.serve(asking(own), 2)
    quay.knows(own.pem)
    assert quay.call(own.with_key("buoy.pem")).status == 200


def test_it_is_over_when_the_certificate_is(quay: Quay, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (one,) = in_pem(pem(quay.ferry))
    quay.knows(pem(quay.ferry))
    with quay.connect(quay.ferry) as kept:
        assert get(kept).status == 200
        monkeypatch.setattr(driver, "time", lambda: one.ends + 1)
        answer = get(kept)
        record = quay.node.last_record(str(answer.getheader("tamarack-call-id")))
        assert (answer.status, record.reason) == (401, "expired-credential"), (
            "also on a connection that was made before"
        )
        monkeypatch.undo()
    (tmp_path / "short").mkdir()
    with pytest.raises((ssl.SSLError, ConnectionError, http.client.HTTPException)):
        over = Authority(tmp_path / "short", "Over", timedelta(hours=-1))
        quay.node.serve(asking(over), 2)
        quay.call(over.sign("over.pem", "ferry.tern.example"))


def test_callers_are_asked_also_while_the_node_s_own_certificate_cannot_be_read(quay: Quay) -> None:
    quay.node.serve(configuration(), 2)
    (quay.authority.folder / "node.pem").write_text("half a certifi")
    quay.node.serve(asking(quay.authority), 3)
    quay.knows(pem(quay.ferry))
    assert quay.call(quay.ferry).status == 200


def test_where_no_policy_asks_none_is_asked_for(quay: Quay) -> None:
    quay.node.serve(configuration(), 2)
    quay.knows(pem(quay.ferry))
    assert quay.reason(quay.ferry) == "no-credential"
    assert quay.call(quay.other.sign("any.pem", "any.example"), f"X-Skerry-Key: {KEY}").status == 200
