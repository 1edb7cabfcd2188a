"""The fields of calls as people name them: what each is called, how it is read, and its OpenTelemetry name.

Lists, filters, explorations and everything that is handed over read this one table. OpenTelemetry names are those of
its semantic conventions for HTTP, and for generative AI where tokens are counted; a field that has none there is
handed over as `tamarack.` and its own name.
"""

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Literal

Kind = Literal["text", "number", "time", "size", "moment"]


@dataclass(frozen=True, slots=True)
class Field:
    """One field of a call. `column` is its name in records; empty where it is worked out from others."""

    title: str
    column: str
    kind: Kind = "text"
    rolled: bool = False
    """Whether roll-ups know it; questions about other fields read single calls."""
    otel: str = ""

    @property
    def otel_name(self) -> str:
        """Its name for others, by OpenTelemetry's semantic conventions where they have one."""
        return self.otel or f"tamarack.{self.column}"


CALL_FIELDS: Mapping[str, Field] = {
    "time": Field("time", "at", "moment"),
    "id": Field("call id", "id"),
    "environment": Field("environment", "environment", rolled=True, otel="deployment.environment.name"),
    "api": Field("API", "api", rolled=True),
    "version": Field("version", "version", rolled=True),
    "operation": Field("operation", "operation", rolled=True),
    "method": Field("method", "method", otel="http.request.method"),
    "path": Field("path", "path", otel="url.path"),
    "status": Field("status", "status", "number", rolled=True, otel="http.response.status_code"),
    "class": Field("status class", "", rolled=True),
    "outcome": Field("outcome", "", rolled=True),
    "reason": Field("reason", "reason", rolled=True, otel="error.type"),
    "policy": Field("refused by", "policy"),
    "note": Field("note", "note"),
    "organization": Field("organization", "organization", rolled=True),
    "application": Field("application", "application", rolled=True),
    "subscription": Field("subscription", "subscription"),
    "plan": Field("plan", "plan", rolled=True),
    "credential": Field("credential", "credential"),
    "end-user": Field("end user", "end_user", otel="user.id"),
    "address": Field("address", "address", otel="client.address"),
    "agent": Field("agent", "agent", otel="user_agent.original"),
    "target": Field("target", "target", rolled=True),
    "cache": Field("cache", "cache", rolled=True),
    "node": Field("node", "node", otel="service.instance.id"),
    "rollout": Field("rollout", "rollout", "number"),
    "mark": Field("mark", "mark"),
    "took": Field("time to answer", "total_us", "time"),
    "backend-took": Field("time of the backend", "backend_us", "time"),
    "held": Field("time held", "held_us", "time"),
    "request-size": Field("request size", "request_bytes", "size", otel="http.request.body.size"),
    "answer-size": Field("answer size", "response_bytes", "size", otel="http.response.body.size"),
    "prompt-tokens": Field("prompt tokens", "prompt_tokens", "number", otel="gen_ai.usage.input_tokens"),
    "model": Field("model", "model", rolled=True, otel="gen_ai.request.model"),
    "model-served": Field("model that answered", "model_served", otel="gen_ai.response.model"),
    "first-took": Field("time to the first piece", "first_us", "time"),
    "cached-tokens": Field("cached prompt tokens", "cached_tokens", "number"),
    "saved-tokens": Field("tokens saved", "saved_tokens", "number"),
    "saved-time": Field("time saved", "saved_us", "time"),
    "graph-operation": Field("GraphQL operation", "graph_operation", otel="graphql.operation.name"),
    "graph-depth": Field("GraphQL depth", "graph_depth", "number"),
    "graph-cost": Field("GraphQL cost", "graph_cost", "number"),
    "own-one": Field("own dimension 1", "own_1"),
    "own-two": Field("own dimension 2", "own_2"),
    "own-three": Field("own dimension 3", "own_3"),
    "completion-tokens": Field("completion tokens", "completion_tokens", "number", otel="gen_ai.usage.output_tokens"),
}
"""Every field, by the name that conditions use."""

ROLLED: Mapping[str, Field] = {name: field for name, field in CALL_FIELDS.items() if field.rolled}
"""The fields that roll-ups know."""

OUTCOMES = ("answered", "refused", "failed")
CLASSES = ("2xx", "3xx", "4xx", "5xx")


def outcome_of(status: int, reason: str) -> str:
    """How a call ended: failed where it was answered 500 and more, refused where the gateway turned it away."""
    if status >= 500:
        return "failed"
    return "refused" if reason else "answered"
