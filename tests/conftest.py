"""What many tests share: one PostgreSQL cluster a process, a database as new for each test, and the web applications."""

import gc
import os
import re
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path
from types import CodeType
from typing import Any

import hypothesis
import psycopg
import pytest
from argon2 import PasswordHasher
from flask import Flask, Response
from flask.testing import FlaskClient
from jinja2.bccache import Bucket, BytecodeCache
from sqlalchemy import Engine
from sqlmodel import Session, select
from werkzeug.routing import Rule
from xdist.scheduler import LoadScopeScheduling

from databases import Databases
from helpers import free_port, until
from sign_in.passengers import passengers  # noqa: F401 - a fixture
from tamarack.config.documents import keep_documents
from tamarack.core.openapi.read import describe
from tamarack.demo.seed import shipped_configuration
from tamarack.demo.world import ORGANIZATIONS, STAFF
from tamarack.settings import Settings
from tamarack.start.postgres import Cluster
from tamarack.store import engine as store_engine
from tamarack.store.applications import queries as subscribers
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.draft import queries as drafting
from tamarack.store.engine import make_engine
from tamarack.store.migrate import migrate
from tamarack.store.people import passwords
from tamarack.store.people.sessions import begin_session
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Organization, Person
from tamarack.store.rollouts import queries as rolling
from tamarack.store.secrets.queries import set_secret
from tamarack.store.traffic import reading
from tamarack.web.people.signed_in import TOKEN

hypothesis.settings.register_profile("steady", deadline=None)  # how fast an example runs is no property of the code
hypothesis.settings.load_profile("steady")


_JOURNEYS = "tests/journeys/"
_FIRST = (_JOURNEYS, "tests/web/")
"""What takes longest begins first, so that nobody waits for it in the end."""
_BESIDE = 5
"""By how much other tests yield to the journeys (nice, POSIX.1)."""


class _JourneysTogether(LoadScopeScheduling):  # type: ignore[misc]
    """All journeys share one running demo: they go one after the other, beside the other tests. (Two demos at once take
    more of two cores than they save.)"""

    def _split_scope(self, nodeid: str) -> str:
        return "journeys" if nodeid.startswith(_JOURNEYS) else nodeid


@pytest.hookimpl(optionalhook=True)
def pytest_xdist_make_scheduler(config: pytest.Config, log: Any) -> LoadScopeScheduling:
    """Who runs which test, where `bin/test` has several processes for them."""
    config.option.loadscopereorder = False
    return _JourneysTogether(config, log)


def pytest_collection_modifyitems(items: list[pytest.Item]) -> None:
    """Put what takes longest first."""
    items.sort(key=lambda item: not item.nodeid.startswith(_FIRST))


_first = iter([True])


def pytest_runtest_logstart(nodeid: str) -> None:
    """The journeys are the longest way, and one process goes it: those beside it leave it the processor, and have it to
    themselves once it has arrived. Otherwise it would go its last minute alone, on one of two cores."""
    if next(_first, False) and "PYTEST_XDIST_WORKER" in os.environ and not nodeid.startswith(_JOURNEYS):
        os.nice(_BESIDE)


gc.disable()  # it finds nothing while all is imported


def pytest_collection_finish() -> None:
    """Keep the collector away from all that was imported: it lives as long as the run."""
    gc.collect()
    gc.freeze()
    gc.enable()


@pytest.fixture(scope="session")
def cluster() -> Iterator[Cluster]:
    """A running cluster with a migrated template, gone with the run."""
    in_memory = "/dev/shm" if os.access("/dev/shm", os.W_OK) and shutil.disk_usage("/dev/shm").free > 1e9 else None
    home = Path(tempfile.mkdtemp(prefix="tamarack-tests-", dir=in_memory))
    home.chmod(0o755)
    made = Cluster(home, free_port(), "only-for-tests")
    made.prepare()
    # Nobody else is here: what proving who one is takes (SCRAM, some 20 ms) would be most of many a test.
    (made.folder / "pg_hba.conf").write_text("host all all 127.0.0.1/32 trust\n")
    hasty = [
        "fsync=off",
        "full_page_writes=off",
        "synchronous_commit=off",
        "wal_level=minimal",
        "max_wal_senders=0",
        "jit=off",
        "autovacuum=off",
        "max_parallel_workers_per_gather=0",
    ]
    command = [*made.server_command(), *(part for one in hasty for part in ("-c", one))]
    with (home / "log").open("w") as log:
        server = subprocess.Popen(command, stdout=log, stderr=log)
    try:
        while not made.answers():
            assert server.poll() is None, (home / "log").read_text()
        made.make_roles()
        made.make_database("template_tamarack")
        engine = make_engine(made.url("template_tamarack"))
        migrate(engine)
        engine.dispose()
        yield made
    finally:
        server.send_signal(2)
        server.wait(30)
        shutil.rmtree(home, ignore_errors=True)
        shutil.rmtree(made.folder, ignore_errors=True)


@pytest.fixture(scope="session")
def redis_port() -> Iterator[int]:
    """A Redis server that keeps nothing on disk, gone with the run."""
    port = free_port()
    command = ["redis-server", "--port", str(port), "--bind", "127.0.0.1", "--save", "", "--appendonly", "no"]
    server = subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
    try:
        until(lambda: _listens(port), "the start of Redis")
        yield port
    finally:
        server.terminate()
        server.wait(10)


def _listens(port: int) -> bool:
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


@pytest.fixture(scope="session")
def databases(cluster: Cluster) -> Iterator[Databases]:
    """The databases that the tests of this process take one after the other."""
    _DATABASES.append(Databases(cluster))
    yield _DATABASES[-1]
    _DATABASES.pop().end()


@pytest.fixture
def settings(databases: Databases, tmp_path: Path, request: pytest.FixtureRequest) -> Iterator[Settings]:
    """Settings of an installation of its own: a home folder, and a migrated database, empty or with the world in it."""
    template = request.getfixturevalue("world_template") if "world" in request.fixturenames else "template_tamarack"
    with databases.taken(template) as url:
        yield Settings(home=tmp_path, database_url=url, reachable="127.0.0.0/8")


@pytest.fixture
def engine(settings: Settings) -> Iterator[Engine]:
    """The engine of the test's database."""
    made = make_engine(settings.database)
    yield made
    made.dispose()


@pytest.fixture
def session(engine: Engine) -> Iterator[Session]:
    """A session on the test's database."""
    with Session(engine) as opened:
        yield opened


@pytest.fixture
def calls_out_of_reach(settings: Settings, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """Whatever reads single calls waits for longer than it may: somebody holds their table."""
    monkeypatch.setattr(reading, "RAW_SECONDS", 0.05)
    with psycopg.connect(settings.database) as holder:
        holder.execute('LOCK TABLE "call" IN ACCESS EXCLUSIVE MODE')
        yield
        holder.rollback()


_QUICK = PasswordHasher(time_cost=1, memory_cost=8, parallelism=1)
"""Passwords are hashed with little work here: thousands of sign-ins verify them."""
passwords._HASHER, passwords._NOBODY = _QUICK, _QUICK.hash("no account has this password")


def _fill(session: Session) -> None:
    loaded = shipped_configuration(7400)
    keep_documents(session, loaded, describe)
    drafting.replace_all(session, COMMAND_LINE, loaded.configuration, remove_others=True)
    set_secret(session, COMMAND_LINE, bytes(32), "harbour-register", "only-for-tests", hosts=["127.0.0.1:7423"])
    for environment in ("test", "production"):
        rolling.roll_out(session, COMMAND_LINE, environment)
    for member in STAFF:
        session.add(
            Staff(email=member.email, name=member.name, role=member.role, password_hash=_QUICK.hash(member.password))
        )
    for described in ORGANIZATIONS:
        session.add(Organization(name=described.name, title=described.title, kind=described.kind))
        session.flush()
        owner = subscribers.organization_named(session, described.name)
        assert owner is not None
        for person in described.people:
            hashed = _QUICK.hash(person.password)
            session.add(
                Person(
                    organization_id=owner.id, email=person.email, name=person.name, role=person.role,
                    password_hash=hashed,
                )
            )  # fmt: skip
    session.commit()


@pytest.fixture(scope="session")
def world_template(cluster: Cluster) -> str:
    """A database that holds the world, made once a run and copied for each test."""
    name = "template_world"
    cluster.make_database(name, "template_tamarack")
    engine = make_engine(cluster.url(name))
    with Session(engine) as session:
        _fill(session)
    engine.dispose()
    return name


@pytest.fixture
def world(session: Session) -> Session:
    """The demo's configuration rolled out to both environments, its staff, organizations and people."""
    return session


class _Compiled(BytecodeCache):
    """Templates compiled once a run: each test has applications of its own, all of the same templates."""

    def __init__(self) -> None:
        self._kept: dict[str, CodeType | None] = {}

    def load_bytecode(self, bucket: Bucket) -> None:
        bucket.code = self._kept.get(bucket.key + bucket.checksum)

    def dump_bytecode(self, bucket: Bucket) -> None:
        self._kept[bucket.key + bucket.checksum] = bucket.code


_COMPILED = _Compiled()


_compile = Rule.compile
_RULES: dict[tuple[Any, ...], dict[str, Any]] = {}
_MADE = ("_parts", "_trace", "_converters", "arguments")


def _compile_once(rule: Rule) -> None:
    """Compile a rule of addresses once a run: each test has applications of its own, all with the same rules."""
    defaults = tuple(sorted((rule.defaults or {}).items()))
    key = (rule.rule, rule.subdomain, rule.host, defaults, rule.merge_slashes)
    found = _RULES.get(key)
    if found is None:
        _compile(rule)
        found = _RULES[key] = {name: getattr(rule, name) for name in _MADE}
        found["_build"], found["_build_unknown"] = rule._build.__func__, rule._build_unknown.__func__  # type: ignore[attr-defined]
        return
    for name in _MADE:
        setattr(rule, name, found[name])
    for name in ("_build", "_build_unknown"):
        setattr(rule, name, found[name].__get__(rule))


Rule.compile = _compile_once  # type: ignore[method-assign]

_create = store_engine.create_engine
_ENGINES: list[Engine] = []
_DATABASES: list[Databases] = []


def _create_alike(url: str, **kwargs: Any) -> Engine:
    """An engine that shares what the first one made of queries: tests have engines of their own, all alike. It waits
    for a connection as long as a busy machine takes. On a database that is kept it is kept too."""
    kwargs["connect_args"] = kwargs.get("connect_args", {}) | {"connect_timeout": 30}
    made = (_DATABASES[-1].engine(url, **kwargs) if _DATABASES else None) or _create(url, **kwargs)
    if not _ENGINES:
        _ENGINES.append(made)
    else:
        made.dialect, made._compiled_cache = _ENGINES[0].dialect, _ENGINES[0]._compiled_cache
    return made


store_engine.create_engine = _create_alike  # type: ignore[assignment]


_LINE_END = re.compile(r"\s*\n\s*")
_ENDS_IN_TEXT = re.compile(r"[^\s>]$")
_ENDS_IN_TAG = re.compile(r"</(?:a|b|code|span)>$")
_TEXT_BEGINS = re.compile(r"[^\s<]")
_TAG_BEGINS = re.compile(r"<(?:a|b|code|em|i|span|strong|time)\b")


def _joined(end: re.Match[str]) -> str:
    """A line that ends in the middle of text, or of a tag: a browser shows a blank."""
    before = end.string[max(0, end.start() - 7) : end.start()]
    after = end.string[end.end() : end.end() + 7]
    begins = _TEXT_BEGINS.match(after)
    if _ENDS_IN_TEXT.search(before):
        return " " if begins or _TAG_BEGINS.match(after + " ") else end[0]
    return " " if begins and _ENDS_IN_TAG.search(before) else end[0]


_KEPT = re.compile(r"(<(pre|textarea|script)\b.*?</\2>)", re.DOTALL)


def as_read(response: Response) -> str:
    """An answer's text as a browser reads it: where a page's source goes on in the next line, text does not."""
    text = response.get_data(as_text=True)
    if response.mimetype != "text/html":
        return text
    parts = _KEPT.split(text)
    return "".join(
        part if place % 3 == 1 else "" if place % 3 == 2 else _LINE_END.sub(_joined, part)
        for place, part in enumerate(parts)
    )


def _client(app: Flask) -> Iterator[FlaskClient]:
    app.config["WTF_CSRF_ENABLED"] = False
    app.jinja_env.bytecode_cache = _COMPILED
    client = app.test_client()
    client.response_wrapper = type("Read", (client.response_wrapper,), {"text": property(as_read)})  # type: ignore[misc]
    yield client
    app.extensions["tamarack_engine"].dispose()


@pytest.fixture
def console(settings: Settings, world: Session) -> Iterator[FlaskClient]:
    """The console, nobody signed in."""
    from tamarack.console.app import make_app

    yield from _client(make_app(settings))


@pytest.fixture
def portal(settings: Settings, world: Session) -> Iterator[FlaskClient]:
    """The portal, nobody signed in."""
    from tamarack.portal.app import make_app

    yield from _client(make_app(settings))


@pytest.fixture
def service(settings: Settings, world: Session) -> Iterator[FlaskClient]:
    """The sign-in service, nobody signed in."""
    from tamarack.sign_in.app import make_app

    yield from _client(make_app(settings))


def _let_in(client: FlaskClient, kind: type[Staff] | type[Person], email: str) -> FlaskClient:
    """Somebody signed in, as the door leaves them: hundreds of tests begin behind it."""
    inside = client.application.extensions
    with Session(inside["tamarack_engine"]) as session:
        who = session.exec(select(kind).where(kind.email == email)).one()
        token = begin_session(session, inside["tamarack_door"], who.id, who.session_epoch, "127.0.0.1", "a browser")
        session.commit()
    with client.session_transaction() as cookie:
        cookie.permanent, cookie[TOKEN] = True, token
    return client


@pytest.fixture
def admin(console: FlaskClient) -> FlaskClient:
    """The console with the platform admin signed in."""
    return _let_in(console, Staff, "i.marsh@skerry.example")


@pytest.fixture
def lead(portal: FlaskClient) -> FlaskClient:
    """The portal with the lead of Tern Trips signed in."""
    return _let_in(portal, Person, "m.tern@tern-trips.example")
