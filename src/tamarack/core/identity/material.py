"""What a node needs besides its snapshot and its callers: secrets, key sets, signing keys, what to trace.

It comes by the feed, so that a rotated secret or a new key works within a second and without a rollout.
Compiled policies keep the holders; a change bumps the holder's generation.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from tamarack.core.identity.jose import VerifyingKey, keys_of_set
from tamarack.core.sign_in.opaque_tokens import OpaqueTokens

KINDS = ("secret", "key-set", "signing-key", "token-key", "ended-grant", "tracing")

Unseal = Callable[[str, str], bytes]
"""Opens a sealed value, given what it is about; raises where it cannot."""


class SecretHolder:
    """A secret's values, the newest first; earlier ones while their overlap lasts. Empty where it is not set."""

    __slots__ = ("_values", "generation", "name")

    def __init__(self, name: str) -> None:
        self.name = name
        self.generation = 0
        self._values: tuple[tuple[bytes, float], ...] = ()

    def put(self, values: tuple[tuple[bytes, float], ...]) -> None:
        """Values, each with the time until which it holds (0: for good)."""
        self._values = values
        self.generation += 1

    @property
    def value(self) -> bytes:
        """The newest value, to sign in with; empty where there is none."""
        return self._values[0][0] if self._values else b""

    def accepted(self, now: float) -> list[bytes]:
        """Every value that is accepted at `now`."""
        return [value for value, until in self._values if not until or until > now]


class KeySetHolder:
    """The keys to verify with, by where they come from."""

    __slots__ = ("fetched_at", "generation", "keys", "listeners", "url")

    def __init__(self, url: str = "") -> None:
        self.url = url
        self.keys: tuple[VerifyingKey, ...] = ()
        self.generation = 0
        self.fetched_at = 0.0
        self.listeners: list[Callable[[], None]] = []
        """Called whenever the set was fetched."""

    def put(self, keys: tuple[VerifyingKey, ...], fetched_at: float = 0.0) -> None:
        """Take up what was fetched. Its generation changes only where the keys do."""
        self.fetched_at = fetched_at
        if [_named(key) for key in keys] != [_named(key) for key in self.keys]:
            self.keys = keys
            self.generation += 1
        for listener in self.listeners:
            listener()


def _named(key: VerifyingKey) -> tuple[str, str, str]:
    return key.kid, key.alg, str(sorted(key.key.as_dict(private=False).items()))


class Tracing:
    """Which live calls are traced: a share of all, and all of some applications until a time."""

    __slots__ = ("on", "share", "watched")

    def __init__(self) -> None:
        self.on = False
        self.share = 0.0
        self.watched: dict[str, float] = {}

    def put(self, share: float, watched: dict[str, float]) -> None:
        """Take up what is asked for. While it is not `on`, a call's way has nothing to do with it."""
        self.share, self.watched = share, watched
        self.on = share > 0 or bool(watched)

    def active(self, now: float) -> bool:
        """Whether any call may have to be traced at `now`."""
        return self.share > 0 or any(until > now for until in self.watched.values())


class Material:
    """All of it, for one environment."""

    def __init__(self, environment: str, unseal: Unseal) -> None:
        self._environment = environment
        self._unseal = unseal
        self._secrets: dict[str, SecretHolder] = {}
        self._key_sets: dict[str, KeySetHolder] = {}
        self._signing: dict[str, dict[str, Any]] = {}
        self.signing = KeySetHolder()
        self._token_keys: dict[str, dict[str, Any]] = {}
        self.token_keys = KeySetHolder()
        """What the sign-in service signs its tokens with."""
        self.ended_grants: dict[str, float] = {}
        """Grants whose tokens are refused, each with when the last of them is over by itself."""
        self.opaque = OpaqueTokens()
        self.tracing = Tracing()

    def secret(self, name: str) -> SecretHolder:
        """The holder of a secret; one that is not set yet is empty and fills when it is."""
        return self._secrets.setdefault(name, SecretHolder(name))

    def key_set(self, url: str) -> KeySetHolder:
        """The holder of a key set's keys."""
        return self._key_sets.setdefault(url, KeySetHolder(url))

    def apply(self, kind: str, key: str, body: dict[str, Any] | None) -> None:
        """Take up one item of the feed; no body means that it is gone."""
        match kind:
            case "secret":
                self.secret(key).put(self._opened(key, body or {}))
            case "key-set":
                try:
                    keys = keys_of_set(body["jwks"]) if body is not None else ()
                except ValueError:
                    return
                self.key_set(key).put(keys, float((body or {}).get("fetched_at") or 0))
            case "signing-key":
                _hold(self._signing, self.signing, key, body)
            case "token-key":
                _hold(self._token_keys, self.token_keys, key, body)
            case "ended-grant":
                if body is None:
                    self.ended_grants.pop(key, None)
                else:
                    at = float(body.get("at") or 0)
                    for gone in [one for one, until in self.ended_grants.items() if until < at]:
                        del self.ended_grants[gone]  # its last token is over by itself
                    self.ended_grants[key] = float(body["until"])
            case "tracing" if key == self._environment:
                asked = body or {}
                self.tracing.put(float(asked.get("share") or 0), dict(asked.get("watched") or {}))

    def _opened(self, name: str, body: dict[str, Any]) -> tuple[tuple[bytes, float], ...]:
        values = body.get("values") or {}
        own = values.get(self._environment) or values.get("") or []
        return tuple((self._unseal(one["sealed"], f"secret {name}"), float(one.get("until") or 0)) for one in own)


def _hold(held: dict[str, dict[str, Any]], keys: KeySetHolder, name: str, body: dict[str, Any] | None) -> None:
    """Take up a key of ours, or that it is gone."""
    if body is None:
        held.pop(name, None)
    else:
        held[name] = body["jwk"] | {"kid": name}
    keys.put(keys_of_set({"keys": list(held.values())}))


def nothing_sealed(sealed: str, about: str) -> bytes:
    """An `Unseal` for where secrets are not needed: every secret is empty."""
    return b""
