"""What lasts of protection: sealed secrets, credentials of every kind, signing keys, key sets, traces."""

import json
import time
from datetime import timedelta
from pathlib import Path
from typing import Any

import psycopg
import pytest
from joserfc import jwt
from joserfc.jwk import OctKey
from sqlalchemy import Engine, text
from sqlmodel import Session, select

from core.protected import KEY, KEY_SET
from tamarack.core.configuration.model import Configuration, check_in, least_secrets
from tamarack.core.http.reach import Reach
from tamarack.core.identity.callers import CallerDirectory
from tamarack.core.identity.credentials import CredentialKeys
from tamarack.core.identity.jose import BadToken, key_of_secret, keys_of_set, verify
from tamarack.core.identity.material import Material
from tamarack.core.identity.sealing import NotSealedHere, seal, unseal
from tamarack.core.identity.secret_facts import may_go_to, read_hosts
from tamarack.core.identity.signed_keys import check_signed_key
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications.credentials import Wanted
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import COMMAND_LINE, latest
from tamarack.store.columns import now
from tamarack.store.draft import queries as drafting
from tamarack.store.errors import NotPossible
from tamarack.store.keys import key_sets, signing
from tamarack.store.keys.key_set_table import KeySet
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.queries import NotFit
from tamarack.store.rollouts.tables import FeedItem
from tamarack.store.secrets import queries as secrets
from tamarack.store.traffic import traces as tracing
from tamarack.worker.key_sets import fetch
from tamarack.worker.ship import ship_beside

SEALING = bytes(range(32))
KEYS = CredentialKeys(bytes(32), SEALING)


def feed(session: Session) -> list[tuple[str, str, Any]]:
    return [(one.kind, one.key, one.body) for one in session.exec(select(FeedItem).order_by(FeedItem.seq))]  # type: ignore[arg-type]


def node(session: Session, environment: str = "production") -> tuple[CallerDirectory, Material]:
    """What a node of an environment makes of the feed."""
    directory = CallerDirectory(KEYS.pepper, environment)
    material = Material(environment, lambda sealed, about: unseal(sealed, SEALING, about))
    for kind, key, body in feed(session):
        directory.apply(kind, key, body)
        material.apply(kind, key, body)
    return directory, material


@pytest.fixture
def application(session: Session) -> Application:
    owner = Organization(name="tern-trips", title="Tern Trips")
    session.add(owner)
    session.flush()
    return subscribing.make_application(session, COMMAND_LINE, owner, "Island Planner")


def test_a_sealed_value_opens_only_with_its_key_and_for_what_it_is_about() -> None:
    sealed = seal(b"value", SEALING, bytes(12), "secret a")
    assert unseal(sealed, SEALING, "secret a") == b"value"
    for key, about, text_ in (
        (bytes(32), "secret a", sealed), (SEALING, "secret b", sealed), (SEALING, "secret a", sealed[:-4] + "AAA="),
        (SEALING, "secret a", "?"), (SEALING, "secret a", ""),
    ):  # fmt: skip
        with pytest.raises(NotSealedHere, match=about):
            unseal(text_, key, about)


def test_a_secret_lies_sealed_everywhere_and_opens_in_a_node(session: Session, engine: Engine) -> None:
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "very-secret-value")
    session.commit()
    with engine.connect() as connection:
        for table in ("secret", "secret_value", "feed_item", "audit_entry"):
            rows = connection.execute(text(f"SELECT to_jsonb(t)::text FROM {table} t")).scalars().all()
            assert rows
            assert "very-secret-value" not in "".join(rows)
    assert node(session)[1].secret("register").value == b"very-secret-value"


def test_rotating_a_secret_keeps_the_value_before_for_its_overlap(session: Session) -> None:
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "first")
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "second", overlap=timedelta(hours=1))
    holder = node(session)[1].secret("register")
    assert holder.value == b"second"
    assert holder.accepted(time.time()) == [b"second", b"first"]
    assert holder.accepted(time.time() + 3601) == [b"second"]
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "third")
    assert node(session)[1].secret("register").accepted(time.time()) == [b"third", b"first"]
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "of test", environment="test")
    assert node(session, "test")[1].secret("register").value == b"of test"
    assert node(session)[1].secret("register").value == b"third"
    for old in secrets.values_of(session, "register"):
        if old.until is not None:
            old.until = now() - timedelta(seconds=1)
            session.add(old)
    assert secrets.drop_old_values(session) == 1
    assert secrets.drop_old_values(session) == 0
    secrets.remove_secret(session, COMMAND_LINE, "register")
    assert node(session)[1].secret("register").value == b""
    assert [entry.action for entry in latest(session)][:3] == ["remove secret", "set secret", "rotate secret"]


@pytest.mark.parametrize(
    ("name", "value", "field"),
    [("Big Name", "x", "name"), ("a", "", "value"), ("a", "two\nlines", "value"), ("a", "x" * 20_000, "value")],
)
def test_what_is_no_secret_says_which_field(session: Session, name: str, value: str, field: str) -> None:
    with pytest.raises(NotPossible) as caught:
        secrets.set_secret(session, COMMAND_LINE, SEALING, name, value)
    assert caught.value.field == field
    assert value not in str(caught.value) or not value


def test_nothing_is_rolled_out_while_a_secret_that_it_names_is_not_set(session: Session) -> None:
    made: Any = {"backends": [{"name": "b", "targets": [{"address": "http://127.0.0.1:1"}], "sign_in": "bearer",
                          "sign_in_secret": "register"}]}  # fmt: skip
    drafting.replace_all(session, COMMAND_LINE, Configuration.model_validate(made), remove_others=True)
    with pytest.raises(NotFit, match="backend b: the secret 'register' is not set for production"):
        rolling.roll_out(session, COMMAND_LINE, "production")
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "x", environment="test")
    assert check_in(Configuration.model_validate(made), "production", secrets.facts_for(session, "production"))
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "x")
    with pytest.raises(NotFit, match=r"'register' may not be sent to http://127\.0\.0\.1:1"):
        rolling.roll_out(session, COMMAND_LINE, "production")
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "x", hosts=["127.0.0.1:2", "register.example"])
    with pytest.raises(NotFit, match="may not be sent"):
        rolling.roll_out(session, COMMAND_LINE, "production")
    secrets.set_secret(session, COMMAND_LINE, SEALING, "register", "x", hosts=["127.0.0.1:1"])
    assert rolling.roll_out(session, COMMAND_LINE, "production").number
    made["backends"][0]["targets"] = [{"address": "http://127.0.0.1:2", "secret": "own"}]
    drafting.replace_all(session, COMMAND_LINE, Configuration.model_validate(made), remove_others=True)
    secrets.set_secret(session, COMMAND_LINE, SEALING, "own", "x", hosts=["127.0.0.1:1"])
    with pytest.raises(NotFit, match=r"'own' may not be sent to http://127\.0\.0\.1:2"):
        rolling.roll_out(session, COMMAND_LINE, "production")


def test_each_kind_of_credential_is_known_to_nodes_by_its_hash_alone(
    session: Session, application: Application
) -> None:
    values = []
    for kind in ("api-key", "client-secret", "signed-key"):
        made = credentials.make_credential(session, COMMAND_LINE, KEYS, application, "production", Wanted(kind))  # type: ignore[arg-type]
        values.append(made)
        assert made.credential.sealed is None
        assert made.value not in json.dumps(feed(session))
    key, client, signed = values
    directory, material = node(session)
    known = directory.finder("api-key")(key.value.encode())
    assert known is not None
    assert known.application == "island-planner"
    assert directory.finder("client-secret")(f"{client.credential.public}\0{client.value}".encode())
    assert directory.finder("api-key")(client.value.encode()) is None
    _, id = check_signed_key(signed.value.encode(), material.signing.keys, "production", time.time())
    assert directory.finder("signed-key")(id)
    assert node(session, "test")[0].finder("api-key")(key.value.encode()) is None


def test_an_outside_identity_belongs_to_one_application_in_each_environment(
    session: Session, application: Application
) -> None:
    wanted = Wanted("outside-identity", issuer="https://id.example", name="berth-board")
    first = credentials.make_credential(session, COMMAND_LINE, KEYS, application, "production", wanted)
    assert first.value == ""
    credentials.make_credential(session, COMMAND_LINE, KEYS, application, "test", wanted)
    with pytest.raises(NotPossible, match="already an identity of Island Planner"):
        credentials.make_credential(session, COMMAND_LINE, KEYS, application, "production", wanted)
    credentials.revoke_credential(session, COMMAND_LINE, first.credential)
    again = credentials.make_credential(session, COMMAND_LINE, KEYS, application, "production", wanted)
    assert again.credential.id != first.credential.id
    with pytest.raises(NotPossible, match="no value of its own"):
        credentials.rotate_credential(session, COMMAND_LINE, KEYS, again.credential, timedelta(0))
    with pytest.raises(NotPossible, match="1 to 200"):
        credentials.make_credential(session, COMMAND_LINE, KEYS, application, "test", Wanted("outside-identity"))


@pytest.mark.parametrize("kind", ["api-key", "client-secret", "signed-key"])
def test_rotating_makes_one_like_it_and_ends_the_old_one_after_the_overlap(
    session: Session, application: Application, kind: Any
) -> None:
    wanted = Wanted(kind, "ci", now() + timedelta(days=10), ("192.0.2.0/24",), ("https://a.example",))
    old = credentials.make_credential(session, COMMAND_LINE, KEYS, application, "production", wanted).credential
    new = credentials.rotate_credential(session, COMMAND_LINE, KEYS, old, timedelta(hours=1)).credential
    assert (new.kind, new.label, new.addresses, new.sites) == (kind, "ci", ["192.0.2.0/24"], ["https://a.example"])
    assert new.expires_at is not None
    assert old.expires_at is not None
    assert new.expires_at - now() > timedelta(days=9)
    assert old.expires_at - now() < timedelta(hours=1, seconds=1)
    assert (old.replaced_by, old.revoked_at) == (new.id, None)
    with pytest.raises(NotPossible, match="rotated already"):
        credentials.rotate_credential(session, COMMAND_LINE, KEYS, old, timedelta(0))
    last = credentials.rotate_credential(session, COMMAND_LINE, KEYS, new, timedelta(0)).credential
    assert new.revoked_at is not None
    with pytest.raises(NotPossible, match="revoked"):
        credentials.rotate_credential(session, COMMAND_LINE, KEYS, new, timedelta(0))
    with pytest.raises(NotPossible, match="30 days"):
        credentials.rotate_credential(session, COMMAND_LINE, KEYS, last, timedelta(days=31))


def test_a_credential_is_changed_within_its_bounds(session: Session, application: Application) -> None:
    signed = credentials.make_credential(
        session, COMMAND_LINE, KEYS, application, "production", Wanted("signed-key")
    ).credential
    assert signed.expires_at is not None
    shorter = Wanted(label="x", expires_at=now() + timedelta(days=1))
    credentials.change_credential(session, COMMAND_LINE, signed, shorter)
    for wrong, said in (
        (Wanted(expires_at=now() + timedelta(days=9)), "moved forward, not back"), (Wanted(), "moved forward, not back"),
        (Wanted(expires_at=now() - timedelta(days=1)), "has passed"),
        (Wanted(expires_at=signed.expires_at, addresses=("10.0.0.1/8",)), "write the network itself"),
        (Wanted(expires_at=signed.expires_at, sites=("*",)), "let every site in"),
    ):  # fmt: skip
        with pytest.raises(NotPossible, match=said):
            credentials.change_credential(session, COMMAND_LINE, signed, wrong)
    with pytest.raises(NotPossible, match="two years"):
        far = Wanted("signed-key", expires_at=now() + timedelta(days=800))
        credentials.make_credential(session, COMMAND_LINE, KEYS, application, "production", far)
    credentials.revoke_credential(session, COMMAND_LINE, signed)
    with pytest.raises(NotPossible, match="cannot be changed"):
        credentials.change_credential(session, COMMAND_LINE, signed, Wanted())


def test_a_second_look_is_for_organizations_that_allow_it_and_each_is_recorded(
    session: Session, application: Application
) -> None:
    owner = session.get(Organization, application.organization_id)
    assert owner is not None
    before = credentials.make_credential(session, COMMAND_LINE, KEYS, application, "test").credential
    subscribing.set_may_look_again(session, COMMAND_LINE, owner, allowed=True)
    made = credentials.make_credential(session, COMMAND_LINE, KEYS, application, "test")
    assert credentials.look_again(session, COMMAND_LINE, KEYS, made.credential) == made.value
    assert latest(session)[0].action == "look at credential"
    assert made.value not in str(made.credential.sealed)
    with pytest.raises(NotPossible, match="was not kept"):
        credentials.look_again(session, COMMAND_LINE, KEYS, before)
    with pytest.raises(NotPossible, match="cannot be shown"):
        credentials.look_again(session, COMMAND_LINE, CredentialKeys(bytes(32), bytes(32)), made.credential)
    assert credentials.forget_values(session, owner) == 1
    with pytest.raises(NotPossible, match="was not kept"):
        credentials.look_again(session, COMMAND_LINE, KEYS, made.credential)


def test_groups_come_from_the_application_and_its_organization(session: Session, application: Application) -> None:
    owner = session.get(Organization, application.organization_id)
    assert owner is not None
    subscribing.set_application_groups(session, COMMAND_LINE, application, ["harbour", "harbour", " "])
    subscribing.set_organization_groups(session, COMMAND_LINE, owner, ["partners"])
    caller = node(session)[0].application("tern-trips/island-planner")
    assert caller is not None
    assert caller.groups == {"harbour", "partners"}
    with pytest.raises(NotPossible, match="is not a group's name"):
        subscribing.set_application_groups(session, COMMAND_LINE, application, ["Two Words"])


def test_signing_keys_are_rotated_and_retired(session: Session, application: Application) -> None:
    first = credentials.make_credential(session, COMMAND_LINE, KEYS, application, "production", Wanted("signed-key"))
    old = signing.signing_keys(session)[0]
    new = signing.rotate(session, COMMAND_LINE, SEALING)
    second = credentials.make_credential(session, COMMAND_LINE, KEYS, application, "production", Wanted("signed-key"))
    held = node(session)[1].signing
    for made in (first, second):
        assert check_signed_key(made.value.encode(), held.keys, "production", time.time())
    assert all("d" not in one.public for one in signing.signing_keys(session))
    signing.retire(session, COMMAND_LINE, old)
    kept = node(session)[1].signing
    assert [key.kid for key in kept.keys] == [new.kid]


def test_key_sets_of_a_rollout_are_fetched_and_reach_the_nodes(
    session: Session, settings: Settings, engine: Engine, monkeypatch: pytest.MonkeyPatch
) -> None:
    from tamarack.worker import key_sets as module

    said: list[str] = []
    answers: dict[str, Any] = {}

    def answer(url: str, reach: Reach, timeout_s: float) -> str:
        found = answers["now"]
        if isinstance(found, Exception):
            raise found
        return str(found)

    monkeypatch.setattr(module, "fetch_text", answer)
    key_sets.note_used(session, [KEY_SET])
    session.commit()
    good = json.dumps({"keys": [KEY.as_dict(private=False)]})
    for answers["now"], problem in (
        (good, ""), ("not json", "is not a key set"), ("{}", "JWK Set"), ('{"keys": []}', "no key that can verify"),
        (module.NotReached("no connection"), "no connection"), ("[" * 60_000, "deep"), ("x" * 600_000, "at most"),
        ('{"keys": [{"kty": "oct", "k": "\\u0000"}]}', "no key that can verify"),
    ):  # fmt: skip
        fetch(engine, settings, KEY_SET, said.append)
        session.expire_all()
        kept = session.get(KeySet, KEY_SET)
        assert kept is not None
        assert problem in kept.problem
        assert keys_of_set(kept.jwks)  # what was fetched before stays
    assert [key.kid for key in node(session)[1].key_set(KEY_SET).keys] == ["k1"]


def test_traces_are_kept_once_and_found_by_their_call(
    session: Session, engine: Engine, settings: Settings, tmp_path: Path
) -> None:
    body = {"call": "c1", "at": time.time(), "environment": "production", "application": "a/b", "by": "", "status": 200,
            "reason": "", "entries": [], "headers": []}  # fmt: skip
    said: list[str] = []
    spool = tmp_path / "n1" / "spool"
    spool.mkdir(parents=True)
    with psycopg.connect(settings.database, autocommit=True) as connection:
        for number in range(2):
            batch = spool / f"b{number}.traces"
            batch.write_text(json.dumps([body]))
            assert ship_beside(connection, batch, said.append) == 1
            assert not batch.exists()
        broken = spool / "b9.traces"
        broken.write_text("[{}]")
        assert ship_beside(connection, broken, said.append) == 0
        assert (spool / "broken" / "b9.traces").exists()
    kept = tracing.trace_of(session, "c1")
    assert kept is not None
    assert [one.call for one in tracing.latest(session, "production")] == ["c1"]


def test_what_is_traced_reaches_the_nodes_and_ends(session: Session, application: Application) -> None:
    tracing.set_share(session, COMMAND_LINE, "production", 0.01)
    tracing.watch(session, COMMAND_LINE, "production", application, timedelta(minutes=5))
    held = node(session)[1].tracing
    assert (held.on, held.share, list(held.watched)) == (True, 0.01, [application.id])
    assert not node(session, "test")[1].tracing.on
    tracing.set_share(session, COMMAND_LINE, "production", 0)
    tracing.watch(session, COMMAND_LINE, "production", application, timedelta(0))
    assert tracing.drop_ended(session) == 1
    assert not node(session)[1].tracing.on
    for wrong in (-0.1, 0.5):
        with pytest.raises(NotPossible, match="is not possible"):
            tracing.set_share(session, COMMAND_LINE, "production", wrong)
    with pytest.raises(NotPossible, match="at most an hour"):
        tracing.watch(session, COMMAND_LINE, "production", application, timedelta(hours=2))


@pytest.mark.parametrize(("algorithm", "least"), [("HS256", 32), ("HS384", 48), ("HS512", 64)])
def test_a_shared_secret_is_as_long_as_its_algorithm_asks_for(session: Session, algorithm: str, least: int) -> None:
    """RFC 7518, 3.2: checked when it is kept, when it is rolled out, and when it is used."""
    policy = {
        "kind": "jwt",
        "name": "jwt",
        "algorithms": [algorithm],
        "secret": "shared",
        "issuer": "i",
        "audience": ["a"],
    }
    made = Configuration.model_validate({"everywhere": [policy]})
    assert least_secrets(made) == {"shared": least}
    with pytest.raises(NotPossible, match=f"has {least - 1} bytes; tokens signed with it ask for {least}"):
        secrets.set_secret(session, COMMAND_LINE, SEALING, "shared", "x" * (least - 1), least=least)
    secrets.set_secret(session, COMMAND_LINE, SEALING, "shared", "x" * (least - 1))
    problems = check_in(made, "test", secrets.facts_for(session, "test"))
    assert [f"has {least - 1} bytes" in one.message for one in problems] == [True]
    secrets.set_secret(session, COMMAND_LINE, SEALING, "shared", "x" * least)
    assert check_in(made, "test", secrets.facts_for(session, "test")) == []
    short = key_of_secret(b"x" * (least - 1))
    token = jwt.encode({"alg": algorithm}, {"iss": "i"}, OctKey.import_key(b"x" * (least - 1)), algorithms=[algorithm])
    with pytest.raises(BadToken, match=f"a secret of at least {least} bytes"):
        verify(token.encode(), [short], [algorithm], named=False)


@pytest.mark.parametrize(
    ("hosts", "address", "may"),
    [
        (["register.example"], "https://register.example/x", True), (["register.example"], "http://Register.Example.:81", True),
        (["register.example:443"], "https://register.example", True), (["register.example:443"], "http://register.example", False),
        (["register.example"], "https://register.example.evil.example", False), ([], "https://register.example", False),
        (["[fd00::7]:8443"], "https://[fd00::7]:8443/a", True), (["fd00::7"], "https://[fd00::7]", False),
        (["register.example"], "https://register.example:99999", False),
        (["register.example"], "https://a@register.example.evil.example", False),
    ],
)  # fmt: skip
def test_a_secret_goes_to_its_hosts_alone(hosts: list[str], address: str, may: bool) -> None:
    assert may_go_to(hosts, address) is may


def test_hosts_are_read_as_hosts() -> None:
    assert read_hosts(["Register.Example", "10.1.0.7:8443", "register.example."]) == (
        "register.example",
        "10.1.0.7:8443",
    )
    for wrong in ("https://register.example", "a b", "*", "a:0", "fd00::7"):
        with pytest.raises(ValueError, match="is not a host"):
            read_hosts([wrong])
