"""Certificates made for tests: an authority, and what it signs."""

from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path
from typing import Any

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

DAY = timedelta(days=1)
_KINDS: dict[str, Any] = {"uri": x509.UniformResourceIdentifier, "mail": x509.RFC822Name}


def _name(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])


class Authority:
    """Signs certificates for names and addresses; for `uri:…` and `mail:…` too."""

    def __init__(self, folder: Path, name: str = "Tests", lasts: timedelta = DAY) -> None:
        self.folder = folder
        self._name, self._lasts = name, lasts
        self._key = ec.generate_private_key(ec.SECP256R1())
        self._certificate = self._build(name, self._key, name, None, lasts).sign(self._key, hashes.SHA256())
        self.path = folder / "authority.pem"
        self.path.write_text(self.pem)

    @property
    def pem(self) -> str:
        return self._certificate.public_bytes(serialization.Encoding.PEM).decode()

    @staticmethod
    def _build(
        subject: str, key: ec.EllipticCurvePrivateKey, issuer: str, names: list[str] | None, lasts: timedelta
    ) -> x509.CertificateBuilder:
        now = datetime.now(UTC)
        made = (
            x509.CertificateBuilder()
            .subject_name(_name(subject))
            .issuer_name(_name(issuer))
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - DAY)
            .not_valid_after(now + lasts)
            .add_extension(x509.BasicConstraints(names is None, None), critical=True)
        )
        if names:
            alternatives: list[x509.GeneralName] = []
            for name in names:
                kind, _, rest = name.partition(":")
                if kind in _KINDS and rest:
                    alternatives.append(_KINDS[kind](rest))
                    continue
                try:
                    alternatives.append(x509.IPAddress(ip_address(name)))
                except ValueError:
                    alternatives.append(x509.DNSName(name))
            made = made.add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
        return made

    def with_key(self, file: str) -> Path:
        """Its own certificate with its key in one file."""
        return self._write(file, self._certificate, self._key)

    def _write(self, file: str, certificate: x509.Certificate, key: ec.EllipticCurvePrivateKey) -> Path:
        path = self.folder / file
        part = path.with_suffix(".part")
        part.write_bytes(
            certificate.public_bytes(serialization.Encoding.PEM)
            + key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        part.replace(path)
        return path

    def sign(self, file: str, *names: str) -> Path:
        """A certificate for some names, with its key in the same file; returns the file."""
        key = ec.generate_private_key(ec.SECP256R1())
        made = self._build(names[0], key, self._name, list(names), self._lasts).sign(self._key, hashes.SHA256())
        return self._write(file, made, key)
