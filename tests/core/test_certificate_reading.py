"""Certificates: what is read of them, who signed them, and what of a typed PEM is told."""

from pathlib import Path

import pytest

from certificates import Authority
from tamarack.core.certificates.certificate import MOST_AUTHORITIES, authorities_in, in_pem, known_by, of_der, shown


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


@pytest.mark.parametrize(
    ("typed", "name"),
    [("CN=tern,O=Tern Trips", "CN=tern,O=Tern Trips"), (" CN=tern ", "CN=tern"), ("dns:Ferry.Tern.Example.", "dns:ferry.tern.example"),
     ("mail:Crew@Tern.example", "mail:crew@tern.example"), ("uri:urn:tern:ferry", "uri:urn:tern:ferry"), ("ip:::1", "ip:::1")],
)  # fmt: skip
def test_a_name_of_certificates_is_kept_as_certificates_write_it(typed: str, name: str) -> None:
    assert known_by(typed).name == name


@pytest.mark.parametrize(
    "typed", ["", "tern", "dns:", "mail:crew", "uri:tern", "ip:tern", "CN=tern\nO=x", "CN=" + "x" * 300]
)
def test_what_is_no_name_of_a_certificate_is_told(typed: str) -> None:
    with pytest.raises(ValueError, match=r"no name of a certificate|one line|no address of a machine"):
        known_by(typed)


def test_a_caller_s_own_certificate_is_known_by_its_fingerprint_until_it_ends(authority: Authority) -> None:
    own = certificate(authority.sign("one.pem", "tern.example"))
    known = known_by(own)
    (one,) = in_pem(own)
    assert (known.name, known.told, known.ends) == (one.fingerprint, "CN=tern.example", one.ends)
    with pytest.raises(ValueError, match="2 certificates are in it"):
        known_by(own + authority.pem)
