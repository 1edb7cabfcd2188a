"""One version brought from a configuration into another, which stays as it is otherwise."""

from tamarack.core.configuration.model import Api, Configuration, Version
from tamarack.core.errors import CoreError
from tamarack.core.policies.written import WrittenPolicy


class NotThere(CoreError):
    """What is to be brought is not in the configuration that it would come from."""


def versions_to_bring(source: Configuration, target: Configuration) -> list[tuple[Api, Version]]:
    """The versions of a source that the target does not have, or has otherwise."""
    found = []
    for api in source.apis:
        there = target.api(api.name)
        for version in api.versions:
            if there is None or there.version(version.version) != version:
                found.append((api, version))
    return found


def with_version(source: Configuration, target: Configuration, named: str) -> Configuration:
    """The target with one version, named like `sailings/2`, as the source has it.

    With it come what it cannot be without and the target does not have: its API, its backend, and the written kinds
    that it uses. What the target has of these stays as it is there. Raises `NotThere`.
    """
    name, _, label = named.partition("/")
    api = source.api(name)
    version = api.version(label) if api is not None else None
    if api is None or version is None:
        raise NotThere(f"there is no version {named[:100]!r} to bring")
    there = target.api(name)
    if there is None:
        brought = api.model_copy(update={"versions": (version,)})
        apis = (*target.apis, brought)
    else:
        known = there.version(label) is not None
        versions = tuple(version if one.version == label else one for one in there.versions)
        brought = there.model_copy(update={"versions": versions if known else (*versions, version)})
        apis = tuple(brought if one.name == name else one for one in target.apis)
    backend = source.backend(version.backend)
    missing = backend is not None and target.backend(backend.name) is None
    wanted = {policy.kind for policy in _policies(version) if isinstance(policy, WrittenPolicy)}
    kinds = tuple(one for one in source.kinds if one.kind in wanted and target.kind(one.name) is None)
    changed = target.model_copy(
        update={
            "apis": apis,
            "backends": (*target.backends, backend) if missing else target.backends,
            "kinds": (*target.kinds, *kinds),
        }
    )
    return Configuration.model_validate(changed.model_dump(mode="json", exclude_defaults=True))


def _policies(version: Version) -> list[object]:
    own = [*version.policies]
    for one in (*version.operations, *version.fields):
        own += one.policies
    return list(own)
