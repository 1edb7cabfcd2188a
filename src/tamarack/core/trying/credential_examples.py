"""How a caller shows its credential, as part of an example call: by the first way to identify that holds."""

from collections.abc import Iterable

from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.policies.kind import Shown
from tamarack.core.trying.examples import ExampleCall

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
        kind = kind_of(policy)
        shown = kind.shown(policy)
        if shown is not None:
            return _example(shown, key or (TOKEN_PLACE if kind.reads_token else KEY_PLACE), client or CLIENT_PLACE)
    return None


def _example(shown: Shown, key: str, client: tuple[str, str]) -> ExampleCall:
    values = client if len(shown.names) == 2 else (key,)
    match shown.place:
        case "basic":
            return ExampleCall("", "", basic=client)
        case "bearer":
            return ExampleCall("", "", {"Authorization": f"Bearer {key}"})
        case "header":
            return ExampleCall("", "", dict(zip(shown.names, values, strict=True)))
        case _:
            pairs = zip(shown.names, values, strict=True)
            return ExampleCall("", "&".join(f"{name}={value}" for name, value in pairs))
