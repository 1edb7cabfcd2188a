"""The first word with a feed whose authority is one's own: curl is told which public key to expect, since the machine
that is to become a node does not know the authority yet.
"""

import socket
import ssl
from base64 import b64encode
from hashlib import sha256
from urllib.parse import urlsplit

from cryptography import x509
from cryptography.hazmat.primitives.serialization import Encoding, PublicFormat

WITHIN_S = 3.0


def public_key_pin(address: str) -> str:
    """The pin of the public key that a server shows now (SHA-256 of its SPKI, RFC 7469, 2.4); empty where it does not
    answer."""
    parts = urlsplit(address)
    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE  # what it shows is what is pinned
    try:
        with (
            socket.create_connection((parts.hostname or "", parts.port or 443), WITHIN_S) as plain,
            context.wrap_socket(plain, server_hostname=parts.hostname) as connection,
        ):
            shown = connection.getpeercert(binary_form=True)
    except (OSError, ValueError):
        return ""
    if not shown:
        return ""
    key = x509.load_der_x509_certificate(shown).public_key()
    spki = key.public_bytes(Encoding.DER, PublicFormat.SubjectPublicKeyInfo)
    return f"sha256//{b64encode(sha256(spki).digest()).decode()}"
