"""The demo's own authority: what it signs is trusted by who trusts it, kept, and made again before it is over."""

import socket
import ssl
from pathlib import Path

import pytest
from cryptography import x509

from gateway.harness import running
from gateway.test_carry import answering
from helpers import configuration, free_port
from tamarack.gateway.upstream.scripted import ScriptedUpstream
from tamarack.start import certificates
from tamarack.tls import Certificates, pairs_of
from tamarack.web.quick_start.pinned import public_key_pin


def test_certificates_are_made_once_and_again_before_they_are_over(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    authority, shown = certificates.make_certificates(tmp_path)
    made = authority.read_bytes(), shown.read_bytes()
    assert b"PRIVATE KEY" in made[1]
    assert b"PRIVATE KEY" not in made[0]
    assert [path.stat().st_mode & 0o077 for path in (tmp_path / "tls", shown, tmp_path / "tls/authority.key")] == [
        0
    ] * 3
    certificates.make_certificates(tmp_path)
    assert (authority.read_bytes(), shown.read_bytes()) == made
    monkeypatch.setattr(certificates, "MADE_AGAIN", certificates.LASTS * 2)
    certificates.make_certificates(tmp_path)
    assert authority.read_bytes() == made[0]
    assert shown.read_bytes() != made[1]
    shown.write_text("half")
    certificates.make_certificates(tmp_path)
    x509.load_pem_x509_certificate(shown.read_bytes())


def test_who_trusts_the_authority_trusts_what_it_signed_and_curl_can_be_told_its_key(tmp_path: Path) -> None:
    authority, shown = certificates.make_certificates(tmp_path)
    tls = Certificates(pairs_of(str(shown)), print)
    with running(configuration(), ScriptedUpstream(answering), tls=tls.context) as node:
        for name in ("127.0.0.1", "localhost"):
            plain = socket.create_connection(("127.0.0.1", node.port), 10)
            context = ssl.create_default_context(cafile=str(authority))
            with context.wrap_socket(plain, server_hostname=name) as connection:
                assert connection.version() == "TLSv1.3"
        pin = public_key_pin(f"https://127.0.0.1:{node.port}")
        assert pin.startswith("sha256//")
        assert pin == public_key_pin(f"https://localhost:{node.port}/x")
    assert public_key_pin(f"https://127.0.0.1:{free_port()}") == ""
