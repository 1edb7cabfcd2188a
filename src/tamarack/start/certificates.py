"""The demo's own authority and the certificate that it signs, made at start and again before they are over. A real
installation names certificates of its own.
"""

from datetime import UTC, datetime, timedelta
from ipaddress import ip_address
from pathlib import Path

from cryptography import x509
from cryptography.hazmat.primitives import hashes, serialization
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

NAMES = ("localhost", "api.skerry.example")
ADDRESSES = ("127.0.0.1", "::1")
AUTHORITY_LASTS = timedelta(days=3650)
LASTS = timedelta(days=90)
MADE_AGAIN = timedelta(days=30)
"""How long before its end a certificate is made again."""


def make_certificates(home: Path) -> tuple[Path, Path]:
    """The authority's certificate, and a file with the certificate and key that programs show; made where they are not
    there, or not for long."""
    folder = home / "tls"
    folder.mkdir(parents=True, exist_ok=True, mode=0o700)
    authority, authority_key, shown = folder / "authority.pem", folder / "authority.key", folder / "shown.pem"
    if not (_lasts(authority) and authority_key.exists()):
        key = ec.generate_private_key(ec.SECP256R1())
        made = _builder("Skerry Sound demo", "Skerry Sound demo", key, AUTHORITY_LASTS)
        made = made.add_extension(x509.BasicConstraints(ca=True, path_length=0), critical=True)
        _write(authority_key, _pem_of(key))
        _write(authority, made.sign(key, hashes.SHA256()).public_bytes(serialization.Encoding.PEM), 0o644)
        shown.unlink(missing_ok=True)
    if not _lasts(shown):
        signs = serialization.load_pem_private_key(authority_key.read_bytes(), None)
        assert isinstance(signs, ec.EllipticCurvePrivateKey)
        key = ec.generate_private_key(ec.SECP256R1())
        names: list[x509.GeneralName] = [x509.DNSName(name) for name in NAMES]
        names += [x509.IPAddress(ip_address(address)) for address in ADDRESSES]
        made = _builder(NAMES[0], "Skerry Sound demo", key, LASTS)
        made = made.add_extension(x509.SubjectAlternativeName(names), critical=False)
        made = made.add_extension(x509.BasicConstraints(ca=False, path_length=None), critical=True)
        made = made.add_extension(x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]), critical=False)
        certificate = made.sign(signs, hashes.SHA256()).public_bytes(serialization.Encoding.PEM)
        _write(shown, certificate + _pem_of(key))
    return authority, shown


def _builder(subject: str, issuer: str, key: ec.EllipticCurvePrivateKey, lasts: timedelta) -> x509.CertificateBuilder:
    now = datetime.now(UTC)
    return (
        x509.CertificateBuilder()
        .subject_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, subject)]))
        .issuer_name(x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, issuer)]))
        .public_key(key.public_key())
        .serial_number(x509.random_serial_number())
        .not_valid_before(now - timedelta(hours=1))
        .not_valid_after(now + lasts)
    )


def _lasts(path: Path) -> bool:
    try:
        certificate = x509.load_pem_x509_certificate(path.read_bytes())
    except (OSError, ValueError):
        return False
    return certificate.not_valid_after_utc - datetime.now(UTC) > MADE_AGAIN


def _pem_of(key: ec.EllipticCurvePrivateKey) -> bytes:
    return key.private_bytes(
        serialization.Encoding.PEM, serialization.PrivateFormat.PKCS8, serialization.NoEncryption()
    )


def _write(path: Path, content: bytes, mode: int = 0o600) -> None:
    part = path.with_suffix(".part")
    part.touch(mode=mode)
    part.write_bytes(content)
    part.replace(path)
