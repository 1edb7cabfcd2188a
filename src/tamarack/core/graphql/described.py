"""The description of a GraphQL API: an OpenAPI document of its endpoint that holds the schema as `x-graphql-schema`."""

from __future__ import annotations

from typing import Any

from tamarack.core.documents.yaml_text import to_yaml

SCHEMA = "x-graphql-schema"
OPERATIONS: dict[str, str] = {"post /": "Run a document", "get /": "Run a query"}
"""What such an API offers, each with its words."""
_JSON = "application/json"
_REQUEST = {
    "type": "object",
    "required": ["query"],
    "properties": {
        "query": {"type": "string", "description": "The document"},
        "operationName": {"type": "string", "description": "Which of its operations to run"},
        "variables": {"type": "object"},
    },
}
_ANSWER = {
    "type": "object",
    "properties": {
        "data": {"type": "object"},
        "errors": {
            "type": "array",
            "items": {
                "type": "object",
                "properties": {
                    "message": {"type": "string"},
                    "path": {"type": "array"},
                    "extensions": {"type": "object", "description": "Of a refusal: its reason and the call id"},
                },
            },
        },
    },
}


def graphql_document(title: str, version: str, summary: str, schema: str, example: str) -> str:
    """An OpenAPI document of an endpoint with a schema, as text."""
    return to_yaml(graphql_description(title, version, summary, schema, example))


def graphql_description(title: str, version: str, summary: str, schema: str, example: str) -> dict[str, Any]:
    """An OpenAPI document of an endpoint with a schema; `example` is a document that examples send."""
    answers = {"200": {"description": "What was asked for, or errors", "content": {_JSON: {"schema": _ANSWER}}}}
    body = {"required": True, "content": {_JSON: {"schema": _REQUEST, "example": {"query": example}}}}
    parameters = [
        {"name": "query", "in": "query", "required": True, "schema": {"type": "string"}, "example": example},
        {"name": "operationName", "in": "query", "schema": {"type": "string"}},
        {"name": "variables", "in": "query", "schema": {"type": "string"}, "description": "An object, as JSON"},
    ]
    paths = {
        "/": {
            "post": {"summary": OPERATIONS["post /"], "tags": ["Documents"], "requestBody": body, "responses": answers},
            "get": {"summary": OPERATIONS["get /"], "tags": ["Documents"], "parameters": parameters,
                    "responses": answers},
        }
    }  # fmt: skip
    info = {"title": title, "version": version} | ({"summary": summary} if summary else {})
    return {"openapi": "3.1.0", "info": info, "paths": paths, **({SCHEMA: schema} if schema else {})}


def schema_in(document: dict[str, Any]) -> str:
    """The schema that a description holds; empty where it holds none."""
    found = document.get(SCHEMA)
    return found if isinstance(found, str) else ""
