"""A document as developers are given it: only what is published, at the gateway's addresses, with its credentials.

Servers, security and operations are those of Tamarack; all else is as its author wrote it (OpenAPI 3.0 and 3.1).
"""

from collections.abc import Iterable, Mapping, Sequence
from typing import Any

from tamarack.core.graphql.described import SCHEMA
from tamarack.core.graphql.views.rest_view import VIEW
from tamarack.core.openapi.read import METHODS
from tamarack.core.openapi.references import path_item
from tamarack.core.trying.examples import ExampleCall

SCHEME = "gateway"


def published(
    document: Mapping[str, Any],
    title: str,
    version: str,
    servers: Sequence[tuple[str, str]],
    operations: Mapping[str, Mapping[str, Any] | None],
) -> dict[str, Any]:
    """The document of a version.

    `servers` are addresses with what each is. `operations` are the calls that are published, each with the security
    scheme that it asks for, None where it is open to anyone. Calls that the document does not describe are named bare.
    """
    made = {"openapi": "3.0.3", **{key: value for key, value in document.items() if key != "swagger"}}
    info = made.get("info")
    made["info"] = {**(info if isinstance(info, dict) else {}), "title": title, "version": version}
    made["servers"] = [{"url": url, "description": words} for url, words in servers]
    made["paths"] = _paths(document, operations)
    schemes: dict[str, Any] = {}
    for scheme in operations.values():
        if scheme is not None and dict(scheme) not in schemes.values():
            schemes[SCHEME if not schemes else f"{SCHEME}-{len(schemes) + 1}"] = dict(scheme)
    components = made.get("components")
    components = dict(components) if isinstance(components, dict) else {}
    components.pop("securitySchemes", None)
    if schemes:
        components["securitySchemes"] = schemes
    for name in ("callbacks", "pathItems"):
        if name in components:
            components[name] = _without_security(components[name])
    if components:
        made["components"] = components
    if "webhooks" in made:
        made["webhooks"] = _without_security(made["webhooks"])
    made.pop("security", None)
    made.pop(SCHEMA, None)  # which of it is open differs from reader to reader
    for call, scheme in operations.items():
        name = next((name for name, one in schemes.items() if scheme is not None and one == dict(scheme)), "")
        method, _, path = call.partition(" ")
        if path in made["paths"] and method in made["paths"][path]:
            made["paths"][path][method]["security"] = [{name: []}] if name else []
    return made


def _without_security(value: Any) -> Any:
    """Calls that the backend makes itself, without the schemes of its own that they name: the document has none."""
    if isinstance(value, list):
        return [_without_security(one) for one in value]
    if not isinstance(value, dict):
        return value
    is_operation = "responses" in value or "requestBody" in value
    return {key: _without_security(one) for key, one in value.items() if key != "security" or not is_operation}


def _paths(document: Mapping[str, Any], calls: Iterable[str]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    described = document.get("paths")
    described = described if isinstance(described, dict) else {}
    for call in calls:
        method, _, path = call.partition(" ")
        if method not in METHODS or path.endswith("/*"):
            continue  # no single operation, and OpenAPI has no way to say it
        item = path_item(dict(document), described.get(path))
        here = found.setdefault(path, {key: value for key, value in item.items() if key not in (*METHODS, "servers")})
        bare: dict[str, Any] = {"responses": {"default": {"description": "The backend's answer"}}}
        own = item.get(method)
        here[method] = {k: v for k, v in own.items() if k not in ("servers", VIEW)} if isinstance(own, dict) else bare
        if "callbacks" in here[method]:
            here[method]["callbacks"] = _without_security(here[method]["callbacks"])
    return found


def security_scheme(shown: ExampleCall) -> dict[str, Any]:
    """The security scheme (OpenAPI 3.1, 4.8.27) of a credential as an example call shows it."""
    if shown.basic is not None:
        return {"type": "http", "scheme": "basic"}
    if shown.certificate:
        return {"type": "mutualTLS"}
    if shown.url:
        return {"type": "apiKey", "in": "query", "name": shown.url.partition("=")[0]}
    name, value = next(iter(shown.headers.items()))
    if name.lower() == "authorization" and value.startswith("Bearer "):
        return {"type": "http", "scheme": "bearer"}
    return {"type": "apiKey", "in": "header", "name": name}
