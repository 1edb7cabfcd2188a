"""Known GraphQL documents: those that a team has registered may be asked for by their id, or alone at all."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Annotated, Literal

from graphql import GraphQLError, parse
from graphql.language import OperationDefinitionNode
from pydantic import Field, StringConstraints, field_validator, model_validator

from tamarack.core.carrying.parts import Knowing, Part
from tamarack.core.form_hints import hints
from tamarack.core.graphql.calls.known import id_of
from tamarack.core.graphql.document import MOST_TOKENS
from tamarack.core.policies.kind import NAME_HELP, Policy, PolicyKind, Surroundings
from tamarack.core.stages import Stage
from tamarack.core.types import Name, Readable

MOST_DOCUMENTS = 200
LONGEST = 200_000
_BETWEEN = re.compile(r"^-{3,}[ \t]*$", re.MULTILINE)


def documents_in(text: str) -> list[str]:
    """The documents of a text, parted by lines of dashes."""
    return [one.strip() for one in _BETWEEN.split(text.replace("\r\n", "\n")) if one.strip()]


class GraphqlDocuments(Policy):
    """Register documents."""

    kind: Literal["graphql-documents"] = "graphql-documents"
    name: Name = Field(default="graphql-documents", title="Name", description=NAME_HELP)
    documents: Annotated[str, StringConstraints(min_length=1, max_length=LONGEST), Readable] = Field(
        title="Documents",
        description="Each with one operation, parted by lines of `---`. Callers send `documentId` with the digest of"
        " one in place of the whole.",
        json_schema_extra=hints(rows=14),
    )
    others: Literal["refused", "let through"] = Field(
        default="refused",
        title="Other documents are",
        description="Refused, callers may run these alone, whether they send the text or the id.",
    )
    registering: bool = Field(
        default=False,
        title="Callers register documents",
        description="A call with a `query` and its `documentId` makes that known on its node; of those, the ones used"
        " last are kept. A caller that hears `unknown-document` sends both again.",
        json_schema_extra=hints(rare=True),
    )

    @model_validator(mode="after")
    def _lets_through(self) -> GraphqlDocuments:
        if self.registering and self.others == "refused":
            raise ValueError("callers cannot register documents where others are refused; let others through")
        return self

    @field_validator("documents")
    @classmethod
    def _each_is_one(cls, text: str) -> str:
        found = documents_in(text)
        if not found:
            raise ValueError("it holds no document; write at least one")
        if len(found) > MOST_DOCUMENTS:
            raise ValueError(f"{len(found)} documents are more than {MOST_DOCUMENTS}, which one policy may hold")
        for place, one in enumerate(found, 1):
            try:
                parsed = parse(one, max_lexical_tokens=MOST_TOKENS)
            except GraphQLError as error:
                line = f", line {error.locations[0].line}" if error.locations else ""
                raise ValueError(f"document {place}{line}: {error.message}") from None
            if sum(isinstance(node, OperationDefinitionNode) for node in parsed.definitions) != 1:
                raise ValueError(f"document {place} has not exactly one operation; part them by a line of ---")
        return text

    @property
    def by_id(self) -> Mapping[str, str]:
        """The documents by their ids."""
        return {id_of(one): one for one in documents_in(self.documents)}


def _compile(policy: GraphqlDocuments, surroundings: Surroundings) -> list[Part]:
    return [
        Knowing(
            stage=Stage.PERMIT,
            policy=policy.name,
            by_id=policy.by_id,
            only=policy.others == "refused",
            registers=policy.registering,
        )
    ]


def _sentence(policy: GraphqlDocuments) -> str:
    many = len(policy.by_id)
    told = f"{many} document{'' if many == 1 else 's'} {'is' if many == 1 else 'are'} known by id"
    more = ", and callers register more" if policy.registering else ""
    return f"{told}{more}; others are {policy.others}."


KIND = PolicyKind(
    kind="graphql-documents",
    title="Known documents",
    stage=Stage.PERMIT,
    purpose="Register GraphQL documents, asked for by their id, and refuse all others",
    model=GraphqlDocuments,
    compile=_compile,
    brief=lambda policy: f"{len(policy.by_id)}, {'these alone' if policy.others == 'refused' else 'others too'}",
    sentence=_sentence,
    sentence_outside=_sentence,
    reasons=("unknown-document",),
    alone=True,
)
