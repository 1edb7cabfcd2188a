"""Callers as a node holds them: the feed's items folded into what one lookup per call needs."""

from typing import Any

from tamarack.core.http.addresses import Networks
from tamarack.core.http.origins import Origins
from tamarack.core.identity.caller import Caller, Grant
from tamarack.core.identity.credentials import CredentialKind, keyed_hash

KINDS = ("application", "credential", "subscription")


class _Application:
    __slots__ = ("credentials", "grants", "itself", "subscriptions")

    def __init__(self, id: str) -> None:
        self.credentials: dict[str, bytes] = {}
        self.subscriptions: dict[str, dict[str, Any]] = {}
        self.grants: dict[str, Grant] = {}
        self.itself = Caller(
            application="", application_id=id, organization="", credential="", paused=True, grants=self.grants
        )


class KeyedFinder:
    """A `core.identity.directory.Finder`. A keyed hash is looked up, so timing tells nothing of the credential."""

    __slots__ = ("_keyed", "_known")

    def __init__(self, keyed: Any, known: dict[bytes, Caller]) -> None:
        self._keyed = keyed
        self._known = known

    def digest(self, shown: bytes) -> bytes:
        """See `Finder.digest`."""
        own = self._keyed.copy()  # cheaper than to make it anew
        own.update(shown)
        digest: bytes = own.digest()
        return digest

    def owner(self, digest: bytes) -> Caller | None:
        """See `Finder.owner`."""
        return self._known.get(digest)

    def __call__(self, shown: bytes) -> Caller | None:
        return self._known.get(self.digest(shown))


class CallerDirectory:
    """A `core.identity.directory.Directory` that follows the feed.

    Items may come in any order and more than once. What belongs to another environment is left out.
    """

    def __init__(self, pepper: bytes, environment: str) -> None:
        self._pepper = pepper
        self._environment = environment
        self._by_digest: dict[bytes, Caller] = {}
        self._applications: dict[str, _Application] = {}
        self._named: dict[str, _Application] = {}
        self._bodies: dict[str, dict[str, Any]] = {}
        self._owner: dict[tuple[str, str], str] = {}
        self._products: dict[str, tuple[str, ...]] = {}
        self._finders: dict[str, KeyedFinder] = {}

    def __len__(self) -> int:
        return len(self._by_digest)

    def finder(self, kind: CredentialKind) -> KeyedFinder:
        """How to find callers by a kind of credential."""
        found = self._finders.get(kind)
        if found is None:
            found = self._finders[kind] = KeyedFinder(keyed_hash(self._pepper, kind), self._by_digest)
        return found

    def find(self, shown: bytes) -> Caller | None:
        """The caller that owns an API key."""
        return self.finder("api-key")(shown)

    def application(self, name: str) -> Caller | None:
        """An application itself, by its id or as `organization/application`, without any credential of its own."""
        found = self._applications.get(name) or self._named.get(name)
        return found.itself if found is not None and found.itself.application else None

    def set_products(self, products: dict[str, tuple[str, ...]]) -> None:
        """Take up which APIs each product packages, from the snapshot."""
        self._products = products
        for id in self._applications:
            self._settle(id)

    def apply(self, kind: str, key: str, body: dict[str, Any] | None) -> None:
        """Take up one item of the feed; no body means that it is gone."""
        if kind not in KINDS:
            return
        if body is not None and body.get("environment", self._environment) != self._environment:
            body = None
        if kind == "application":
            if body is None:
                self._bodies.pop(key, None)
            else:
                self._bodies[key] = body
                self._application(key)
            if key in self._applications:
                self._settle(key)
            return
        owner = body["application"] if body is not None else self._owner.get((kind, key))
        if owner is None:
            return
        self._owner[kind, key] = owner
        application = self._application(owner)
        if kind == "subscription":
            if body is None:
                application.subscriptions.pop(key, None)
            else:
                application.subscriptions[key] = body
        else:
            old = application.credentials.pop(key, None)
            if old is not None:
                self._by_digest.pop(old, None)
            if body is not None:
                digest = application.credentials[key] = bytes.fromhex(body["digest"])
                self._by_digest[digest] = Caller(
                    application="",
                    application_id=owner,
                    organization="",
                    credential=key,
                    expires_at=body.get("expires_at") or 0.0,
                    revoked=bool(body.get("revoked")),
                    grants=application.grants,
                    networks=Networks(body["addresses"]) if body.get("addresses") else None,
                    sites=Origins(body["sites"]) if body.get("sites") else None,
                )
        self._settle(owner)

    def _application(self, id: str) -> _Application:
        application = self._applications.get(id)
        if application is None:
            application = self._applications[id] = _Application(id)
        return application

    def _settle(self, id: str) -> None:
        """Bring an application's callers in line with what is known of it."""
        application = self._applications[id]
        body = self._bodies.get(id)
        grants: dict[str, Grant] = {}
        for key, subscription in sorted(application.subscriptions.items()):
            if subscription["state"] not in ("active", "paused"):
                continue
            paused = subscription["state"] == "paused"
            product = subscription["product"]
            for api in self._products.get(product, ()):
                if api not in grants or grants[api].paused:
                    grants[api] = Grant(
                        key,
                        f"{product}/{subscription['plan']}",
                        paused,
                        subscription.get("since", 0.0),
                        subscription.get("quota_round", 0),
                        (subscription.get("extra_start", 0), subscription.get("extra_calls", 0)),
                    )
        application.grants.clear()
        application.grants.update(grants)
        before = f"{application.itself.organization}/{application.itself.application}"
        if self._named.get(before) is application:
            del self._named[before]
        groups = frozenset(body.get("groups") or ()) if body else frozenset()
        for caller in (application.itself, *(self._by_digest[d] for d in application.credentials.values())):
            caller.paused = body is None or bool(body.get("paused"))
            caller.application = body["name"] if body else ""
            caller.organization = body["organization"] if body else ""
            caller.groups = groups
        if body is not None:
            self._named[f"{body['organization']}/{body['name']}"] = application
