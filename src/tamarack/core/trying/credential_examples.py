"""How a caller shows its credential, as part of an example call: by one of the ways to identify that hold."""

from collections.abc import Iterable, Mapping
from typing import NamedTuple

from tamarack.core.openapi.reference import OperationView
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.policies.kind import Shown
from tamarack.core.trying.examples import ExampleCall

KEY_PLACE = "YOUR-KEY"
TOKEN_PLACE = "YOUR-TOKEN"  # noqa: S105 - a place to fill in
CLIENT_PLACE = "YOUR-CLIENT-ID:YOUR-SECRET"


class ShownWay(NamedTuple):
    """A way to identify that an example call can take."""

    name: str
    """The policy's name."""
    title: str
    credential: str
    """The kind of credential that it takes, as `core.identity.credentials` names it."""
    shown: Shown
    place: str
    """What stands in an example where the credential goes; of an id and a secret, with a colon between."""
    source: str
    """Where the credential comes from, where that is not here."""


class Given(NamedTuple):
    """A real credential for an example; a client's as `id:secret`."""

    value: str
    credential: str
    """Its kind: it is never put where another kind belongs."""


def ways_shown(policies: Iterable[AnyPolicy]) -> list[ShownWay]:
    """The ways to identify among policies that an example can show, in their order; any one of them will do."""
    ways = []
    for policy in policies:
        kind = kind_of(policy)
        shown = kind.shown(policy)
        if shown is not None:
            two = shown.place == "basic" or len(shown.names) == 2
            place = CLIENT_PLACE if two else TOKEN_PLACE if kind.reads_token else KEY_PLACE
            ways.append(ShownWay(policy.name, kind.title, kind.credential, shown, place, kind.source(policy)))
    return ways


def way_for(ways: list[ShownWay], given: Given | None = None, name: str = "") -> ShownWay | None:
    """The way that an example takes: the one of a name, else one that takes the credential given, else the first."""
    fitting = [way for way in ways if given is not None and way.credential == given.credential]
    return next((way for way in [*(way for way in ways if way.name == name), *fitting, *ways]), None)


def credential_example(policies: Iterable[AnyPolicy], given: Given | None = None, name: str = "") -> ExampleCall | None:
    """The credential of a call: header fields, `basic`, or a query string in `url`; None where none is asked for.

    What is `given` is filled in where the way takes its kind; else there is a place to fill in.
    """
    way = way_for(ways_shown(policies), given, name)
    if way is None:
        return None
    value = given.value if given is not None and given.credential == way.credential else way.place
    return _example(way.shown, value)


def _example(shown: Shown, value: str) -> ExampleCall:
    id, _, secret = value.partition(":")
    if shown.place == "certificate":
        return ExampleCall("", "", certificate=True)
    if shown.place == "basic":
        return ExampleCall("", "", basic=(id, secret))
    values = (id, secret) if len(shown.names) == 2 else (value,)
    match shown.place:
        case "bearer":
            return ExampleCall("", "", {"Authorization": f"Bearer {value}"})
        case "header":
            return ExampleCall("", "", dict(zip(shown.names, values, strict=True)))
        case _:
            pairs = zip(shown.names, values, strict=True)
            return ExampleCall("", "&".join(f"{name}={value}" for name, value in pairs))


def example_call(
    view: OperationView, address: str, shown: ExampleCall | None, named: Mapping[str, str] | None = None
) -> ExampleCall:
    """A call of an operation by its own examples, at the address of its version, with a credential as it is shown.

    `named` are the fields that name the version, where its base path does not.
    """
    path = view.example_path().replace("/*", "/")
    url = address + (path if path != "/" else "")
    headers = view.example_headers() | dict(named or {}) | (dict(shown.headers) if shown is not None else {})
    if shown is not None and shown.url:
        url += f"{'&' if '?' in url else '?'}{shown.url}"
    body = view.body.example if view.body is not None else ""
    if body and view.body is not None:
        headers["content-type"] = view.body.content_type
    method = "GET" if view.method == "any" else view.method.upper()
    if shown is None:
        return ExampleCall(method, url, headers, body)
    return ExampleCall(method, url, headers, body, shown.basic, shown.certificate)
