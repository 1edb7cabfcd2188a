"""The configuration as files: written and read without loss, refused with file, line and place."""

from pathlib import Path

import pytest
from hypothesis import HealthCheck, given
from hypothesis import settings as settled
from hypothesis import strategies as st
from sqlmodel import Session

from certificates import Authority
from core.carrying.test_permit import ADDRESSES, CLAIMS, GROUPS, KEPT_OUT, SCOPES, SITES
from core.protected import API_KEY, CLIENT, JWT, SHARED_JWT, SIGNED
from core.test_browser import ACCESS
from helpers import configuration
from tamarack.config.exchange import Applying, draft_files, export_to, files_apart
from tamarack.config.files import FIRST, NotApplicable, load, write
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Cap, Configuration
from tamarack.core.policies import KINDS
from tamarack.demo.seed import CONFIGURATION, shipped_configuration
from tamarack.settings import Settings
from tamarack.store.draft import queries as drafting


def put(folder: Path, files: dict[str, str]) -> Path:
    for name, text in files.items():
        (folder / name).parent.mkdir(parents=True, exist_ok=True)
        (folder / name).write_text(text)
    return folder


def test_the_demos_files_read_back_as_themselves(tmp_path: Path) -> None:
    loaded = load(CONFIGURATION)
    assert load(put(tmp_path, write(loaded.configuration, loaded.documents | loaded.pages))) == loaded


def test_policies_of_every_kind_read_back_as_themselves_wherever_they_stand(tmp_path: Path) -> None:
    policies = [API_KEY, CLIENT, JWT, SHARED_JWT, SIGNED, {"kind": "access-token", "directory": "passengers", "scopes": ["a:b"]}, GROUPS, KEPT_OUT, SCOPES, CLAIMS, ADDRESSES, SITES, ACCESS,
                {"kind": "body-size", "at_most": "2 MB"}, {"kind": "rate-limit", "windows": ["5 per minute, sliding", "1 per 2 seconds, burst 4"], "by": "header",
                 "by_name": "x-tenant", "when_away": "refuse"}, {"kind": "cost", "counts_as": 3, "answer_value": "/usage/units"},
                {"kind": "quota", "calls": 9, "period": "week", "time_zone": "Europe/Oslo", "when_used_up": "let through"},
                {"kind": "limit-fields", "send": "none"}, {"kind": "token-count", "prompt": "/u/p", "completion": "", "most": ["/longest"]},
                    {"kind": "prompt-guard", "longest": 900, "bounds": ["max_tokens: up to 500", "temperature: 0 to 1", "tools: none"], "rules": ["refuse in prompts: launch code", "mask in answers: skipper *"]},
                    {"kind": "dimensions", "of": ["cost-centre: header x-cost-centre", "crew: claim crew"]}, {"kind": "models", "offered": ["notices", "notices-long: cutter, notices/liner"], "listed": False},
                    {"kind": "token-limit", "windows": ["9000 per minute"], "counts": "prompt", "by": "model", "budget": 500000, "period": "week"},
                    {"kind": "fixed-answer", "status": 302, "headers": ["Location: /x/{{ path.id }}"], "body": "a\nb", "media": "text/plain", "when": ["header x-trial is present"], "starts": "2026-12-01 02:00"},
                    {"kind": "mock", "rules": ["path id is one of 8, 9 and query day is absent -> example full", 'body /a is more than 6 -> 422 {"a": 1}'], "failing": 5},
                    {"kind": "response-cache", "how_long": "for a time of its own, whatever the backend says", "own_time": 60, "query": "listed", "query_names": ["from"], "body_values": ["/a"]},
                    {"kind": "near-equal-prompts", "alike": "by their meaning", "nearest": 0.9, "same": ["leave, depart"], "own_time": 60, "whose": "the same for all callers", "warmest": 0.5},
                    {"kind": "request-fields", "edits": ["set header X-A: {{ path.id }}: b", "rename query a to b"], "when": ["path id is present"]},
                    {"kind": "request-body", "edits": ["set /a: {\"b\": 1}", "keep /a, /b/*"]}, {"kind": "answer-body", "do": "JSON to XML", "root": "berths", "when": ["header accept matches xml"]},
                    {"kind": "prompt-log", "days": 30, "keeps": "prompts", "share": 5, "usual": False, "masked": ["skipper *", "booking ######"]},
                    {"kind": "graphql-limits", "depth": 5, "cost": 90, "weights": ["Query.vessels: 5"], "introspection": "closed"}, {"kind": "graphql-documents", "documents": "{ a }\n---\nquery B { b }", "others": "let through"}, {"kind": "graphql-fields", "rules": ["Berth.*: plans harbour/pier, liner", "Vessel.oldName: nobody", "A.b: groups staff", "A.c: scopes a:b"]},
                    {"kind": "error-answer", "of": ["over-rate", "5xx"], "status": 503, "media": "text/plain", "body": "{{ error.title }}"},
                    {"kind": "request-check", "otherwise": "pass it on and count it", "unknown": "the same"}, {"kind": "answer-check", "otherwise": "answer 502", "at_most": "2 MB"},
                    {"kind": "answer-fields", "edits": ["remove header Server"]}, {"kind": "rewrite", "path": "/x", "method": "PUT"},
                    {"kind": "retries", "at_most": 2, "statuses": [503]}, {"kind": "time-limits", "whole_ms": 900}]  # fmt: skip
    policies.append({"kind": "client-certificate", "by": "its subject", "authorities": Authority(tmp_path).pem})
    assert {one["kind"] for one in policies} | {"open"} == set(KINDS)
    operation = [*policies, {"kind": "open"}]
    made = configuration(
        everywhere=policies, version={"policies": policies, "operations": [{"call": "get /a", "policies": operation}]}
    )
    files = write(made, {})
    made = made.model_copy(update={"caps": (Cap.model_validate({"environment": "test", "limits": ["9 per second"]}),)})
    files = write(made, {})
    assert "groups contains harbour-staff" in files["apis/sailings.yaml"]
    assert load(put(tmp_path, files)).configuration == made


_WORDS = st.text(st.characters(codec="utf-8", exclude_categories=("Cs", "Cc")), max_size=30)


def test_the_life_of_a_version_reads_back_as_itself(tmp_path: Path) -> None:
    ends = {"state": "deprecated", "deprecated_on": "2026-11-05", "sunset_on": "2027-02-28", "successor": "2",
            "brown_outs": ["2027-02-03 09:00 for 15 minutes"]}  # fmt: skip
    tried = {
        "version": "2",
        "successor": "",
        "state": "preview",
        "trial": {"invited": ["tern-trips"], "limits": ["5 per second, burst 9"]},
    }
    naming = {"by": "media type", "name": "v", "default": "1"}
    two = configuration(version={"version": "1", **ends}).apis[0].model_dump()
    two |= {"versions": [two["versions"][0], two["versions"][0] | tried], "naming": naming}
    made = configuration(apis=[two])
    assert load(put(tmp_path, write(made, {}))).configuration == made


@given(
    summary=_WORDS,
    title=_WORDS.filter(lambda text: text.strip()),
    label=st.from_regex(r"[A-Za-z0-9][0-9.]{0,5}", fullmatch=True),
)
def test_any_words_and_labels_survive_the_files(
    tmp_path_factory: pytest.TempPathFactory, summary: str, title: str, label: str
) -> None:
    made = configuration(version={"version": label})
    api = made.apis[0].model_dump() | {"title": title, "summary": summary}
    whole = Configuration.model_validate(made.model_dump() | {"apis": [api]})
    assert load(put(tmp_path_factory.mktemp("files"), write(whole, {}))).configuration == whole


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("backends:\n  - name: a\n    targets:\n      - address: ftp://x\n", 4, "http://"),
        ("backends:\n  - name: a\n    tragets: []\n", 3, "not a field here"),
        ("everywhere:\n  - kind: rate-limit\n    windows:\n      - 60 per fortnight\n", 4, "60 per fortnight"),
        ("everywhere:\n  - kind: moat\n", 2, "'moat'"),
        ("apis:\n  - name: a\n    title: A\n    versions:\n      - version: 1\n        base_path: /a\n        backend: b\n", 7, "no backend 'b'"),
        ("colours: []\n", 1, "is not a field here"),
        ("tamarack: 2\n", 1, "format 2"),
        ("apis: 3\n", 1, "must be a list"),
        ("backends: []\nbackends: []\n", 2, "stands twice"),
        ("a: [\n", 2, "a value is missing"),
        ("apis:\n  - name: a\n    title: A\n    versions:\n      - version: 1\n        document: ../../etc/passwd\n", 6, "outside the folder"),
    ],
)  # fmt: skip
def test_a_problem_in_a_file_is_told_by_file_and_line(tmp_path: Path, text: str, line: int, words: str) -> None:
    path = put(tmp_path, {"draft.yaml": text}) / "draft.yaml"
    with pytest.raises(NotApplicable) as caught:
        load(path)
    assert any(p.file == str(path) and p.line == line and words in p.message for p in caught.value.problems), str(
        caught.value
    )


def test_what_was_exported_applies_without_a_difference(settings: Settings, world: object, tmp_path: Path) -> None:
    assert "apis/sailings.yaml" in export_to(settings, tmp_path / "out")
    with Applying(settings, tmp_path / "out", whole=True) as applying:
        assert applying.changes == []


_PARTS = ("everywhere", "caps", "kinds", "backends", "apis", "products")


@settled(max_examples=8, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(fewer=st.dictionaries(st.sampled_from(_PARTS), st.integers(0, 3)), renamed=st.booleans())
def test_files_that_differ_are_those_that_differ_among_all(
    world: Session, fewer: dict[str, int], renamed: bool
) -> None:
    whole = drafting.load_configuration(world)
    other = whole.model_copy(update={part: getattr(whole, part)[left:] for part, left in fewer.items()})
    if renamed and other.apis:
        first, *rest = other.apis
        other = other.model_copy(update={"apis": (first.model_copy(update={"title": "Renamed"}), *rest)})
    apart = files_apart(world, whole, other)
    both = draft_files(world, whole), draft_files(world, other)
    assert _differing(*apart) == _differing(*both)
    assert all(name in both[side] for side in (0, 1) for name in apart[side])
    if whole == other:
        assert set(apart[0]) == {FIRST}


def _differing(one: dict[str, str], other: dict[str, str]) -> dict[str, tuple[str | None, str | None]]:
    names = {*one, *other}
    return {name: (one.get(name), other.get(name)) for name in names if one.get(name) != other.get(name)}


def test_applying_says_the_difference_first_and_changes_nothing_unless_told(
    settings: Settings, world: object, tmp_path: Path
) -> None:
    export_to(settings, tmp_path)
    path = tmp_path / "backends.yaml"
    path.write_text(path.read_text().replace("read_timeout_ms: 5000", "read_timeout_ms: 4000"))
    with Applying(settings, path, whole=False) as applying:
        assert [c.text for c in applying.changes] == ["read timeout (ms) from 5000 to 4000"]
    with Applying(settings, path, whole=False) as applying:
        assert applying.changes
        applying.apply()
    with Applying(settings, path, whole=False) as applying:
        assert applying.changes == []


def test_applying_is_all_or_nothing(settings: Settings, world: Session, tmp_path: Path) -> None:
    """A file with a good backend and a product of an API that is nowhere is refused as a whole."""
    fresh = "backends:\n  - name: fresh\n    targets: [{address: 'http://127.0.0.1:1'}]\n"
    (tmp_path / "x.yaml").write_text(fresh + "products:\n  - {name: night, title: Night, apis: [stars]}\n")
    with pytest.raises(NotApplicable, match="no API 'stars'"), Applying(settings, tmp_path / "x.yaml", whole=False):
        pass
    assert difference(drafting.load_configuration(world), shipped_configuration(7400).configuration) == []


def test_a_part_may_refer_to_what_only_the_draft_holds(settings: Settings, world: object, tmp_path: Path) -> None:
    export_to(settings, tmp_path)
    path = tmp_path / "products.yaml"
    path.write_text(path.read_text().replace("title: Fleet", "title: The fleet"))
    with Applying(settings, path, whole=False) as applying:
        assert [c.text for c in applying.changes] == ["title from Fleet to The fleet"]


def test_one_file_of_an_exported_folder_is_read_with_the_documents_of_the_folder(tmp_path: Path) -> None:
    loaded = load(CONFIGURATION)
    folder = put(tmp_path, write(loaded.configuration, loaded.documents | loaded.pages))
    alone = load(folder / "apis" / "sailings.yaml", whole=False)
    assert [version.version for version in alone.configuration.apis[0].versions] == ["1", "2"]
    assert set(alone.documents) <= set(loaded.documents)
    assert len(alone.documents) == 2
