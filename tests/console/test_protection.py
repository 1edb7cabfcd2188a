"""Protection in the console: policies' forms, secrets, keys, credentials, the bench, the checker, explaining, finding."""

import io
import re
import zipfile
from datetime import UTC, datetime
from pathlib import Path

import psycopg
import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from certificates import Authority
from core.traffic.test_traffic import record
from gateway.test_target_tls import SecureBackend
from helpers import sign_in
from sign_in.passengers import Passengers
from tamarack.core.configuration.model import Configuration
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Credential
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.draft import queries as drafting
from tamarack.store.feed import items as feeding
from tamarack.store.people.tables import Organization
from tamarack.store.saved_calls.tables import SavedCall
from tamarack.store.traffic import traces as tracing
from tamarack.store.traffic.partitions import make_partitions
from tamarack.store.traffic.recording import Batch, take_in
from tamarack.store.traffic.trace_table import Trace

POLICIES = "/apis/sailings/2/policies"
HOLDS = "operation=post+/berths/{id}/holds"


@pytest.fixture
def planner(world: Session) -> Application:
    """Island Planner, subscribed to the harbour in production."""
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    made = subscribing.make_application(world, COMMAND_LINE, owner, "Island Planner")
    offered = drafting.load_configuration(world)
    subscribing.subscribe(world, COMMAND_LINE, offered, made, "harbour", "skiff", "production")
    world.commit()
    return made


def audit(session: Session, action: str) -> list[AuditEntry]:
    session.expire_all()
    return list(session.exec(select(AuditEntry).where(AuditEntry.action == action)))


def draft(session: Session) -> Configuration:
    session.expire_all()
    return drafting.load_configuration(session)


def test_a_jwt_policy_is_checked_while_it_is_typed_and_placed(admin: FlaskClient, world: Session) -> None:
    form = admin.get(f"{POLICIES}/add?level=api&kind=jwt&operation=").text
    assert form.count('type="checkbox" name="algorithms"') == 14
    typed = {"level": "api", "kind": "jwt", "name": "office", "old_name": "", "algorithms": ["RS256", "ES256"],
             "issuer": "https://id.example", "header": "authorization", "caller_claim": "azp", "skew_s": "30"}  # fmt: skip
    assert "keys come from one place" in admin.post(f"{POLICIES}/check", data=typed).text
    wrong = admin.post(f"{POLICIES}/save", data=typed | {"algorithms": ["HS256"], "pem": "x"})
    assert wrong.status_code == 422
    assert 'value="https://id.example"' in wrong.text  # nothing typed is lost
    assert 'value="HS256" checked' in wrong.text
    good = typed | {"key_set": "https://id.example/jwks.json"}
    assert "signed with RS256 or ES256" in admin.post(f"{POLICIES}/check", data=good).text
    assert admin.post(f"{POLICIES}/save", data=good).status_code == 303
    placed = draft(world).api("sailings").version("2").policies[-1]  # type: ignore[union-attr]
    assert (placed.kind, placed.algorithms) == ("jwt", ("RS256", "ES256"))  # type: ignore[union-attr]
    assert "RS256/ES256, key set" in admin.get("/apis/sailings/2/").text


@pytest.mark.parametrize(
    ("stage", "kinds"),
    [
        ("identify", ["Open to anyone", "API key", "Client id and secret", "JWT", "Signed key"]),
        ("permit", ["Groups", "Scopes", "Required claims", "Address ranges", "Referring site"]),
        ("guard", ["Browser access", "Body size"]),
    ],
)
def test_every_stage_offers_its_kinds_everywhere_they_may_stand(
    admin: FlaskClient, stage: str, kinds: list[str]
) -> None:
    for level, operation in (("everywhere", ""), ("api", ""), ("operation", "get /sailings")):
        page = admin.get(f"{POLICIES}/add?level={level}&stage={stage}&operation={operation}").text
        offered = [kind for kind in kinds if f">{kind}</a>" in page]
        assert offered == [kind for kind in kinds if level != "everywhere" or kind != "Open to anyone"]


def test_any_origin_with_credentials_is_refused_at_save(admin: FlaskClient) -> None:
    typed = {"level": "api", "kind": "browser-access", "name": "browser-access", "old_name": "browser-access",
             "origins": "*", "methods": ["GET"], "credentials": "yes", "max_age_s": "60"}  # fmt: skip
    answer = admin.post(f"{POLICIES}/save", data=typed)
    assert (answer.status_code, "every site act as its visitors" in answer.text) == (422, True)


def test_secrets_are_set_rotated_shown_masked_and_kept_while_they_are_used(admin: FlaskClient, world: Session) -> None:
    page = admin.get("/settings/secrets/").text
    assert "harbour-register" in page
    assert "backend berths" in page
    typed = {"name": "office", "value": "quite-secret", "environment": "", "overlap": "24", "summary": "for tokens"}
    assert "is set" in admin.post("/settings/secrets/", data=typed, follow_redirects=True).text
    assert admin.post("/settings/secrets/", data=typed | {"value": "more-secret"}).status_code == 303
    wrong = admin.post("/settings/secrets/", data=typed | {"name": "Big", "value": "not-shown-again"})
    assert (wrong.status_code, "not-shown-again" in wrong.text, 'value="Big"' in wrong.text) == (422, False, True)
    page = admin.get("/settings/secrets/").text
    assert "••••••••" in page
    for value in ("quite-secret", "more-secret", "only-for-tests"):
        assert value not in page
        assert value not in str([entry.details for entry in audit(world, "rotate secret")])
    refused = admin.post("/settings/secrets/harbour-register/remove", follow_redirects=True).text
    assert "Roll out a configuration without it first" in refused
    assert "is removed" in admin.post("/settings/secrets/office/remove", follow_redirects=True).text


def test_a_rollout_waits_for_the_secrets_that_it_names(admin: FlaskClient) -> None:
    typed = {"name": "register", "targets": "http://127.0.0.1:1", "connect_timeout_ms": "500", "read_timeout_ms": "900",
             "sign_in": "bearer", "sign_in_secret": "not-set", "act": "save"}  # fmt: skip
    assert admin.post("/backends/new", data=typed | {"sign_in_secret": ""}).status_code == 422
    assert admin.post("/backends/new", data=typed).status_code == 303
    assert "not-set" in admin.get("/settings/secrets/").text
    review = admin.get("/review").text
    assert "the secret &#39;not-set&#39; is not set for production" in review
    owned = typed | {"name": "second", "targets": "http://127.0.0.1:1 priority 1 secret own", "sign_in_secret": ""}
    assert admin.post("/backends/new", data=owned).status_code == 303
    assert "http://127.0.0.1:1 priority 1 secret own" in admin.get("/backends/second").text
    assert "the secret &#39;own&#39; is not set for production" in admin.get("/review").text


def test_exports_hold_names_of_secrets_and_no_values(admin: FlaskClient) -> None:
    archive = zipfile.ZipFile(io.BytesIO(admin.get("/settings/export").data))
    whole = "".join(archive.read(name).decode() for name in archive.namelist())
    assert "sign_in_secret: harbour-register" in whole
    assert "only-for-tests" not in whole


def test_signing_keys_are_rotated_and_retired(admin: FlaskClient) -> None:
    assert "signs from now on" in admin.post("/settings/keys/rotate", follow_redirects=True).text
    admin.post("/settings/keys/rotate")
    page = admin.get("/settings/keys/").text
    assert ("signs and verifies" in page, "verifies only" in page) == (True, True)
    kid = re.findall(r"<code>(\d{8}-[0-9a-f]+)</code>", page)[-1]
    assert "is retired" in admin.post(f"/settings/keys/{kid}/retire", follow_redirects=True).text
    assert "waiting to be fetched" in page  # the harbour office's key set, used by the rollout
    url = "http://127.0.0.1:7424/jwks.json"
    assert "is being fetched" in admin.post("/settings/keys/fetch", data={"url": url}, follow_redirects=True).text
    assert admin.post("/settings/keys/fetch", data={"url": "http://169.254.0.1/"}).status_code == 404


def test_staff_make_change_rotate_and_revoke_credentials_of_every_kind(
    admin: FlaskClient, world: Session, planner: Application
) -> None:
    base = f"/subscribers/applications/{planner.id}"
    typed = {"kind": "client-secret", "environment": "production", "label": "nightly", "expires_on": "2099-01-31",
             "addresses": "192.0.2.0/24", "sites": ""}  # fmt: skip
    shown = admin.post(f"{base}/credentials/", data=typed, follow_redirects=True).text
    secret = re.search(r"tms_[a-z0-9]{36}", shown)
    assert secret is not None
    page = admin.get(base).text
    assert secret[0] not in page  # shown once
    assert f'href="/traffic/calls?organization=tern-trips&amp;application={planner.name}">All its calls' in page
    credential = world.exec(select(Credential)).one()
    one = f"{base}/credentials/{credential.id}"
    assert 'value="2099-01-31"' in admin.get(one).text
    bad = admin.post(one, data={"act": "change", "label": "n", "addresses": "10.0.0.1/8"})
    assert (bad.status_code, "10.0.0.0/8" in bad.text) == (422, True)
    for day in ("soon", "2001-01-01"):
        wrong = admin.post(f"{base}/credentials/", data=typed | {"expires_on": day})
        assert (wrong.status_code, f'value="{day}"' in wrong.text) == (422, True)
    assert admin.post(one, data={"act": "change", "label": "hourly", "sites": "https://a.example"}).status_code == 303
    assert (
        "A new credential took its place"
        in admin.post(one, data={"act": "rotate", "overlap": "1"}, follow_redirects=True).text
    )
    assert "is revoked" in admin.post(one, data={"act": "revoke"}, follow_redirects=True).text
    assert admin.post(one, data={"act": "explode"}).status_code == 400
    identity = typed | {"kind": "outside-identity", "issuer": "https://id.example", "name": "planner", "expires_on": ""}
    assert admin.post(f"{base}/credentials/", data=identity).status_code == 303
    again = admin.post(f"{base}/credentials/", data=identity)
    assert (again.status_code, "already an identity of Island Planner" in again.text) == (422, True)
    assert [entry.details["kind"] for entry in audit(world, "make credential")][-1] == "outside-identity"


def test_groups_and_the_second_look_are_set_by_staff(admin: FlaskClient, world: Session, planner: Application) -> None:
    base = f"/subscribers/applications/{planner.id}"
    assert (
        "groups of Island Planner are set"
        in admin.post(f"{base}/groups", data={"groups": "harbour, crew"}, follow_redirects=True).text
    )
    assert "is not a group" in admin.post(f"{base}/groups", data={"groups": "No!"}, follow_redirects=True).text
    admin.post("/subscribers/tern-trips/groups", data={"groups": "partners"})
    admin.post("/subscribers/tern-trips/second-look", data={"allowed": "yes"})
    world.expire_all()
    owner = world.get(Organization, planner.organization_id)
    assert owner is not None
    assert (planner.groups, owner.groups, owner.may_look_again) == (["crew", "harbour"], ["partners"], True)
    admin.post(f"{base}/credentials/", data={"kind": "api-key", "environment": "test"})
    admin.get(base)
    credential = world.exec(select(Credential)).one()
    seen = admin.post(f"{base}/credentials/{credential.id}", data={"act": "look"}, follow_redirects=True).text
    assert re.search(r"tmk_[a-z0-9]{36}", seen)
    assert audit(world, "look at credential")
    forgotten = admin.post("/subscribers/tern-trips/second-look", data={"allowed": "no"}, follow_redirects=True).text
    assert "1 kept values are removed" in forgotten


def test_the_bench_knows_the_operation_and_says_what_is_wrong(admin: FlaskClient, world: Session) -> None:
    page = admin.get(f"/apis/berths/1/bench/?{HOLDS}").text
    assert 'name="p.path.id" value="corran-1"' in page
    assert "&#34;vessel&#34;: &#34;guillemot&#34;" in page
    assert "What its token says" in page
    assert "No node of production is running" in page
    typed = {"operation": "post /berths/{id}/holds", "method": "POST", "p.path.id": "corran-1", "body": "{}",
             "headers": "no colon here", "claims": "[1]", "expectations": "status 999"}  # fmt: skip
    wrong = admin.post("/apis/berths/1/bench/", data=typed)
    assert wrong.status_code == 422
    for said in ("no colon here", "is not a JSON object", "is not an expectation"):
        assert said in wrong.text
    ghost = admin.post("/apis/berths/1/bench/", data=typed | {"headers": "", "claims": "", "expectations": ""})
    assert "no node of production is running" in ghost.text
    assert audit(world, "bench call") == []


def test_saved_calls_are_kept_with_their_expectations_and_removed(admin: FlaskClient, world: Session) -> None:
    typed = {"operation": "get /berths", "method": "GET", "p.query.port": "corran", "title": "Corran's berths",
             "expectations": "status is 200\njson /0/id is corran-1"}  # fmt: skip
    assert admin.post("/apis/berths/1/saved/", data=typed | {"expectations": "nonsense"}).status_code == 422
    with_key = admin.post("/apis/berths/1/saved/", data=typed | {"headers": "x-skerry-key: tmk_mine"})
    assert (with_key.status_code, "carries a credential, which is not kept" in with_key.text) == (422, True)
    assert admin.post("/apis/berths/1/saved/", data=typed).status_code == 303
    page = admin.get("/apis/berths/1/saved/").text
    for said in ("Corran&#39;s berths", "/berths/v1/berths?port=corran", "json /0/id is corran-1"):
        assert said in page
    again = admin.get(
        f"/apis/berths/1/bench/?operation=get+/berths&saved={world.exec(select(SavedCall)).one().id}"
    ).text
    assert 'name="p.query.port" value="corran"' in again
    assert "json /0/id is corran-1</textarea>" in again
    changed = typed | {"saved": world.exec(select(SavedCall)).one().id, "title": "Berths of Corran", "p.query.port": ""}
    assert "is changed" in admin.post("/apis/berths/1/saved/", data=changed, follow_redirects=True).text
    assert admin.get("/apis/berths/1/saved/").text.count("Berths of Corran</b>") == 1
    assert "No node of production" in admin.post("/apis/berths/1/saved/run", follow_redirects=True).text
    kept = world.exec(select(SavedCall)).one()
    assert "is removed" in admin.post(f"/apis/berths/1/saved/{kept.id}/remove", follow_redirects=True).text


@pytest.mark.parametrize(
    ("origin", "headers", "said"),
    [
        ("https://www.lantern-bay.example", "", "The page gets the answer."),
        ("https://www.lantern-bay.example", "x-skerry-key: k", "The page gets the answer."),
        ("https://www.lantern-bay.example", "x-other: 1", "headers: x-other is not among x-skerry-key"),
        ("https://evil.example", "", "the page does not get the answer"),
        ("https://evil.example", "x-skerry-key: k", "origins: none of them is https://evil.example"),
        ("not an origin", "", "is not an origin"), ("https://*.a.example", "", "a page has one origin"),
    ],
)  # fmt: skip
def test_the_checker_says_what_a_browser_would_do(admin: FlaskClient, origin: str, headers: str, said: str) -> None:
    query = {"operation": "get /sailings", "origin": origin, "headers": headers}
    assert said in admin.get("/apis/sailings/2/browser/", query_string=query).text


def test_explain_says_whether_a_call_would_pass_and_why_not(
    admin: FlaskClient, world: Session, planner: Application
) -> None:
    def asked(operation: str, **more: str) -> str:
        query = {"operation": operation, "application": planner.id} | more
        return admin.get("/apis/berths/1/explain/", query_string=query).text

    assert "scope-missing" in asked("post /berths/{id}/holds")
    closed = asked("post /berths/{id}/holds", claims='{"scope": "berths:hold"}')
    assert "not-in-group" in closed
    assert "It also has nothing to show" in closed
    assert "No: Island Planner has nothing to show" in asked("get /berths")
    admin.post(f"/subscribers/applications/{planner.id}/credentials/", data={"environment": "production"})
    assert "Yes, it would pass" in asked("get /berths")
    planner.groups = ["harbour"]
    world.add(planner)
    feeding.publish_application(world, planner)
    world.commit()
    token = '{"scope": "berths:hold", "groups": ["harbour-staff"]}'
    assert "Everything after that would let it pass" in asked("post /berths/{id}/holds", claims=token)
    assert "is not JSON" in asked("post /berths/{id}/holds", claims="{")
    assert "Yes, it would pass" not in asked("get /berths", environment="test")


def test_a_call_is_found_by_id_or_description_and_its_story_is_told(
    admin: FlaskClient, world: Session, planner: Application, settings: Settings
) -> None:
    at = datetime.now(UTC)
    id = f"{int(at.timestamp() * 1000):011x}abcdef000001"
    made = record(
        int(at.timestamp() * 1e6), id=id, environment="production", api="berths", version="1", method="POST",
        operation="post /berths/{id}/holds", path="/berths/v1/berths/corran-1/holds", status=403,
        reason="not-in-group", organization="tern-trips", application="island-planner", address="192.0.2.9",
    )  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        make_partitions(connection, at.date(), at.date())
        take_in(connection, [Batch("b1", "n1", [made])])
    assert admin.get(f"/traffic/find?id={id}").location == f"/traffic/calls/{id}"
    assert "no call with this id" in admin.get("/traffic/find?id=0123").text
    described = {"application": planner.id, "at": at.strftime("%H:%M"), "status": "403"}
    assert id in admin.get("/traffic/find", query_string=described).text
    assert "No call like that" in admin.get("/traffic/find", query_string=described | {"status": "200"}).text
    assert "is not a time" in admin.get("/traffic/find?at=teatime").text
    entry = {"stage": "permit", "title": "Groups", "verdict": "refused", "policy": "groups", "us": 4.0, "reads": [],
             "placement": "berths/1/post /berths/{id}/holds", "text": "none of harbour", "changes": []}  # fmt: skip
    body = {"entries": [entry], "headers": [["accept", "*/*"]], "note": "", "by": "", "status": 403}
    world.add(Trace(call=id, environment="production", body=body))
    world.commit()
    page = admin.get(f"/traffic/calls/{id}").text
    for said in ("refused it: none of harbour", "island-planner of tern-trips", 'class="slip verdict refused"'):
        assert said in page
    assert "The backend was not asked." in page
    bench = re.search(r'href="(/apis/berths/1/bench/[^"]+)"', admin.get(f"/traffic/calls/{id}").text)
    assert bench is None  # it has a trace
    again = (
        f"/apis/berths/1/bench/?operation=post+/berths/{{id}}/holds&path={made.path.replace('corran-1', 'brae%20x')}"
    )
    assert 'name="p.path.id" value="brae x"' in admin.get(again).text


def test_tracing_is_asked_for_and_shown(admin: FlaskClient, world: Session, planner: Application) -> None:
    assert admin.post("/traffic/traces/share", data={"share": "0.01"}).status_code == 303
    assert admin.post("/traffic/traces/share", data={"share": "lots"}).status_code == 422
    assert "is not possible" in admin.post("/traffic/traces/share", data={"share": "0.9"}, follow_redirects=True).text
    watched = admin.post(
        "/traffic/traces/watch", data={"application": planner.id, "minutes": "15"}, follow_redirects=True
    )
    assert "All calls of Island Planner are traced" in watched.text
    assert tracing.share(world, "production") == 0.01
    assert audit(world, "watch")
    refused = admin.post(
        "/traffic/traces/watch", data={"application": planner.id, "minutes": "x"}, follow_redirects=True
    )
    assert "at most an hour" in refused.text


def test_support_sends_calls_but_does_not_touch_secrets(console: FlaskClient) -> None:
    sign_in(console, "s.heath@skerry.example", "lichen-grey-23")
    assert "Set or rotate" not in console.get("/settings/secrets/").text
    assert console.post("/settings/secrets/", data={"name": "a", "value": "b"}).status_code == 403
    assert "Send the call" in console.get("/apis/berths/1/bench/").text


def test_explain_counts_a_client_of_the_sign_in_service_among_what_can_be_shown(
    admin: FlaskClient, world: Session, planner: Application, passengers: Passengers
) -> None:
    query = {"operation": "get /berths", "application": planner.id}

    def asked() -> str:
        return admin.get("/apis/berths/1/explain/", query_string=query).text

    assert "access token, and the application has none in force" in asked()
    passengers.phone.application_id = planner.id
    world.add(passengers.phone)
    world.commit()
    assert "has 1 client in force that is taken here" in asked()


def test_a_backend_over_tls_is_tested_with_its_authority_and_the_certificate_it_is_shown(
    admin: FlaskClient, world: Session, settings: Settings, tmp_path: Path
) -> None:
    authority = Authority(tmp_path)
    backend = SecureBackend(authority.sign("backend.pem", "localhost"), authority.path)
    crew = authority.sign("crew.pem", "crew").read_text()
    form = {
        "name": "crew", "targets": f"https://localhost:{backend.port}", "verify_tls": "yes", "act": "test",
        "authorities": authority.pem, "certificate_secret": "crew-certificate",
    }  # fmt: skip
    try:
        assert "has no value for production" in admin.post("/backends/new", data=form).text
        secret = {"name": "crew-certificate", "value": crew}
        admin.post("/settings/secrets/", data=secret)
        assert "may not be shown to https://localhost" in admin.post("/backends/new", data=form).text
        admin.post("/settings/secrets/", data=secret | {"hosts": "localhost"})
        assert "answered 200" in admin.post("/backends/new", data=form).text
        assert "PRIVATE KEY" not in admin.post("/backends/new", data=form).text
        admin.post("/settings/secrets/", data=secret | {"value": "no certificate at all"})
        assert "holds no certificate with its key in PEM" in admin.post("/backends/new", data=form).text
    finally:
        backend.close()


@pytest.mark.parametrize(
    ("change", "words"),
    [({"authorities": "x"}, "no certificate can be read"), ({"verify_tls": ""}, "certificates are not verified"),
     ({"targets": "http://127.0.0.1:9"}, "shown over TLS alone")],
)  # fmt: skip
def test_what_cannot_be_of_tls_is_told_at_its_field(
    admin: FlaskClient, tmp_path: Path, change: dict[str, str], words: str
) -> None:
    form = {"name": "crew", "targets": "https://localhost:9", "verify_tls": "yes", "act": "save",
            "authorities": Authority(tmp_path).pem, "certificate_secret": "crew-certificate"}  # fmt: skip
    changed = {name: value for name, value in (form | change).items() if value}
    answer = admin.post("/backends/new", data=changed)
    assert answer.status_code == 422
    assert words in answer.text
