"""OpenAPI 2.0 documents as 3.0 documents, as far as publishing and reading need."""

import re
from typing import Any

_METHODS = ("get", "put", "post", "delete", "options", "head", "patch")
_SCHEMA_FIELDS = (
    *("type", "format", "items", "default", "enum", "pattern", "multipleOf", "uniqueItems"),
    *("maximum", "exclusiveMaximum", "minimum", "exclusiveMinimum"),
    *("maxLength", "minLength", "maxItems", "minItems"),
)
_FLOWS = {
    "implicit": "implicit",
    "password": "password",
    "application": "clientCredentials",
    "accessCode": "authorizationCode",
}


def to_openapi_3(document: dict[str, Any]) -> dict[str, Any]:
    """A 3.0 document that says the same; `document` is left as it is."""
    document = _refs(document)
    consumes = _list(document.get("consumes")) or ["application/json"]
    produces = _list(document.get("produces")) or ["application/json"]
    shared = _dict(document.get("parameters"))
    components: dict[str, Any] = {
        "schemas": _dict(document.get("definitions")),
        "parameters": {n: _parameter(p) for n, p in shared.items() if _in(p) not in ("body", "formData")},
        "requestBodies": {n: _body([p], consumes) for n, p in shared.items() if _in(p) in ("body", "formData")},
        "responses": {n: _response(r, produces) for n, r in _dict(document.get("responses")).items()},
        "securitySchemes": {n: _security_scheme(s) for n, s in _dict(document.get("securityDefinitions")).items()},
    }
    paths = {}
    for path, item in _dict(document.get("paths")).items():
        if isinstance(item, dict):
            paths[path] = _path_item(item, shared, consumes, produces)
    converted: dict[str, Any] = {
        "openapi": "3.0.3",
        "info": document.get("info", {}),
        "servers": _servers(document),
        "paths": paths,
        "components": {name: part for name, part in components.items() if part},
    }
    for kept in ("tags", "security", "externalDocs"):
        if kept in document:
            converted[kept] = document[kept]
    return converted


def _dict(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}


def _list(value: Any) -> list[Any]:
    return value if isinstance(value, list) else []


def _in(parameter: Any) -> str:
    return str(_dict(parameter).get("in", ""))


def _refs(value: Any) -> Any:
    if isinstance(value, dict):
        return {key: _ref(inner) if key == "$ref" else _refs(inner) for key, inner in value.items()}
    if isinstance(value, list):
        return [_refs(item) for item in value]
    return value


def _ref(reference: Any) -> Any:
    if not isinstance(reference, str):
        return reference
    places = {"definitions": "schemas", "parameters": "parameters", "responses": "responses"}
    return re.sub(r"^#/(definitions|parameters|responses)/", lambda m: f"#/components/{places[m[1]]}/", reference)


def _servers(document: dict[str, Any]) -> list[dict[str, str]]:
    host, base = document.get("host", ""), document.get("basePath", "") or "/"
    if not host:
        return [{"url": base}]
    return [{"url": f"{scheme}://{host}{base}"} for scheme in _list(document.get("schemes")) or ["https"]]


def _path_item(
    item: dict[str, Any], shared: dict[str, Any], consumes: list[str], produces: list[str]
) -> dict[str, Any]:
    common, common_body = _split(_list(item.get("parameters")), shared)
    result: dict[str, Any] = {"parameters": common} if common else {}
    for method in _METHODS:
        operation = item.get(method)
        if not isinstance(operation, dict):
            continue
        own, body = _split(_list(operation.get("parameters")), shared)
        kept = {k: v for k, v in operation.items() if k not in ("parameters", "consumes", "produces", "schemes")}
        if own:
            kept["parameters"] = own
        if body or common_body:
            kept["requestBody"] = _body(body or common_body, _list(operation.get("consumes")) or consumes)
        kept["responses"] = {
            str(status): _response(response, _list(operation.get("produces")) or produces)
            for status, response in _dict(operation.get("responses")).items()
        }
        result[method] = kept
    return result


def _split(parameters: list[Any], shared: dict[str, Any]) -> tuple[list[Any], list[Any]]:
    """Parameters that stay parameters, and those that make up the body."""
    stay, body = [], []
    for parameter in parameters:
        name = str(_dict(parameter).get("$ref", "")).rpartition("/")[2]
        meant = shared.get(name, parameter) if name else parameter
        if _in(meant) in ("body", "formData"):
            body.append(meant)
        else:
            stay.append(parameter if name else _parameter(parameter))
    return stay, body


def _parameter(parameter: Any) -> Any:
    source = _dict(parameter)
    result = {k: v for k, v in source.items() if k not in _SCHEMA_FIELDS and k not in ("collectionFormat",)}
    schema = {k: source[k] for k in _SCHEMA_FIELDS if k in source}
    result["schema"] = schema or {"type": "string"}
    if source.get("collectionFormat") == "multi":
        result |= {"style": "form", "explode": True}
    return result


def _body(parameters: list[Any], consumes: list[str]) -> dict[str, Any]:
    whole = next((p for p in parameters if _in(p) == "body"), None)
    if whole is not None:
        content: dict[str, Any] = {media: {"schema": whole.get("schema", {})} for media in consumes}
        return {
            "content": content,
            "required": bool(whole.get("required")),
            "description": whole.get("description", ""),
        }
    properties = {}
    for parameter in parameters:
        schema = {k: v for k, v in parameter.items() if k in _SCHEMA_FIELDS}
        if schema.get("type") == "file":
            schema = {"type": "string", "format": "binary"}
        properties[str(parameter.get("name", ""))] = schema
    required = [str(p["name"]) for p in parameters if p.get("required") and "name" in p]
    schema = {"type": "object", "properties": properties} | ({"required": required} if required else {})
    forms = [media for media in consumes if "form" in media] or ["application/x-www-form-urlencoded"]
    return {"content": {media: {"schema": schema} for media in forms}}


def _response(response: Any, produces: list[str]) -> Any:
    source = _dict(response)
    if "$ref" in source:
        return source
    result: dict[str, Any] = {"description": source.get("description", "")}
    examples = _dict(source.get("examples"))
    if "schema" in source or examples:
        content = {}
        for media in dict.fromkeys([*produces, *examples]):
            content[media] = {"schema": source.get("schema", {})}
            if media in examples:
                content[media]["example"] = examples[media]
        result["content"] = content
    if isinstance(source.get("headers"), dict):
        result["headers"] = {name: _parameter(header) for name, header in source["headers"].items()}
    return result


def _security_scheme(scheme: Any) -> Any:
    source = _dict(scheme)
    if source.get("type") == "basic":
        return {"type": "http", "scheme": "basic"}
    if source.get("type") == "oauth2":
        fields = {k: source[k] for k in ("authorizationUrl", "tokenUrl") if k in source}
        flow = fields | {"scopes": _dict(source.get("scopes"))}
        return {"type": "oauth2", "flows": {_FLOWS.get(str(source.get("flow")), "implicit"): flow}}
    return source
