"""Documents that are known by an id: sent on as their text, alone where others are refused."""

from typing import Any
from urllib.parse import parse_qs, urlencode

import orjson
import pytest
from pydantic import ValidationError

from core.graphql.fleet import Fleet
from tamarack.core.carrying.forwarding import Passed
from tamarack.core.carrying.refusals import Refusal
from tamarack.core.graphql.calls.known import MOST, KnownDocuments, id_of
from tamarack.core.policies.permit.graphql_documents import GraphqlDocuments

BOARD = "query Board($n: Int) {\n  vessels(first: $n) { name }\n}"
PORTS = "{ port(code: 1) { code } }"
ID = id_of(BOARD)
NONE = "sha256:" + "0" * 64


def knowing(others: str = "refused", *policies: dict[str, Any]) -> Fleet:
    return Fleet({"kind": "graphql-documents", "documents": f"{BOARD}\n---\n\n{PORTS}\n", "others": others}, *policies)


def by_id(fleet: Fleet, id: Any = ID, **more: Any) -> Any:
    return fleet.send("POST", orjson.dumps({"documentId": id} | more))


def test_a_known_document_is_asked_for_by_its_id_and_goes_on_as_its_text() -> None:
    fleet = knowing()
    assert isinstance(by_id(fleet, variables={"n": 2}), Passed)
    assert orjson.loads(fleet.sent[-1][1]) == {"query": BOARD, "variables": {"n": 2}}
    assert fleet.call.graph.named == "query Board"
    query = urlencode({"documentId": ID, "variables": '{"n":2}'}).encode()
    assert isinstance(fleet.send("GET", b"", query), Passed)
    sent = parse_qs(fleet.sent[-1][0].partition(b"?")[2].decode())
    assert sent == {"query": [BOARD], "variables": ['{"n":2}']}


def test_others_are_refused_or_let_through_and_the_limits_hold_for_known_ones_too() -> None:
    fleet = knowing()
    assert fleet.why("{ vessels { name } }")[0] == "unknown-document" and fleet.sent == []
    assert fleet.why(f"\n{PORTS} ") == ("", "")
    assert knowing("let through").why("{ vessels { name } }") == ("", "")
    outcome = by_id(knowing("refused", {"kind": "graphql-limits", "cost": 5}), variables={"n": 6})
    assert isinstance(outcome, Refusal) and outcome.reason.code == "over-graphql-limit"


@pytest.mark.parametrize(
    ("more", "said"),
    [({"documentId": NONE}, "no document is known by the id 'sha256:000"), ({"documentId": 7}, "`documentId` is a text"),
     ({"query": BOARD}, "not both"), ({"documentId": None}, "no document")],
)  # fmt: skip
def test_an_id_that_leads_nowhere_is_refused_with_what_is_wrong(more: dict[str, Any], said: str) -> None:
    fleet = knowing("let through")
    outcome = fleet.send("POST", orjson.dumps({"documentId": ID} | more))
    assert (
        isinstance(outcome, Refusal)
        and said in f"{outcome.detail[:1].lower()}{outcome.detail[1:]}"
        and fleet.sent == []
    )
    assert Fleet().send("POST", orjson.dumps({"documentId": ID})).reason.code == "unknown-document"


def test_callers_register_documents_where_they_may_for_calls_with_the_id_alone() -> None:
    fleet = knowing("let through")
    new = "{ vessels { oldName } }"
    both = {"query": new, "documentId": id_of(new)}
    assert isinstance(fleet.send("POST", orjson.dumps(both)), Refusal)  # not unless it is allowed
    registering = {"kind": "graphql-documents", "documents": BOARD, "others": "let through", "registering": True}
    fleet = Fleet(registering)
    assert by_id(fleet, id_of(new)).reason.code == "unknown-document"
    assert isinstance(fleet.send("POST", orjson.dumps(both)), Passed)
    assert orjson.loads(fleet.sent[-1][1]) == {"query": new}
    assert isinstance(by_id(fleet, id_of(new)), Passed) and orjson.loads(fleet.sent[-1][1])["query"] == new
    for wrong in (both | {"documentId": NONE}, {"query": "#" * 20_001, "documentId": id_of("#" * 20_001)}):
        assert "digest" in fleet.send("POST", orjson.dumps(wrong)).detail
    with pytest.raises(ValidationError, match="let others through"):
        GraphqlDocuments.model_validate(registering | {"others": "refused"})


def test_of_registered_documents_those_used_last_are_kept() -> None:
    known = KnownDocuments({}, registers=True)
    texts = [f"{{ a{n} }}" for n in range(MOST + 1)]
    for text in texts[:MOST]:
        assert known.register(id_of(text), text)
    assert known.find(id_of(texts[0])) == texts[0]  # used
    known.register(id_of(texts[MOST]), texts[MOST])
    assert known.find(id_of(texts[1])) is None and known.find(id_of(texts[0])) == texts[0]


@pytest.mark.parametrize(
    ("text", "said"),
    [("---", "holds no document"), ("{ a }\n---\n{ b", "document 2, line 1: Syntax Error"),
     ("query A { a } query B { b }", "document 1 has not exactly one operation"), ("fragment F on A { a }", "exactly one"),
     ("{ a }\n---\n" * 201, "more than 200")],
)  # fmt: skip
def test_what_is_no_list_of_documents_is_refused_by_its_place(text: str, said: str) -> None:
    with pytest.raises(ValidationError, match=said):
        GraphqlDocuments.model_validate({"documents": text})
