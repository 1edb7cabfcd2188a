"""Client certificate: the caller proves by TLS that it holds the key of a certificate (RFC 8446, 4.4.2).

It is read from the connection and from nowhere else: fields in which proxies tell of certificates are taken off every
call, and are believed by nobody.
"""

from typing import Annotated, Literal

from pydantic import AfterValidator, Field, StringConstraints

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Part, Way
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.certificates.certificate import Certificate, in_pem, shown
from tamarack.core.form_hints import hints
from tamarack.core.identity.caller import Caller
from tamarack.core.identity.credentials import certificate_value
from tamarack.core.policies.identify.own_credential import OwnCredential
from tamarack.core.policies.kind import CREDENTIAL_REASONS, NAME_HELP, PolicyKind, Shown, Surroundings, few
from tamarack.core.stages import Stage
from tamarack.core.types import Name

MOST_KNOWN = 10_000
"""Certificates of which it is remembered who signed them."""
_BY = {
    "the certificate itself": "it",
    "its subject": "its subject",
    "one of its alternative names": "one of its alternative names",
}


def _signers(value: str) -> str:
    if not in_pem(value):
        raise ValueError("name who signs the callers' certificates, as PEM; a certificate that signs itself is its own")
    return value


class ClientCertificate(OwnCredential):
    """Identify the caller by a certificate that it shows over TLS."""

    kind: Literal["client-certificate"] = "client-certificate"
    name: Name = Field(default="client-certificate", title="Name", description=NAME_HELP)
    by: Literal["the certificate itself", "its subject", "one of its alternative names"] = Field(
        default="the certificate itself",
        title="The caller is known by",
        description="What an application's credential of the kind Certificate says.",
    )
    authorities: Annotated[str, StringConstraints(strip_whitespace=True), AfterValidator(_signers)] = Field(
        title="Signed by",
        description="Certificates (PEM) of the authorities that sign callers' certificates directly, or callers' own"
        " that sign themselves.",
        json_schema_extra=hints(rows=5),
    )


def _compile(policy: ClientCertificate, surroundings: Surroundings) -> list[Part]:
    find = surroundings.directory.finder("certificate")
    environment = surroundings.environment
    authorities = in_pem(policy.authorities)
    signed: dict[str, bool] = {}
    by = policy.by
    challenge = f"TLS-Client-Certificate realm={surroundings.realm}".encode("latin-1", "replace")
    fields = ((b"www-authenticate", challenge),)

    def refused(reason: str, note: str) -> Refusal:
        return Refusal(REASONS[reason], fields, policy.name, note, yields=reason == "unknown-credential")

    def is_signed(certificate: Certificate) -> bool:
        known = signed.get(certificate.fingerprint)
        if known is None:
            if len(signed) >= MOST_KNOWN:
                signed.clear()
            known = signed[certificate.fingerprint] = certificate.signed_by(authorities)
        return known

    def identify(call: Call) -> Caller | Refusal | None:
        certificate = call.certificate
        if certificate is None:
            return None
        called = f"{certificate.subject or 'a certificate without a subject'}, {shown(certificate.fingerprint)}"
        if not is_signed(certificate):
            return refused("unknown-credential", f"signed by none of the authorities: {called}")
        if not certificate.begins <= call.now < certificate.ends:
            return refused("expired-credential", f"outside of its time: {called}")
        for name in names_by(certificate, by):
            caller = find(certificate_value(name, environment))
            if caller is not None:
                return caller
        return refused("unknown-credential", f"known to no application by {_BY[by]}: {called}")

    def reads(call: Call) -> list[tuple[str, str]]:
        return [("certificate", call.certificate.subject)] if call.certificate is not None else []

    return [
        Way(
            stage=Stage.IDENTIFY,
            identify=identify,
            challenge=challenge,
            take_off=lambda call: None,
            reads=reads,
            of_connection=True,
            asks="a certificate over TLS",
        )
    ]


def names_by(certificate: Certificate, by: str) -> tuple[str, ...]:
    """What a certificate is looked up by."""
    if by == "its subject":
        return (certificate.subject,) if certificate.subject else ()
    return certificate.names if by == "one of its alternative names" else (certificate.fingerprint,)


def _brief(policy: ClientCertificate) -> str:
    known = {"its subject": "by subject", "one of its alternative names": "by its names"}
    return f"{few([one.subject for one in in_pem(policy.authorities)])}, {known.get(policy.by, 'by itself')}"


def _sentence(policy: ClientCertificate) -> str:
    signers = ", ".join(one.subject for one in in_pem(policy.authorities)[:3])
    known = {"its subject": "whose subject is", "one of its alternative names": "one of whose names is"}
    return (
        f"The caller shows a certificate over TLS that `{signers}` signed and {known.get(policy.by, 'that is')} known."
    )


KIND = PolicyKind(
    kind="client-certificate",
    title="Client certificate",
    stage=Stage.IDENTIFY,
    purpose="Know the caller by a certificate that it shows over TLS",
    model=ClientCertificate,
    compile=_compile,
    reasons=CREDENTIAL_REASONS,
    credential="certificate",
    authorities=lambda policy: policy.authorities,
    shown=lambda policy: Shown("certificate"),
    brief=_brief,
    sentence=_sentence,
    sentence_outside=lambda policy: "The caller shows a certificate over TLS.",
)
