"""Certificates: what is read of them, who signed them, and what of a typed PEM is told."""

from pathlib import Path

import pytest

from certificates import Authority
from tamarack.core.certificates.certificate import MOST_AUTHORITIES, authorities_in, in_pem, of_der, shown


@pytest.fixture
def authority(tmp_path: Path) -> Authority:
    return Authority(tmp_path)


def certificate(path: Path) -> str:
    """A file's certificate without its key."""
    return path.read_text().partition("-----BEGIN PRIVATE")[0]


def test_a_certificate_is_read_with_its_names_and_times(authority: Authority) -> None:
    names = ("Tern.Example.", "10.0.0.7", "uri:urn:ferry:tern", "mail:Crew@tern.example")
    (one,) = in_pem(certificate(authority.sign("one.pem", *names)))
    assert one.subject == "CN=Tern.Example."
    assert one.names == ("dns:tern.example", "ip:10.0.0.7", "uri:urn:ferry:tern", "mail:crew@tern.example")
    assert one.ends - one.begins == 2 * 86_400
    assert of_der(one.der).fingerprint == one.fingerprint
    assert shown(one.fingerprint).startswith(f"SHA-256 {one.fingerprint[:2].upper()}:")


def test_it_was_signed_by_the_very_authority_and_by_none_of_the_same_name(authority: Authority, tmp_path: Path) -> None:
    (tmp_path / "other").mkdir()
    other = Authority(tmp_path / "other")
    (one,) = in_pem(certificate(authority.sign("one.pem", "tern.example")))
    ours, theirs = authorities_in(authority.pem), authorities_in(other.pem)
    assert one.signed_by((*theirs, *ours))
    assert not one.signed_by(theirs)
    assert not one.signed_by(())


def test_what_is_no_authority_is_told(authority: Authority) -> None:
    with pytest.raises(ValueError, match=r"'CN=tern\.example' is the certificate of no authority"):
        authorities_in(certificate(authority.sign("one.pem", "tern.example")))
    with pytest.raises(ValueError, match="too many; name at most"):
        authorities_in(authority.pem * (MOST_AUTHORITIES + 1))


@pytest.mark.parametrize(
    ("pem", "words"),
    [("a password", "no certificate can be read"), ("-----BEGIN CERTIFICATE-----\nAAAA\n-----END CERTIFICATE-----", "no"),
     ("-----BEGIN CERTIFICATE-----\né", "not ASCII"), ("x" * 70_000, "too many")],
)  # fmt: skip
def test_what_is_no_certificate_is_told(pem: str, words: str) -> None:
    with pytest.raises(ValueError, match=words):
        in_pem(pem)


def test_a_private_key_is_not_taken_for_a_certificate(authority: Authority) -> None:
    with pytest.raises(ValueError, match="keep keys in the secret store"):
        in_pem(authority.sign("one.pem", "tern.example").read_text())
    assert in_pem(" \n") == ()
