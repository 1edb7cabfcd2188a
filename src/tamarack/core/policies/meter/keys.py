"""What calls are counted by: a property of the call, or its address where it lacks that."""

from collections.abc import Callable
from functools import lru_cache
from ipaddress import IPv6Network

from tamarack.core.carrying.call import Call
from tamarack.core.http.names import header_name
from tamarack.core.http.query import in_pairs
from tamarack.core.identity.claims import MISSING, claim_at

NAMED = ("header", "query", "claim")
"""What is counted by a name that has to be given."""
LONGEST_VALUE = 200
"""Characters of a value that is counted by; longer ones count as their beginning."""
Key = Callable[[Call], str]


@lru_cache(maxsize=65_536)
def _site(address: str) -> str:
    """What an address counts as: itself, or for IPv6 its network of 64 bits, which one subscriber holds whole."""
    if ":" not in address:
        return address
    try:
        return str(IPv6Network((address.partition("%")[0], 64), strict=False))
    except ValueError:
        return address


def _by_address(call: Call) -> str:
    return _site(call.address)


def by_caller(call: Call) -> str:
    """What a call counts for: its application, else its address."""
    caller = call.caller
    return caller.application_id if caller is not None else _site(call.address)


def _by_credential(call: Call) -> str:
    caller = call.caller
    return caller.credential if caller is not None and caller.credential else _site(call.address)


def _or_address(find: Key) -> Key:
    """Count by what is found, else by the address. The mark keeps a value from passing for an address."""

    def key(call: Call) -> str:
        found = find(call)
        return f"={found[:LONGEST_VALUE]}" if found else _site(call.address)

    return key


def header_value(name: bytes) -> Key:
    """The first value of a header field."""
    return lambda call: next((value.decode("latin-1") for field, value in call.headers if field == name), "")


def _query(name: bytes) -> Key:
    return lambda call: (
        next((value.decode("latin-1") for value in in_pairs(call.query, name)), "") if call.query else ""
    )


def claim_value(name: str) -> Key:
    """The value of a claim of the token that a call shows, as text."""

    def found(call: Call) -> str:
        value = claim_at(call.claims, name) if call.claims is not None else MISSING
        return "" if value is MISSING or value is None else str(value)

    return found


def _user(call: Call) -> str:
    return call.user


def _model(call: Call) -> str:
    return call.prompt.model if call.prompt is not None else ""


def _subscription(call: Call) -> str:
    return call.grant.subscription if call.grant is not None else ""


def _path(call: Call) -> str:
    return call.path.decode("latin-1")


def _operation(call: Call) -> str:
    operation = call.operation
    assert operation is not None
    return f"{operation.api} {operation.version} {operation.name}"


KEYS: dict[str, Key] = {
    "caller": by_caller,
    "credential": _by_credential,
    "user": _or_address(_user),
    "address": _by_address,
    "model": _or_address(_model),
    "subscription": _or_address(_subscription),
    "path": _path,
    "operation": _operation,
    "everyone": lambda call: "",
}


def key_of(by: str, name: str = "") -> Key:
    """What a call counts for, by a property of that name."""
    match by:
        case "header":
            return _or_address(header_value(header_name(name).encode()))
        case "query":
            return _or_address(_query(name.encode()))
        case "claim":
            return _or_address(claim_value(name))
        case _:
            return KEYS[by]


def _missing(by: str, key: Key, call: Call) -> bool:
    """Whether a call lacks what it is counted by, so that its address counts."""
    match by:
        case "address" | "everyone" | "path" | "operation":
            return False
        case "caller":
            return call.caller is None
        case "credential":
            return call.caller is None or not call.caller.credential
        case _:
            return not key(call).startswith("=")


def counted_for(by: str, name: str = "") -> Callable[[Call], list[tuple[str, str]]]:
    """What a trace tells of whom a call is counted for."""
    key = key_of(by, name)

    def reads(call: Call) -> list[tuple[str, str]]:
        found, caller = key(call), call.caller
        if _missing(by, key, call):
            named = f" {name}" if name else ""
            return [("counted for", f"{found}, the address: the call has no {by}{named}")]
        if caller is not None and found == caller.application_id:
            found = f"{caller.organization}/{caller.application}"
        return [("counted for", found.removeprefix("=") or "everyone")]

    return reads


def check_named(by: str, name: str) -> None:
    """That what is counted by a name has one, and nothing else has. Raises ValueError, in words."""
    if by in NAMED:
        if not name.strip():
            raise ValueError(f"counting by {by} needs its name; fill in 'Name to count by'")
        if by == "header":
            header_name(name)
    elif name:
        raise ValueError(f"counting by {by} takes no name; empty 'Name to count by', or choose header, query or claim")
