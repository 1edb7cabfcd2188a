"""OpenAPI 2.0 documents as 3.0 documents that say the same; extensions (`x-`) stay where they were."""

from collections.abc import Iterable
from copy import deepcopy
from typing import Any
from urllib.parse import unquote

from tamarack.core.json_pointer import at_pointer
from tamarack.core.openapi.plain import dict_of, list_of
from tamarack.core.openapi.references import path_item, places, target

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
_MOVED = {"definitions": "schemas", "parameters": "parameters", "responses": "responses"}
_STYLES = {"csv": ("form", False), "ssv": ("spaceDelimited", False), "pipes": ("pipeDelimited", False),
           "multi": ("form", True)}  # fmt: skip
"""How lists in a query are written: 2.0's `collectionFormat` as 3.0's style and whether each item stands alone."""
_IN_BODY = ("body", "formData")


def to_openapi_3(document: dict[str, Any]) -> dict[str, Any]:
    """A 3.0 document that says the same; `document` is left as it is."""
    document = _prepared(document)
    consumes = list_of(document.get("consumes")) or ["application/json"]
    produces = list_of(document.get("produces")) or ["application/json"]
    shared = dict_of(document.get("parameters"))
    components: dict[str, Any] = {
        "schemas": dict_of(document.get("definitions")),
        "parameters": {n: _parameter(p) for n, p in shared.items() if _in(p) not in _IN_BODY},
        "requestBodies": {n: _body([p], consumes) for n, p in shared.items() if _in(p) in _IN_BODY},
        "responses": {n: _response(r, produces) for n, r in dict_of(document.get("responses")).items()},
        "securitySchemes": {n: _security_scheme(s) for n, s in dict_of(document.get("securityDefinitions")).items()},
    }
    paths: dict[str, Any] = {}
    for path, item in dict_of(document.get("paths")).items():
        if path.startswith("x-"):
            paths[path] = item
        elif isinstance(item, dict):
            paths[path] = _path_item(path_item(document, item), shared, consumes, produces)
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
    return converted | _extensions(document)


def _prepared(document: dict[str, Any]) -> dict[str, Any]:
    """A copy whose references lead where things will stand, and whose schemas are written as in 3.0."""
    document = deepcopy(document)
    for _, holder in list(places(document, "2.0")):
        if isinstance(holder.get("discriminator"), str):
            holder["discriminator"] = {"propertyName": holder["discriminator"]}
        if holder.get("x-nullable") is True:
            holder["nullable"] = True
        if holder.get("type") == "file" and "in" not in holder:
            holder |= {"type": "string", "format": "binary"}
    original = document
    for path, holder in list(places(document, "2.0")):
        reference = holder.get("$ref")
        if not isinstance(reference, str) or (len(path) == 2 and path[0] == "paths"):
            continue
        parts = reference.split("/")
        if len(parts) == 3 and parts[0] == "#" and parts[1] in _MOVED:
            holder["$ref"] = f"#/components/{_MOVED[parts[1]]}/{parts[2]}"
        elif parts[:2] == ["#", "definitions"]:
            holder["$ref"] = "#/components/schemas/" + "/".join(parts[2:])
        else:  # into what has another shape in 3.0: said in place
            meant = target(original, reference)
            del holder["$ref"]
            if isinstance(meant, dict) and not _holds(meant, holder):
                holder |= deepcopy({key: value for key, value in meant.items() if key not in holder})
    return document


def _holds(whole: Any, part: Any) -> bool:
    """Whether a value holds another, or is it: what cannot be said in place."""
    inner: Iterable[Any] = whole.values() if isinstance(whole, dict) else whole if isinstance(whole, list) else ()
    return whole is part or any(_holds(one, part) for one in inner)


def _in(parameter: Any) -> str:
    return str(dict_of(parameter).get("in", ""))


def _extensions(holder: dict[str, Any]) -> dict[str, Any]:
    return {key: value for key, value in holder.items() if key.startswith("x-")}


def _servers(document: dict[str, Any]) -> list[dict[str, str]]:
    host, base = document.get("host", ""), document.get("basePath", "") or "/"
    if not host:
        return [{"url": base}]
    return [{"url": f"{scheme}://{host}{base}"} for scheme in list_of(document.get("schemes")) or ["https"]]


def _path_item(
    item: dict[str, Any], shared: dict[str, Any], consumes: list[str], produces: list[str]
) -> dict[str, Any]:
    common, common_body = _split(list_of(item.get("parameters")), shared)
    result: dict[str, Any] = _extensions(item) | ({"parameters": common} if common else {})
    for method in _METHODS:
        operation = item.get(method)
        if not isinstance(operation, dict):
            continue
        own, own_body = _split(list_of(operation.get("parameters")), shared)
        kept = {k: v for k, v in operation.items() if k not in ("parameters", "consumes", "produces", "schemes")}
        if own:
            kept["parameters"] = own
        body = _body_of(common_body, own_body)
        if body:
            kept["requestBody"] = _body(body, list_of(operation.get("consumes")) or consumes)
        if isinstance(operation.get("responses"), dict):
            kept["responses"] = {
                str(status): response if str(status).startswith("x-")
                else _response(response, list_of(operation.get("produces")) or produces)
                for status, response in operation["responses"].items()
            }  # fmt: skip
        result[method] = kept
    return result


def _split(parameters: list[Any], shared: dict[str, Any]) -> tuple[list[Any], list[dict[str, Any]]]:
    """Parameters that stay parameters, and those that make up the body."""
    stay: list[Any] = []
    body: list[dict[str, Any]] = []
    for parameter in parameters:
        reference = dict_of(parameter).get("$ref")
        meant = parameter
        if isinstance(reference, str):
            name = reference.removeprefix("#/components/parameters/")
            meant = at_pointer({"shared": shared}, "/shared/" + unquote(name))
        if _in(meant) in _IN_BODY:
            body.append(meant)
        else:
            stay.append(parameter if isinstance(reference, str) else _parameter(parameter))
    return stay, body


def _body_of(common: list[dict[str, Any]], own: list[dict[str, Any]]) -> list[dict[str, Any]]:
    """A path's and an operation's together: a whole body of the operation's wins, and so does its field of a name."""
    if any(_in(one) == "body" for one in own):
        return own
    named = {str(one.get("name")): one for one in [*common, *own]}
    return list(named.values())


def _schema_of(source: dict[str, Any]) -> dict[str, Any]:
    return {key: source[key] for key in _SCHEMA_FIELDS if key in source}


def _parameter(parameter: Any) -> Any:
    source = dict_of(parameter)
    result = {k: v for k, v in source.items() if k not in _SCHEMA_FIELDS and k != "collectionFormat"}
    result["schema"] = _schema_of(source) or {"type": "string"}
    if source.get("type") == "array":
        named = source.get("collectionFormat")
        if named == "tsv":
            result["x-collectionFormat"] = "tsv"  # 3.0 has no style that parts by tabs
        elif source.get("in") == "query":
            style, explode = _STYLES.get(str(named), ("form", False))
            result |= {"style": style, "explode": explode}
    if "x-example" in source and "example" not in result:
        result["example"] = source["x-example"]
    return result


def _body(parameters: list[dict[str, Any]], consumes: list[str]) -> dict[str, Any]:
    whole = next((p for p in parameters if _in(p) == "body"), None)
    if whole is not None:
        content: dict[str, Any] = {str(media): {"schema": whole.get("schema", {})} for media in consumes}
        described = {"description": whole["description"]} if whole.get("description") else {}
        named = {"x-body-name": whole["name"]} if whole.get("name") else {}
        return {**described, "content": content, "required": whole.get("required") is True,
                **named, **_extensions(whole)}  # fmt: skip
    properties: dict[str, Any] = {}
    encoding: dict[str, Any] = {}
    for parameter in parameters:
        name = str(parameter.get("name", ""))
        schema = _schema_of(parameter) | _extensions(parameter)
        if schema.get("type") == "file":
            schema |= {"type": "string", "format": "binary"}
        if parameter.get("description"):
            schema["description"] = parameter["description"]
        if schema.get("type") == "array":
            style, explode = _STYLES.get(str(parameter.get("collectionFormat")), ("form", False))
            encoding[name] = {"style": style, "explode": explode}
        properties[name] = schema
    required = [str(p["name"]) for p in parameters if p.get("required") is True and "name" in p]
    schema = {"type": "object", "properties": properties} | ({"required": required} if required else {})
    with_file = any(parameter.get("type") == "file" for parameter in parameters)
    forms = [str(media) for media in consumes if "form" in str(media)]
    forms = forms or ["multipart/form-data" if with_file else "application/x-www-form-urlencoded"]
    how = {"encoding": encoding} if encoding else {}
    return {"content": {media: {"schema": schema, **how} for media in forms}} | ({"required": True} if required else {})


def _response(response: Any, produces: list[str]) -> Any:
    source = dict_of(response)
    if "$ref" in source:
        return source
    result: dict[str, Any] = {"description": source.get("description", ""), **_extensions(source)}
    examples = dict_of(source.get("examples"))
    if "schema" in source or examples:
        content = {}
        for media in dict.fromkeys([*map(str, produces), *examples]):
            content[media] = {"schema": source.get("schema", {})}
            if media in examples:
                content[media]["example"] = examples[media]
        result["content"] = content
    if isinstance(source.get("headers"), dict):
        result["headers"] = {name: _parameter(header) for name, header in source["headers"].items()}
    return result


def _security_scheme(scheme: Any) -> Any:
    source = dict_of(scheme)
    kept = _extensions(source) | ({"description": source["description"]} if source.get("description") else {})
    if source.get("type") == "basic":
        return {"type": "http", "scheme": "basic", **kept}
    if source.get("type") == "oauth2":
        fields = {k: source[k] for k in ("authorizationUrl", "tokenUrl") if k in source}
        flow = fields | {"scopes": dict_of(source.get("scopes"))}
        return {"type": "oauth2", "flows": {_FLOWS.get(str(source.get("flow")), "implicit"): flow}, **kept}
    return source
