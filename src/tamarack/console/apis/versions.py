"""A version of the draft, found by its address and put back changed."""

from flask import abort

from tamarack.console.page import draft
from tamarack.core.configuration.model import Api, Version


def the_version(api: str, version: str) -> tuple[Api, Version]:
    """A version of the draft, or 404."""
    found = draft().api(api)
    inside = found.version(version) if found is not None else None
    if found is None or inside is None:
        abort(404, f"The draft holds no API {api} with a version {version}.")
    return found, inside


def replace_version(api: Api, version: Version) -> Api:
    """The API with one version replaced by another state of it."""
    versions = tuple(version if one.version == version.version else one for one in api.versions)
    return api.model_copy(update={"versions": versions})
