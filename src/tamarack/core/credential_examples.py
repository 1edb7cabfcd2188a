"""How a caller shows its credential, as part of an example call: by the first way to identify that holds."""

from collections.abc import Iterable

from tamarack.core.examples import ExampleCall
from tamarack.core.policies import AnyPolicy
from tamarack.core.policies.api_key import ApiKey
from tamarack.core.policies.client_secret import ClientSecret
from tamarack.core.policies.signed_key import SignedKey
from tamarack.core.policies.token import JwtPolicy

KEY_PLACE = "YOUR-KEY"
TOKEN_PLACE = "YOUR-TOKEN"  # noqa: S105 - a place to fill in
CLIENT_PLACE = ("YOUR-CLIENT-ID", "YOUR-SECRET")


def credential_example(
    policies: Iterable[AnyPolicy], key: str = "", client: tuple[str, str] | None = None
) -> ExampleCall | None:
    """The credential of a call: header fields, `basic`, or a query string in `url`; None where none is asked for.

    `key` and `client` are real values; without them there are places to fill in.
    """
    for policy in policies:
        match policy:
            case ApiKey() if policy.header:
                return ExampleCall("", "", {policy.header: key or KEY_PLACE})
            case ApiKey():
                return ExampleCall("", f"{policy.query}={key or KEY_PLACE}")
            case ClientSecret() if policy.basic:
                return ExampleCall("", "", basic=client or CLIENT_PLACE)
            case ClientSecret() if policy.id_header:
                id, secret = client or CLIENT_PLACE
                return ExampleCall("", "", {policy.id_header: id, policy.secret_header: secret})
            case ClientSecret():
                id, secret = client or CLIENT_PLACE
                return ExampleCall("", f"{policy.id_query}={id}&{policy.secret_query}={secret}")
            case JwtPolicy() | SignedKey():
                value = key or TOKEN_PLACE
                if policy.header in ("", "authorization"):
                    return ExampleCall("", "", {"Authorization": f"Bearer {value}"})
                return ExampleCall("", "", {policy.header: value})
    return None
