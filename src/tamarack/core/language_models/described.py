"""The description of a chat API: an OpenAPI document of the operations that its backend offers."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from tamarack.core.documents.yaml_text import to_yaml

OPERATIONS: dict[str, str] = {
    "post /chat/completions": "Answer a conversation",
    "post /completions": "Go on with a text",
    "post /embeddings": "Texts as vectors",
    "get /models": "The models that may be asked for",
}
"""What a chat API may offer, each with its words."""

_MODEL = {"type": "string", "description": "One of those that `/models` names"}
_NUMBER = {"type": "integer", "minimum": 1}
_USAGE = {
    "type": "object",
    "properties": {name: {"type": "integer"} for name in ("prompt_tokens", "completion_tokens", "total_tokens")},
}
_MESSAGE = {
    "type": "object",
    "required": ["role"],
    "properties": {
        "role": {"type": "string", "enum": ["system", "user", "assistant", "tool"]},
        "content": {"description": "A text, or parts of texts and pictures"},
    },
}
_COMMON: dict[str, Any] = {
    "model": _MODEL,
    "max_tokens": _NUMBER | {"description": "How long the answer may become, in tokens"},
    "temperature": {"type": "number", "minimum": 0, "maximum": 2},
    "stream": {"type": "boolean", "description": "Tell the answer piece by piece, as server-sent events"},
    "stream_options": {"type": "object", "properties": {"include_usage": {"type": "boolean"}}},
}


def _body(required: list[str], properties: dict[str, Any], example: dict[str, Any]) -> dict[str, Any]:
    schema = {"type": "object", "required": required, "properties": properties}
    return {"required": True, "content": {"application/json": {"schema": schema, "example": example}}}


def _answer(words: str, properties: dict[str, Any]) -> dict[str, Any]:
    schema = {"type": "object", "properties": properties}
    return {"200": {"description": words, "content": {"application/json": {"schema": schema}}}}


def _choices(inside: dict[str, Any]) -> dict[str, Any]:
    properties = {"index": {"type": "integer"}, "finish_reason": {"type": "string"}} | inside
    return {"type": "array", "items": {"type": "object", "properties": properties}}


def _operation(call: str, model: str) -> dict[str, Any]:
    match call:
        case "post /chat/completions":
            properties = _COMMON | {"messages": {"type": "array", "minItems": 1, "items": _MESSAGE}}
            example: dict[str, Any] = {"model": model, "messages": [{"role": "user", "content": "Good morning."}]}
            answer = {"model": {"type": "string"}, "choices": _choices({"message": _MESSAGE}), "usage": _USAGE}
            return {
                "requestBody": _body(["model", "messages"], properties, example),
                "responses": _answer("The answer, and the tokens it took", answer),
            }
        case "post /completions":
            example = {"model": model, "prompt": "The ferry leaves"}
            answer = {"model": {"type": "string"}, "choices": _choices({"text": {"type": "string"}}), "usage": _USAGE}
            return {
                "requestBody": _body(["model", "prompt"], _COMMON | {"prompt": {"type": "string"}}, example),
                "responses": _answer("The text, and the tokens it took", answer),
            }
        case "post /embeddings":
            properties = {"model": _MODEL, "input": {"description": "A text, or several"}}
            data = {"type": "array", "items": {"type": "object"}}
            return {
                "requestBody": _body(["model", "input"], properties, {"model": model, "input": ["Good morning."]}),
                "responses": _answer("A vector for each text", {"data": data, "usage": _USAGE}),
            }
        case _:
            items = {"type": "object", "properties": {"id": {"type": "string"}}}
            return {
                "responses": _answer("Every model that may be asked for", {"data": {"type": "array", "items": items}})
            }


def chat_document(title: str, version: str, summary: str, calls: Sequence[str], model: str) -> str:
    """An OpenAPI document of a chat API that offers some calls; `model` is the one that examples ask for."""
    paths: dict[str, Any] = {}
    for call in calls:
        method, _, path = call.partition(" ")
        paths[path] = {method: {"summary": OPERATIONS[call], "tags": ["Models"], **_operation(call, model)}}
    info = {"title": title, "version": version} | ({"summary": summary} if summary else {})
    return to_yaml({"openapi": "3.1.0", "info": info, "paths": paths})
