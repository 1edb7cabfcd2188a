"""How the gateway signs in to a backend: nothing, a header field with a secret, Basic, or Bearer."""

from base64 import b64encode
from collections.abc import Callable
from typing import Literal

from tamarack.core.http.fields import Header, one_field
from tamarack.core.identity.material import SecretHolder

SignInKind = Literal["none", "header", "basic", "bearer"]


def sign_in_field(kind: str, name: str, holder: SecretHolder) -> Callable[[], Header | None]:
    """The header field to send, made anew when the secret is rotated; None while the secret is not set.

    `name` is the header field's name, or the user's for Basic (RFC 7617).
    """
    header = name.lower().encode() if kind == "header" else b"authorization"
    made: list[tuple[int, Header | None]] = [(-1, None)]

    def field() -> Header | None:
        generation, ready = made[0]
        if generation != holder.generation:
            value = holder.value
            if not value:
                ready = None
            elif kind == "basic":
                ready = (header, b"Basic " + b64encode(name.encode() + b":" + value))
            else:
                ready = one_field(header, b"Bearer " + value if kind == "bearer" else value)
            made[0] = (holder.generation, ready)
        return ready

    return field
