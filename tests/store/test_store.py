"""What lasts: migrations, the draft and its undoing, rollouts, the feed, recorded batches."""

import os
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
import pytest
from sqlalchemy import Engine, text
from sqlalchemy.exc import ProgrammingError
from sqlmodel import Session, select

from core.traffic.test_traffic import record
from tamarack.core.configuration.backend import Backend
from tamarack.core.identity.credentials import CredentialKeys
from tamarack.core.traffic.record import FIELDS
from tamarack.core.traffic.rollup import GRAINS
from tamarack.settings import Settings
from tamarack.start.postgres import Cluster
from tamarack.start.up import own_folder
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import credentials
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.tables import Application, Credential
from tamarack.store.audit.log import COMMAND_LINE, latest
from tamarack.store.draft import queries as drafting
from tamarack.store.engine import make_engine
from tamarack.store.errors import NotPossible
from tamarack.store.feed import items as feeding
from tamarack.store.migrate import drift, migrate
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.tables import FeedItem
from tamarack.store.schema_version import is_ready, newest_version
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic.partitions import drop_partitions, make_partitions
from tamarack.store.traffic.recording import Batch, rebuild_rollups, take_in
from tamarack.store.traffic.tables import CallRow


def backend(name: str = "timetable", ms: int = 1000) -> Backend:
    return Backend.model_validate({"name": name, "targets": [{"address": "http://127.0.0.1:1"}], "read_timeout_ms": ms})


def test_the_migrations_lead_to_the_tables_and_can_run_again(engine: Engine) -> None:
    migrate(engine)
    assert drift(engine) == []


def test_what_is_stored_before_a_migration_is_there_after_it(cluster: Cluster) -> None:
    cluster.drop_database("older")
    cluster.make_database("older")
    engine = make_engine(cluster.url("older"))
    migrate(engine, "0001")
    with engine.begin() as connection:
        connection.execute(text("INSERT INTO organization VALUES ('o', 'tern', 'Tern', 'partner', true, now())"))
        values = "('a', 'o', 'kiosk', 'Kiosk', '', true, now(), '')"
        connection.execute(text(f"INSERT INTO application VALUES {values}"))
        values = "('c', 'a', 'test', 'ci', 'd1', 'tmk_a…b', now(), '', null, null, null)"
        connection.execute(text(f"INSERT INTO credential VALUES {values}"))
        values = "('s', 'a', 'passage', 'skiff', 'test', 'active', '', '2026-11-01Z', '', now())"
        connection.execute(text(f"INSERT INTO subscription VALUES {values}"))
        connection.execute(text("INSERT INTO feed_item VALUES ('subscription', 's', 7, '{\"plan\": \"skiff\"}')"))
    migrate(engine)
    with Session(engine) as session:
        kept = session.get(Credential, "c")
        assert kept is not None
        assert (kept.kind, kept.label, kept.addresses, kept.sealed) == ("api-key", "ci", [], None)
        assert session.exec(select(Organization)).one().may_look_again is False
        told = session.get(FeedItem, ("subscription", "s"))
        assert told is not None
        assert told.seq > 7  # nodes hear of it again
        assert told.body == {"plan": "skiff", "since": datetime(2026, 11, 1, tzinfo=UTC).timestamp()}
    engine.dispose()
    cluster.drop_database("older")


def test_a_database_is_ready_when_it_has_the_schema_and_someone_to_sign_in(
    settings: Settings, session: Session
) -> None:
    assert newest_version() == "0029"
    assert not is_ready(settings.database)
    session.add(Staff(email="a@skerry.example", name="A", role="analyst", password_hash="x"))
    session.commit()
    assert is_ready(settings.database)
    session.connection().execute(text("DROP TABLE alembic_version"))
    session.commit()
    assert not is_ready(settings.database)


def test_an_edit_can_be_undone_until_someone_edits_again(session: Session) -> None:
    first = drafting.save(session, COMMAND_LINE, "backend", "timetable", backend(), "added")
    second = drafting.save(session, COMMAND_LINE, "backend", "timetable", backend(ms=2000), "slower")
    assert first is not None
    assert second is not None
    assert second.id is not None
    assert first.id is not None
    with pytest.raises(drafting.EditedMeanwhile):
        drafting.undo(session, COMMAND_LINE, first.id)
    drafting.undo(session, COMMAND_LINE, second.id)
    assert drafting.load_configuration(session).backends == (backend(),)
    with pytest.raises(LookupError):
        drafting.undo(session, COMMAND_LINE, second.id)
    drafting.undo(session, COMMAND_LINE, first.id)
    assert drafting.load_configuration(session).backends == ()


def test_an_edit_on_an_old_revision_is_refused_and_loses_nothing(session: Session) -> None:
    drafting.save(session, COMMAND_LINE, "backend", "timetable", backend(), "added", expected=0)
    drafting.save(session, COMMAND_LINE, "backend", "timetable", backend(ms=2000), "slower", expected=1)
    with pytest.raises(drafting.EditedMeanwhile, match="command line"):
        drafting.save(session, COMMAND_LINE, "backend", "timetable", backend(ms=3000), "mine", expected=1)
    assert drafting.load_configuration(session).backends == (backend(ms=2000),)


def test_saving_what_is_there_already_is_no_change(session: Session) -> None:
    drafting.save(session, COMMAND_LINE, "backend", "timetable", backend(), "added")
    mark = drafting.mark(session)
    assert drafting.save(session, COMMAND_LINE, "backend", "timetable", backend(), "again") is None
    assert drafting.mark(session) == mark


def test_a_rollout_is_numbered_and_brings_back_what_ran(world: Session) -> None:
    before = rolling.running(world, "production")
    assert before is not None
    assert before.number is not None
    drafting.save(world, COMMAND_LINE, "product", "fleet", None, "removed")
    newer = rolling.roll_out(world, COMMAND_LINE, "production")
    assert newer.number is not None
    assert newer.number > before.number
    back = rolling.roll_back(world, COMMAND_LINE, before.number)
    assert back.back_to == before.number
    assert back.snapshot == before.snapshot
    assert rolling.running_configuration(world, "production").product("fleet") is not None
    assert rolling.before(world, newer) == before


def test_a_draft_with_problems_is_not_rolled_out(world: Session) -> None:
    drafting.save(world, COMMAND_LINE, "backend", "timetable", None, "removed")
    with pytest.raises(rolling.NotFit, match="no backend 'timetable'"):
        rolling.roll_out(world, COMMAND_LINE, "test")


def make_application(session: Session) -> Application:
    owner = subscribers.organization_named(session, "tern-trips")
    assert owner is not None
    return subscribing.make_application(session, COMMAND_LINE, owner, "Night Planner")


def test_the_feed_holds_the_newest_state_in_an_order_without_gaps(world: Session) -> None:
    application = make_application(world)
    offered = rolling.running_configuration(world, "production")
    made = credentials.make_credential(
        world, COMMAND_LINE, CredentialKeys(bytes(32), bytes(32)), application, "production"
    )
    subscription = subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "skiff", "production")
    credentials.revoke_credential(world, COMMAND_LINE, made.credential)
    subscribing.set_subscription_state(world, COMMAND_LINE, subscription, "paused")
    items = {item.key: item for item in world.exec(select(FeedItem))}
    assert items[made.credential.id].body is not None
    assert items[made.credential.id].body["revoked"] is True  # type: ignore[index]
    assert items[subscription.id].body["state"] == "paused"  # type: ignore[index]
    assert sorted(item.seq for item in items.values())[-1] == 6
    assert made.value not in str([item.body for item in items.values()])


def test_pausing_an_organization_reaches_each_of_its_applications(world: Session) -> None:
    application = make_application(world)
    owner = world.get(Organization, application.organization_id)
    assert owner is not None
    subscribing.set_organization_active(world, COMMAND_LINE, owner, False)
    item = world.get(FeedItem, ("application", application.id))
    assert item is not None
    assert item.body is not None
    assert item.body["paused"] is True


def test_two_writers_of_the_feed_cannot_leave_a_gap_that_is_filled_later(engine: Engine, world: Session) -> None:
    """A number is given out only when every lower one is committed."""
    application = make_application(world)
    with Session(engine) as other:
        other.connection().execute(text("SET lock_timeout = '200ms'"))
        organization = Organization(name="other", title="Other")
        other.add(organization)
        other.flush()
        stranger = Application(organization_id=organization.id, name="x", title="X")
        other.add(stranger)
        other.flush()
        with pytest.raises(Exception, match="lock timeout"):
            feeding.publish_application(other, stranger)
        other.rollback()
    world.commit()
    assert application.id


def test_subscribing_twice_or_to_what_is_not_offered_is_refused(world: Session) -> None:
    application = make_application(world)
    offered = rolling.running_configuration(world, "production")
    subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "skiff", "production")
    with pytest.raises(NotPossible, match="already has a subscription"):
        subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "cutter", "production")
    with pytest.raises(NotPossible, match="not offered"):
        subscribing.subscribe(world, COMMAND_LINE, offered, application, "passage", "yacht", "production")
    with pytest.raises(NotPossible, match="already has an application"):
        make_application(world)


def test_every_change_is_in_the_audit_log_and_no_credential_is(world: Session) -> None:
    application = make_application(world)
    made = credentials.make_credential(world, COMMAND_LINE, CredentialKeys(bytes(32), bytes(32)), application, "test")
    world.flush()
    entries = latest(world, most=200)
    assert {"make application", "make credential", "roll out", "draft"} <= {entry.action for entry in entries}
    assert made.value not in str([entry.details for entry in entries])


NOW = datetime(2026, 11, 23, 10, 30, tzinfo=UTC)


def calls(many: int, mark: str = "", **changes: object) -> list[object]:
    at = int(NOW.timestamp() * 1_000_000)
    return [
        record(at + place * 1000, 1000 + place, id=f"{(at + place) // 1000:011x}{place:09x}{mark}", environment="production",
               api="sailings", application="kiosk", **changes)
        for place in range(many)
    ]  # fmt: skip


def test_a_batch_that_comes_twice_counts_once(settings: Settings, session: Session) -> None:
    with psycopg.connect(settings.database, autocommit=True) as connection:
        assert take_in(connection, [Batch("b1", "n", calls(40))])  # type: ignore[arg-type]
        assert take_in(connection, [Batch("b1", "n", calls(40))]) == 0  # type: ignore[arg-type]
        assert take_in(connection, [Batch("b2", "n", calls(2, "x", status=429, reason="over-rate"))])  # type: ignore[arg-type]
    span = watching.Span(NOW - timedelta(hours=1), NOW + timedelta(hours=1), {"environment": "production"})
    found = watching.totals(session, span)
    assert (found.calls, found.answered, found.refused, found.failed) == (42, 40, 2, 0)
    assert found.classes == (40, 0, 2, 0)
    assert [one.calls for one in watching.refusals(session, span)] == [2]
    half = found.percentile(0.5)
    assert half is not None
    assert abs(half - 1020) < 15


def test_roll_ups_made_anew_from_the_calls_are_the_same(settings: Settings) -> None:
    with psycopg.connect(settings.database, autocommit=True) as connection:
        for batch in range(3):
            take_in(connection, [Batch(f"b{batch}", "n", calls(30, str(batch)))])  # type: ignore[arg-type]
        queries = [f"SELECT * FROM rollup_{grain} ORDER BY start, key" for grain in GRAINS]
        before = [connection.execute(query).fetchall() for query in queries]
        assert [sum(row[2] for row in rows) for rows in before] == [90] * len(GRAINS)
        day = NOW.replace(hour=0, minute=0)
        assert rebuild_rollups(connection, day - timedelta(days=3), day + timedelta(days=1)) == 90
        assert [connection.execute(query).fetchall() for query in queries] == before


def test_partitions_are_made_and_dropped_by_the_day(settings: Settings) -> None:
    with psycopg.connect(settings.database, autocommit=True) as connection:
        make_partitions(connection, NOW.date() - timedelta(days=2), NOW.date())
        make_partitions(connection, NOW.date(), NOW.date())
        assert drop_partitions(connection, "call", NOW.date()) == ["call_20261121", "call_20261122"]


def test_a_call_is_found_by_its_id_and_lists_page_by_key(settings: Settings, session: Session) -> None:
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("b1", "n", calls(30))])  # type: ignore[arg-type]
    first = watching.calls(session, watching.call_filter(environment="production"), most=20)
    rest = watching.calls(
        session, watching.call_filter(environment="production"), (first[-1].at, first[-1].id), most=20
    )
    assert len({call.id for call in [*first, *rest]}) == 30
    found = watching.find_call(session, first[3].id)
    assert found is not None
    assert found.id == first[3].id
    assert watching.find_call(session, "not-an-id") is None
    assert watching.calls(session, watching.call_filter(path="100%")) == []


def test_the_table_of_calls_has_the_fields_of_a_record() -> None:
    assert set(CallRow.model_fields) == {*FIELDS, "batch"}


def test_what_was_rolled_up_before_is_there_after_the_migration(cluster: Cluster) -> None:
    cluster.drop_database("rolled")
    cluster.make_database("rolled")
    engine = make_engine(cluster.url("rolled"))
    migrate(engine, "0005")
    key = "'production', 'sailings', '2', 'get /sailings', 200, '', 'tern-trips', 'kiosk', 'passage/cutter', 't'"
    sums = "3, 9000, 6000, 30, 300, ARRAY[200, 210], ARRAY[1, 2]"
    with engine.begin() as connection:
        for minute in range(70):
            at = datetime(2026, 11, 20, 9, tzinfo=UTC) + timedelta(minutes=minute)
            for grain, start in (("minute", at), ("hour", at.replace(minute=0))):
                if grain == "minute" or at.minute == 0:
                    connection.execute(text(
                        "INSERT INTO rollup (grain, start, environment, api, version, operation, status, reason, organization,"
                        " application, plan, target, calls, total_us, backend_us, request_bytes, response_bytes, buckets, counts)"
                        f" VALUES ('{grain}', '{start.isoformat()}', {key}, {sums})"
                    ))  # fmt: skip
    migrate(engine)
    with Session(engine) as session:
        day = watching.Span(datetime(2026, 11, 20, tzinfo=UTC), datetime(2026, 11, 21, tzinfo=UTC), {"api": "sailings"})
        part = watching.Span(datetime(2026, 11, 20, 9, 5, tzinfo=UTC), datetime(2026, 11, 20, 9, 7, tzinfo=UTC))
        ten = watching.Span(datetime(2026, 11, 20, 9, 10, tzinfo=UTC), datetime(2026, 11, 20, 9, 20, tzinfo=UTC))
        found = [watching.totals(session, span) for span in (day, part, ten)]
    assert [(one.calls, one.total_us) for one in found] == [(6, 18_000), (6, 18_000), (30, 90_000)]
    assert [one.histogram.total for one in found] == [6, 6, 30]
    assert found[0].histogram.by_bucket == {200: 2, 210: 4}
    engine.dispose()
    cluster.drop_database("rolled")


def test_the_programs_role_has_no_right_beyond_its_database_and_logs_show_no_parameters(session: Session) -> None:
    rights = "rolsuper, rolcreaterole, rolcreatedb, rolreplication, rolbypassrls"
    held = session.connection().execute(text(f"SELECT {rights} FROM pg_roles WHERE rolname = current_user")).one()
    assert list(held) == [False] * 5
    for setting in ("log_parameter_max_length", "log_parameter_max_length_on_error"):
        assert session.connection().execute(text(f"SHOW {setting}")).scalar_one() in ("0", "0B")
    with pytest.raises(ProgrammingError) as caught:
        session.connection().execute(text("SELECT no_such_column WHERE 'x' = :typed"), {"typed": "typed-by-someone"})
    assert "typed-by-someone" not in str(caught.value)


def test_state_is_its_owners_alone(tmp_path: Path) -> None:
    before = os.umask(0o022)
    try:
        home = tmp_path / "home"
        own_folder(home)
        assert home.stat().st_mode & 0o777 == 0o711
        (home / "logs").mkdir(mode=0o755)
        (home / "logs").chmod(0o755)
        own_folder(home)
        assert (home / "logs").stat().st_mode & 0o777 == 0o700
        (home / "logs" / "a.log").write_text("x")
        assert (home / "logs" / "a.log").stat().st_mode & 0o777 == 0o600
    finally:
        os.umask(before)
