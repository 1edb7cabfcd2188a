"""Certificates made for tests: an authority, and what it signs."""

from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import NameOID

DAY = timedelta(days=1)


def _name(text: str) -> x509.Name:
    return x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, text)])


class Authority:
    """Signs certificates for names and addresses."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self._key = ec.generate_private_key(ec.SECP256R1())
        self._certificate = self._build("Tests", self._key, "Tests", None).sign(self._key, hashes.SHA256())
        self.path = folder / "authority.pem"
        self.path.write_bytes(self._certificate.public_bytes(serialization.Encoding.PEM))

    @staticmethod
    def _build(
        subject: str, key: ec.EllipticCurvePrivateKey, issuer: str, names: list[str] | None
    ) -> x509.CertificateBuilder:
        now = datetime.now(UTC)
        made = (
            x509.CertificateBuilder()
            .subject_name(_name(subject))
            .issuer_name(_name(issuer))
            .public_key(key.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - DAY)
            .not_valid_after(now + DAY)
            .add_extension(x509.BasicConstraints(names is None, None), critical=True)
        )
        if names:
            alternatives: list[x509.GeneralName] = []
            for name in names:
                try:
                    alternatives.append(x509.IPAddress(ip_address(name)))
                except ValueError:
                    alternatives.append(x509.DNSName(name))
            made = made.add_extension(x509.SubjectAlternativeName(alternatives), critical=False)
        return made

    def sign(self, file: str, *names: str) -> Path:
        """A certificate for some names, with its key in the same file; returns the file."""
        key = ec.generate_private_key(ec.SECP256R1())
        made = self._build(names[0], key, "Tests", list(names)).sign(self._key, hashes.SHA256())
        path = self.folder / file
        part = path.with_suffix(".part")
        part.write_bytes(
            made.public_bytes(serialization.Encoding.PEM)
            + key.private_bytes(
                serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
            )
        )
        part.replace(path)
        return path
