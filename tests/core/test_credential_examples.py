"""How an example call shows its credential: a value goes only where its kind belongs; alternatives are said as such."""

from dataclasses import replace
from pathlib import Path

import pytest

from certificates import Authority
from core.protected import API_KEY, CLIENT, JWT, SIGNED, protected
from tamarack.core.configuration.explain import explain, explain_outside, explain_ways
from tamarack.core.openapi.publish import security_scheme
from tamarack.core.policies import AnyPolicy
from tamarack.core.trying.credential_examples import TOKEN_PLACE, Given, credential_example, way_for, ways_shown
from tamarack.core.trying.examples import as_curl, as_javascript, as_python

SHARED = {"kind": "jwt", "name": "shared", "algorithms": ["HS256"], "secret": "fares-signing"}


def policies(*placed: dict[str, object]) -> list[AnyPolicy]:
    return list(protected(*placed).apis[0].versions[0].policies)


@pytest.mark.parametrize(
    ("placed", "given", "name", "shown"),
    [
        ((API_KEY,), Given("tmk_1", "api-key"), "", {"x-skerry-key": "tmk_1"}),
        ((JWT,), Given("tmk_1", "api-key"), "", {"Authorization": f"Bearer {TOKEN_PLACE}"}),
        ((JWT, API_KEY), Given("tmk_1", "api-key"), "", {"x-skerry-key": "tmk_1"}),
        ((JWT, API_KEY), None, "", {"Authorization": f"Bearer {TOKEN_PLACE}"}),
        ((JWT, API_KEY), None, "api-key", {"x-skerry-key": "YOUR-KEY"}),
        ((JWT, API_KEY), Given("ey.", "outside-identity"), "api-key", {"x-skerry-key": "YOUR-KEY"}),
        ((SIGNED,), Given("ey.", "signed-key"), "", {"Authorization": "Bearer ey."}),
        ((CLIENT | {"basic": False},), Given("tmc:tms:x", "client-secret"), "", {"x-id": "tmc", "x-secret": "tms:x"}),
    ],
)
def test_a_credential_is_shown_only_where_its_kind_belongs(
    placed: tuple[dict[str, object], ...], given: Given | None, name: str, shown: dict[str, str]
) -> None:
    made = credential_example(policies(*placed), given, name)
    assert made is not None
    assert made.headers == shown


def test_ways_tell_where_a_credential_comes_from_and_open_operations_have_none() -> None:
    ways = ways_shown(policies(JWT, API_KEY))
    assert [way.name for way in ways] == ["harbour-office", "api-key"]
    assert "comes from `https://id.harbour-office.example`" in ways[0].source
    assert way_for(ways_shown(policies({"kind": "open"}))) is None


def test_several_ways_to_identify_are_said_as_alternatives_in_one_sentence() -> None:
    made = protected(API_KEY, CLIENT | {"id_header": "", "secret_header": "", "id_query": "", "secret_query": "",
                                        "id_form": "", "secret_form": ""})  # fmt: skip
    api, version = made.apis[0], made.apis[0].versions[0]
    said = explain_ways(made, api, version, version.operations[0])
    assert [one.text for one in said] == [
        "The caller shows either a key in the header `x-skerry-key` or in the query as `?key=`,"
        " or its id and secret by `Authorization: Basic`."
    ]
    assert {"no-credential", "unknown-credential"} <= set(said[0].reasons)
    three = protected(API_KEY, CLIENT, SIGNED)
    api, version = three.apis[0], three.apis[0].versions[0]
    text = explain(three, api, version, version.operations[0])[0].text
    assert text.startswith("The caller shows a key in the header")
    assert text.endswith(", or a key that Tamarack signed for it, as `Authorization: Bearer`.")


def test_groups_and_claims_are_told_to_developers_where_the_policy_says_so() -> None:
    groups = {"kind": "groups", "allow": ["harbour"]}
    claims = {"kind": "claims", "require": ["role equals skipper"]}

    def told(*placed: dict[str, object]) -> str:
        made = protected(JWT, *placed)
        api, version = made.apis[0], made.apis[0].versions[0]
        return " ".join(one.text for one in explain_outside(made, api, version, version.operations[0]))

    quiet = told(groups, claims)
    assert "platform team chooses" in quiet
    assert "say more about its user" in quiet
    assert "`harbour`" not in quiet
    assert "skipper" not in quiet
    assert "Only skippers." in told(claims | {"message": "Only skippers."})
    loud = told(groups | {"tell": True}, claims | {"tell": True})
    assert "belongs to `harbour`" in loud
    assert "`role equals skipper`" in loud


def test_developers_are_told_no_secrets_name() -> None:
    made = protected(SHARED)
    api, version = made.apis[0], made.apis[0].versions[0]
    inside = " ".join(one.text for one in explain(made, api, version, version.operations[0]))
    outside = " ".join(one.text for one in explain_outside(made, api, version, version.operations[0]))
    assert "fares-signing" in inside
    assert "fares-signing" not in outside
    assert "signed with HS256" in outside


def test_a_certificate_is_shown_from_two_files_in_every_language(tmp_path: Path) -> None:
    placed = policies({"kind": "client-certificate", "authorities": Authority(tmp_path).pem})
    made = credential_example(placed)
    assert made is not None
    call = replace(made, method="POST", url="https://127.0.0.1:9/tides", body='{"a": 1}')
    assert "--cert your-certificate.pem --key your-key.pem" in as_curl(call)
    program = as_python(call)
    compile(program, "example", "exec")
    assert "load_cert_chain('your-certificate.pem', 'your-key.pem')" in program
    assert "urlopen(request, context=secured)" in program
    assert 'readFileSync("your-key.pem")' in as_javascript(call)
    assert security_scheme(made) == {"type": "mutualTLS"}


@pytest.mark.parametrize(
    ("by", "words"),
    [("the certificate itself", "that is known"), ("its subject", "whose subject is known"),
     ("one of its alternative names", "one of whose names is known")],
)  # fmt: skip
def test_a_certificate_is_said_with_its_signers_to_staff_and_without_them_to_others(
    tmp_path: Path, by: str, words: str
) -> None:
    made = protected({"kind": "client-certificate", "authorities": Authority(tmp_path).pem, "by": by}, API_KEY)
    api, version = made.apis[0], made.apis[0].versions[0]
    said = explain(made, api, version, version.operations[0])[0].text
    assert f"either a certificate over TLS that `CN=Tests` signed and {words}, or a key in the header" in said
    assert "CN=Tests" not in explain_ways(made, api, version, version.operations[0])[0].text
