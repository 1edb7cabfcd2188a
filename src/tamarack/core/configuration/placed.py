"""Where the policies of a kind are placed, in words."""

from collections.abc import Iterator

from tamarack.core.configuration.model import Configuration
from tamarack.core.policies import AnyPolicy


def placed_policies(configuration: Configuration) -> Iterator[tuple[str, AnyPolicy]]:
    """Every policy with its placement: `everywhere`, `Sailings 2`, `Sailings 2, get /sailings`."""
    for policy in configuration.everywhere:
        yield "everywhere", policy
    for api in configuration.apis:
        for version in api.versions:
            called = f"{api.title} {version.version}"
            for policy in version.policies:
                yield called, policy
            for operation in version.places:
                for policy in operation.policies:
                    yield f"{called}, {operation.call}", policy


def placements_of(configuration: Configuration, kind: str) -> list[str]:
    """Where policies of a kind stand."""
    return [where for where, policy in placed_policies(configuration) if policy.kind == kind]
