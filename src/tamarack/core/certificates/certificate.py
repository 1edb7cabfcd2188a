"""Certificates (X.509, RFC 5280) as far as the gateway decides by them: whose they are, who signed them, until when."""

from __future__ import annotations

from dataclasses import dataclass
from hashlib import sha256
from ipaddress import ip_address
from typing import NamedTuple

from cryptography import x509
from cryptography.exceptions import InvalidSignature
from cryptography.hazmat.primitives.serialization import Encoding

from tamarack.core.text import one_line

MOST_PEM = 65_536
"""Characters of the certificates that one field holds."""
MOST_AUTHORITIES = 20
MOST_NAMES = 100
"""Alternative names of a certificate that are looked at."""


@dataclass(frozen=True, slots=True)
class Certificate:
    """A certificate that was read. Times are seconds since the epoch."""

    fingerprint: str
    """SHA-256 of its DER, in lower-case hexadecimal."""
    subject: str
    """Its distinguished name (RFC 4514)."""
    names: tuple[str, ...]
    """Its alternative names, as `dns:…`, `uri:…`, `mail:…` and `ip:…`; names of hosts in lower case."""
    begins: float
    ends: float
    der: bytes
    parsed: x509.Certificate

    def signed_by(self, authorities: tuple[Certificate, ...]) -> bool:
        """Whether one of the authorities signed it. It has to be the very one: no chain is looked for."""
        for authority in authorities:
            try:
                self.parsed.verify_directly_issued_by(authority.parsed)
            except (ValueError, TypeError, InvalidSignature):
                continue
            return True
        return False


def of_der(der: bytes) -> Certificate:
    """Read a certificate as TLS hands it over. Raises `ValueError`."""
    return _read(x509.load_der_x509_certificate(der))


def in_pem(pem: str) -> tuple[Certificate, ...]:
    """The certificates in a PEM text, in their order; none in an empty one. Raises `ValueError`, in words."""
    text = pem.strip()
    if not text:
        return ()
    if len(text) > MOST_PEM:
        raise ValueError(f"{len(text):,} characters are too many; at most {MOST_PEM:,} are read")
    if "PRIVATE KEY" in text:
        raise ValueError("a private key is in it; paste certificates alone, and keep keys in the secret store")
    try:
        return tuple(map(_read, x509.load_pem_x509_certificates(text.encode("ascii"))))
    except UnicodeEncodeError:
        raise ValueError("it is no PEM: it holds characters that are not ASCII") from None
    except ValueError:
        raise ValueError(
            "no certificate can be read from it; paste PEM, from -----BEGIN CERTIFICATE----- to -----END"
            " CERTIFICATE-----"
        ) from None


def authorities_in(pem: str) -> tuple[Certificate, ...]:
    """The authorities in a PEM text. Raises `ValueError`, also for certificates that may sign no others."""
    found = in_pem(pem)
    if len(found) > MOST_AUTHORITIES:
        raise ValueError(f"{len(found)} certificates are too many; name at most {MOST_AUTHORITIES} authorities")
    for one in found:
        if not _signs(one.parsed):
            raise ValueError(f"{one.subject!r} is the certificate of no authority: it may sign no others")
    return found


def _signs(parsed: x509.Certificate) -> bool:
    try:
        return parsed.extensions.get_extension_for_class(x509.BasicConstraints).value.ca
    except (x509.ExtensionNotFound, ValueError):
        return False


def _read(parsed: x509.Certificate) -> Certificate:
    der = parsed.public_bytes(Encoding.DER)
    return Certificate(
        fingerprint=sha256(der).hexdigest(),
        subject=one_line(parsed.subject.rfc4514_string()),
        names=_names(parsed),
        begins=parsed.not_valid_before_utc.timestamp(),
        ends=parsed.not_valid_after_utc.timestamp(),
        der=der,
        parsed=parsed,
    )


def _names(parsed: x509.Certificate) -> tuple[str, ...]:
    try:
        found = parsed.extensions.get_extension_for_class(x509.SubjectAlternativeName).value
    except (x509.ExtensionNotFound, ValueError):
        return ()
    named = []
    for one in list(found)[:MOST_NAMES]:
        match one:
            case x509.DNSName(value=value):
                named.append(f"dns:{value.lower().rstrip('.')}")
            case x509.UniformResourceIdentifier(value=value):
                named.append(f"uri:{value}")
            case x509.RFC822Name(value=value):
                named.append(f"mail:{value.lower()}")
            case x509.IPAddress(value=address):
                named.append(f"ip:{address}")
    return tuple(map(one_line, named))


def shown(fingerprint: str) -> str:
    """A fingerprint as people read it: pairs with colons, the first and last of them."""
    pairs = [fingerprint[place : place + 2].upper() for place in range(0, len(fingerprint), 2)]
    return f"SHA-256 {':'.join(pairs[:4])}…{':'.join(pairs[-2:])}"


class Known(NamedTuple):
    """What a caller's certificate is known by, as it was typed."""

    name: str
    """What it is looked up by: its fingerprint, its subject, or one of its alternative names."""
    told: str
    """Whose it is, in words that go with `hint`; empty where that says it all."""
    hint: str
    ends: float | None
    """When the certificate itself is over; None where only a name was typed."""


def known_by(typed: str) -> Known:
    """Read what was typed of a caller's certificate: itself, as PEM; or its subject, or one of its alternative names.

    Raises `ValueError`, in words.
    """
    text = typed.strip()
    if "-----BEGIN" in text:
        found = in_pem(text)
        if len(found) != 1:
            raise ValueError(
                f"{len(found)} certificates are in it; paste the caller's own, without those that signed it"
            )
        one = found[0]
        return Known(one.fingerprint, one.subject, shown(one.fingerprint), one.ends)
    if len(text) > 300 or one_line(text) != text:
        raise ValueError("write a name in one line of at most 300 characters, or paste the certificate as PEM")
    kind, _, rest = text.partition(":")
    match kind:
        case "dns" if rest:
            text = f"dns:{rest.lower().rstrip('.')}"
        case "mail" if "@" in rest:
            text = f"mail:{rest.lower()}"
        case "uri" if ":" in rest:
            pass
        case "ip":
            try:
                text = f"ip:{ip_address(rest)}"
            except ValueError:
                raise ValueError(f"{rest!r} is no address of a machine, like 10.0.0.7") from None
        case _:
            try:
                text = x509.Name.from_rfc4514_string(text).rfc4514_string()
            except ValueError:
                text = ""
            if not text:
                raise ValueError(
                    f"{typed.strip()[:80]!r} is no name of a certificate; write its subject, like CN=tern,O=Tern Trips,"
                    " or dns:…, uri:…, mail:… or ip:…, or paste the certificate as PEM"
                )
    return Known(text, "", text, None)
