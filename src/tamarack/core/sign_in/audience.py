"""For whom tokens are made, how, and for how long: what a configuration says of it, worked out once for a rollout."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping
from dataclasses import dataclass

from tamarack.core.configuration.effective import held
from tamarack.core.configuration.model import Api, Configuration
from tamarack.core.policies import kind_of
from tamarack.core.sign_in.protected import resource_of
from tamarack.core.sign_in.scopes import STANDARD


@dataclass(frozen=True, slots=True)
class Audience:
    """What one environment's configuration says of tokens."""

    resources: Mapping[str, str]
    """The API of each resource."""
    scopes: Mapping[str, str]
    """The API of each scope."""
    words: Mapping[str, str]
    """What each scope lets an application do."""
    opaque: frozenset[str]
    """The APIs that take opaque tokens alone."""
    minutes: Mapping[tuple[str, str], int]
    """How long access tokens last by product and plan, where the plan says."""
    products: Mapping[str, frozenset[str]]
    """The APIs of each product."""

    def apis_of(self, resources: Collection[str], scopes: Iterable[str]) -> frozenset[str]:
        """The APIs that a token is for: those of its resources, else those whose scopes it holds."""
        if resources:
            return frozenset(self.resources[one] for one in resources if one in self.resources)
        return frozenset(self.scopes[one] for one in scopes if one in self.scopes)

    def scopes_for(self, resources: Collection[str], scopes: Iterable[str]) -> list[str]:
        """The scopes that are good for anything at some resources, and those of every directory (RFC 8707, 2.2)."""
        apis = self.apis_of(resources, ())
        return [one for one in scopes if not resources or one in STANDARD or self.scopes.get(one) in apis]

    def is_opaque(self, resources: Collection[str], scopes: Iterable[str]) -> bool:
        """Whether a token says nothing to whoever reads it."""
        return bool(self.apis_of(resources, scopes) & self.opaque)

    def minutes_of(self, plans: Iterable[tuple[str, str]], resources: Collection[str], scopes: Iterable[str]) -> int:
        """How long an access token lasts by its application's plans, the shortest; 0 where none of them says.

        Plans of products that the token is of no use for say nothing, where it is known what it is for.
        """
        apis = self.apis_of(resources, scopes)
        said = [
            self.minutes[plan]
            for plan in plans
            if plan in self.minutes and (not apis or apis & self.products.get(plan[0], frozenset()))
        ]
        return min(said, default=0)


def audience_in(configuration: Configuration, gateway: str) -> Audience:
    """What an environment's configuration says, and its gateway's address."""
    apis = configuration.apis
    return Audience(
        resources={resource_of(gateway, version.base_path): api.name for api in apis for version in api.versions},
        scopes={scope.name: api.name for api in apis for scope in api.scopes},
        words={scope.name: f"{api.title}: {scope.words}" for api in apis for scope in api.scopes},
        opaque=frozenset(api.name for api in apis if _is_opaque(configuration, api)),
        minutes={
            (product.name, plan.name): plan.access_minutes
            for product in configuration.products
            for plan in product.plans
            if plan.access_minutes
        },
        products={product.name: frozenset(product.apis) for product in configuration.products},
    )


def _is_opaque(configuration: Configuration, api: Api) -> bool:
    return any(
        row.holds and kind_of(row.policy).opaque(row.policy)
        for version in api.versions
        for operation in (None, *version.operations)
        for row in held(configuration, api, version, operation)
    )
