"""A document tried before it is sent: what it amounts to, which bounds it would meet, and what is closed to its caller.

The rules are the policies' own, so that a page cannot say something else than a node does.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from tamarack.core.carrying.refusals import REASONS
from tamarack.core.configuration.effective import held, in_force
from tamarack.core.configuration.model import Api, Configuration, Operation, Version
from tamarack.core.graphql.calls.asked import Closed, GraphAsked, Run
from tamarack.core.graphql.calls.documents import Documents
from tamarack.core.graphql.document import DocumentProblem
from tamarack.core.graphql.request import GraphRequest
from tamarack.core.policies import Policy
from tamarack.core.policies.permit.graphql_documents import GraphqlDocuments
from tamarack.core.policies.permit.graphql_fields import GraphqlFields, Standing, closed_of, closed_to
from tamarack.core.policies.permit.graphql_limits import Bound, GraphqlLimits, bounds


class TriedDocument(NamedTuple):
    """What would become of a document."""

    problem: str = ""
    """Why it would not be run, in words; empty where it can be read and fits the schema."""
    places: tuple[tuple[int, int], ...] = ()
    bounds: Sequence[Bound] = ()
    closed: Sequence[str] = ()
    """What of it is closed, as `Type.field`, so that it would be refused."""
    withheld: Sequence[str] = ()
    """What of it would come back null."""
    named: str = ""

    @property
    def passes(self) -> bool:
        """Whether it would be let through."""
        return not self.problem and not self.closed and not any(bound.is_over for bound in self.bounds)


class GraphRules(NamedTuple):
    """The policies that hold for the documents of an operation."""

    limits: GraphqlLimits | None
    fields: Sequence[GraphqlFields]
    known: GraphqlDocuments | None = None

    def closed(self, who: Standing) -> Closed | None:
        """What is closed to someone; None where nothing is."""
        every = [closed_to(policy.rules, who) for policy in self.fields]
        return (lambda name: any(one(name) for one in every)) if every else None

    def met(self, asked: GraphAsked, who: Standing) -> tuple[list[str], list[str]]:
        """What a call is refused for, and what of it comes back null."""
        refused: list[str] = []
        null: list[str] = []
        streams = any(run.operation.kind == "subscription" for run in asked.runs)
        for policy in self.fields:
            (refused if policy.refuses or streams else null).extend(closed_of(asked, closed_to(policy.rules, who)))
        return refused, null


def rules_of(configuration: Configuration, api: Api, version: Version, operation: Operation) -> GraphRules:
    """The rules for documents of an operation."""
    policies: list[Policy] = [row.policy for row in in_force(held(configuration, api, version, operation))]
    limits = [one for one in policies if isinstance(one, GraphqlLimits)]
    known = [one for one in policies if isinstance(one, GraphqlDocuments)]
    fields = [one for one in policies if isinstance(one, GraphqlFields)]
    return GraphRules(limits[-1] if limits else None, fields, known[-1] if known else None)


def try_document(
    documents: Documents, rules: GraphRules, who: Standing, text: str, operation: str, variables: Mapping[str, Any]
) -> TriedDocument:
    """What would become of a document."""
    request = GraphRequest(text, operation, variables, {})
    try:
        if not text.strip():
            raise DocumentProblem("the document is empty")
        chosen = documents.read(text).chosen(operation)
        typed = chosen.coerced(documents.graph, variables) if documents.graph is not None else variables
        run = Run(chosen, typed, request)
    except DocumentProblem as problem:
        return TriedDocument(str(problem), problem.places)
    asked = GraphAsked([run], False, None, documents)
    known = rules.known
    if known is not None and known.others == "refused" and text.strip() not in known.by_id.values():
        return TriedDocument(REASONS["unknown-document"].detail, named=asked.named)
    if run.operation.introspects and rules.limits is not None and not rules.limits.tells_schema(who.groups):
        return TriedDocument(REASONS["introspection-closed"].detail, named=asked.named)
    refused, null = rules.met(asked, who)
    met = bounds(rules.limits, asked, rules.limits.by_field) if rules.limits is not None else []
    return TriedDocument(bounds=met, closed=refused, withheld=null, named=asked.named)
