"""Rewrite: another method or path for the backend than the one that was called."""

from __future__ import annotations

import re
from typing import Literal

from pydantic import Field, field_validator, model_validator

from tamarack.core.carrying.call import Call
from tamarack.core.carrying.parts import Change, Part
from tamarack.core.carrying.refusals import REASONS, Refusal
from tamarack.core.form_hints import hints
from tamarack.core.http.paths import behind
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.shaping.wanted import When, body_wanted, where_in_words
from tamarack.core.stages import Stage
from tamarack.core.types import Name

Method = Literal["", "GET", "POST", "PUT", "PATCH", "DELETE"]
_TEMPLATE = re.compile(r"\{([^{}/]+)\}")
_PLAIN = re.compile(r"(/([A-Za-z0-9._~!$&'()*+,;=:@-]|%[0-9A-Fa-f]{2})*)*")


def _path(value: str, parameters: bool) -> str:
    value = value.strip()
    if not value:
        return ""
    if not value.startswith("/"):
        raise ValueError(f"{value!r} does not start with /")
    bare = _TEMPLATE.sub("x", value) if parameters else value
    bare = bare.removesuffix("/*") if parameters and value.endswith("/*") else bare
    if not _PLAIN.fullmatch(bare) or any(part in (".", "..") for part in bare.split("/")):
        raise ValueError(f"{value!r} is not a path: letters, digits and - . _ ~ between slashes, and no . or .. part")
    return value


class Rewrite(Policy):
    """Ask the backend with another method or path."""

    kind: Literal["rewrite"] = "rewrite"
    name: Name = Field(default="rewrite", title="Name", description=NAME_HELP)
    path: str = Field(
        default="",
        max_length=500,
        title="Path",
        description="What stands behind the target's own address: `/lines/{id}/stops`, with the parameters of the"
        " operation's path, or `/archive/*` for what an operation's `/*` stands for. Empty to keep it.",
    )
    strip: str = Field(
        default="",
        max_length=200,
        title="Take off in front",
        description="Like `/v2`, where the path begins with it.",
        json_schema_extra=hints(rare=True),
    )
    put: str = Field(
        default="",
        max_length=200,
        title="Put in front",
        description="Like `/internal`; after what is taken off.",
        json_schema_extra=hints(rare=True),
    )
    method: Method = Field(default="", title="Method", description="Empty to keep it. HEAD keeps its own.")
    when: When = ()

    @field_validator("path")
    @classmethod
    def _whole(cls, value: str) -> str:
        return _path(value, parameters=True)

    @field_validator("strip", "put")
    @classmethod
    def _part(cls, value: str) -> str:
        return _path(value, parameters=False).rstrip("/")

    @model_validator(mode="after")
    def _something(self) -> Rewrite:
        if not (self.path or self.strip or self.put or self.method):
            raise ValueError("it would change nothing; give a path, a method, or what to take off or put in front")
        return self

    @property
    def parameters(self) -> list[str]:
        """The parameters that the path takes from the operation's."""
        return _TEMPLATE.findall(self.path)


def _compile(policy: Rewrite, surroundings: Surroundings) -> list[Part]:
    when, method = policy.when, policy.method
    strip, put = policy.strip.encode(), policy.put.encode()
    rest_of_path = policy.path.endswith("/*")
    template = policy.path.removesuffix("/*") if rest_of_path else policy.path
    parts: list[tuple[bytes, str]] = []
    at = 0
    for found in _TEMPLATE.finditer(template):
        parts.append((template[at : found.start()].encode(), found[1]))
        at = found.end()
    tail = template[at:].encode()
    failed = REASONS["change-failed"]

    def path_of(call: Call) -> bytes | str:
        """The path for the backend, or the parameter that this call's operation does not have."""
        operation = call.operation
        assert operation is not None
        segments = call.path[1:].split(b"/")
        if not policy.path:
            return behind(call.path, operation.base_segments)
        made = []
        for before, name in parts:
            place = operation.parameters.get(name)
            if place is None or place >= len(segments):
                return name
            made += [before, segments[place]]  # as it was spelled: settled before, and so one segment
        made.append(tail)
        if rest_of_path:
            fixed = operation.base_segments + operation.name.partition(" ")[2].removesuffix("*").count("/") - 1
            made.append(behind(call.path, fixed))
        return b"".join(made)

    def step(call: Call) -> Refusal | None:
        for condition in when:
            if not condition.holds(call):
                return None
        path = path_of(call)
        if isinstance(path, str):
            note = f"the operation's path has no parameter {path!r}"
            return Refusal(failed, policy=policy.name, note=note)
        if strip and (path == strip or path.startswith(strip + b"/")):
            path = path[len(strip) :]
        call.asks_path = put + path
        if method and call.method != "HEAD":  # to a HEAD nothing but the head of an answer may be sent
            call.asks_method = method
        return None

    return [Change(stage=Stage.SHAPE, request=step, request_body=body_wanted(when))]


def _brief(policy: Rewrite) -> str:
    return " ".join(filter(None, (policy.method, policy.path or f"{policy.strip or ''} → {policy.put or '/'}")))[:30]


def _sentence(policy: Rewrite) -> str:
    said = []
    if policy.path:
        said.append(f"at `{policy.path}`")
    if policy.strip:
        said.append(f"without `{policy.strip}` in front")
    if policy.put:
        said.append(f"with `{policy.put}` in front")
    if policy.method:
        said.append(f"by {policy.method}")
    return f"The backend is asked {', '.join(said)}{where_in_words(policy.when)}."


KIND = PolicyKind(
    kind="rewrite",
    title="Rewrite",
    stage=Stage.SHAPE,
    purpose="Ask the backend with another path or method than the caller's",
    model=Rewrite,
    compile=_compile,
    brief=_brief,
    sentence=_sentence,
    sentence_outside=lambda policy: "",
    reasons=("change-failed",),
    misfit=lambda policy, path: next(
        (
            f"its path takes {{{name}}}, which {path} does not name"
            for name in policy.parameters
            if f"{{{name}}}" not in path
        ),
        f"its path ends with /*, which {path} does not"
        if policy.path.endswith("/*") and not path.endswith("/*")
        else "",
    ),
)
