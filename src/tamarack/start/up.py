"""Bringing everything up: database, migrations, demo, programs; and what is printed about it."""

import fcntl
import os
import secrets
import shutil
import signal
import socket
import ssl
import sys
import threading
import time
import urllib.error
import urllib.request
from collections.abc import Collection
from dataclasses import replace
from pathlib import Path
from types import FrameType

import psycopg

from tamarack.settings import NODES, PORTS, STAND_INS, Settings
from tamarack.start.certificates import make_certificates
from tamarack.start.errors import CannotStart
from tamarack.start.postgres import Cluster
from tamarack.start.redis import redis_command
from tamarack.start.supervisor import Program, Supervisor
from tamarack.store.nodes.statements import ENVIRONMENTS
from tamarack.store.schema_version import is_ready
from tamarack.web.serve import command

OVER_TLS = "production-1"
"""The demo's node that speaks TLS too."""
NODE_IS_OVER = 78
"""How a node ends whose environment was removed (`gateway.run.REVOKED`, which would bring all of a node with it)."""
READY_WITHIN_S = 180.0
"""A machine may be slow, and busy with other things, when all programs begin at once."""


def say(text: str) -> None:
    """A line for whoever started it."""
    print(text, flush=True)


class _Stopped(Exception):
    """A signal asked for the end."""


class _Up:
    def __init__(self, settings: Settings, demo: bool) -> None:
        self.demo = demo
        self.shown: Path | None = None
        """The certificate that the demo's feed and one of its nodes show, with its key."""
        if demo and not settings.feed_address and not settings.web_tls_certificates:
            authority, self.shown = make_certificates(settings.home.absolute())
            feed = f"https://127.0.0.1:{settings.port('feed')}"
            settings = settings.model_copy(update={"feed_address": feed, "feed_ca": str(authority)})
        self.settings = settings
        self.stop = threading.Event()
        self.past_loads = False
        self.nodes: dict[str, str] = {}
        self.supervisor = Supervisor(settings.home, say)
        self.cluster: Cluster | None = None
        if not settings.database_url:
            self.cluster = Cluster(
                settings.home,
                settings.port("postgresql"),
                settings.keys.text("database"),
                settings.keys.text("database-admin"),
            )

    def environment(self) -> dict[str, str]:
        return (
            {
                "TAMARACK_HOME": str(self.settings.home.absolute()),
                "TAMARACK_PORT_BASE": str(self.settings.port_base),
                "PYTHONUNBUFFERED": "1",
            }
            | self.demo_mail()
            | self.demo_reach()
            | self.demo_feed()
        )

    def demo_feed(self) -> dict[str, str]:
        """The demo's feed speaks TLS with a certificate of the demo's own authority, unless another address is set."""
        if self.shown is None:
            return {}
        return {"TAMARACK_FEED_ADDRESS": self.settings.feed_address, "TAMARACK_FEED_CA": self.settings.feed_ca}

    def demo_mail(self) -> dict[str, str]:
        """The demo's mail goes to its mail box, unless a mail server is set."""
        if not self.demo or self.settings.mail_server:
            return {}
        from tamarack.demo.places import MAIL_SERVER

        return {"TAMARACK_MAIL_SERVER": f"127.0.0.1:{self.settings.stand_in_port(MAIL_SERVER)}"}

    def demo_reach(self) -> dict[str, str]:
        """The demo's backends are its stand-ins on loopback: those ports are opened, and no others."""
        if not self.demo:
            return {}
        from tamarack.demo.places import PLACES

        first = self.settings.port_base + STAND_INS
        opened = [self.settings.reachable, f"127.0.0.1:{first}-{first + PLACES - 1}"]
        return {"TAMARACK_REACHABLE": ",".join(filter(None, opened))}

    def program(self, name: str, *arguments: str) -> Program:
        return Program(name, [sys.executable, "-m", "tamarack", *arguments], self.environment())

    def wait(self, what: str, ready: object, name: str) -> None:
        until = time.monotonic() + READY_WITHIN_S
        assert callable(ready)
        while not ready():
            if self.stop.wait(0.05):
                raise _Stopped
            self.supervisor.look_after()
            if time.monotonic() > until:
                lines = self.supervisor.last_lines(name)
                raise CannotStart(f"{what} did not answer within {READY_WITHIN_S:g} s. The end of its log:\n{lines}")

    def check_ports(self) -> None:
        names = list(PORTS if self.cluster is not None else (p for p in PORTS if p != "postgresql"))
        ports = {name: self.settings.port(name) for name in names if name != "redis" or not self.settings.redis_url}
        if self.demo:
            from tamarack.demo.places import PLACES

            ports |= {f"stand-in {place + 1}": self.settings.port_base + STAND_INS + place for place in range(PLACES)}
        if self.settings.metrics_host:
            ports |= {f"metrics of {node}": self.settings.metrics_port(self.settings.port(node)) for node in NODES}
        for name, port in ports.items():
            with socket.socket() as probe:
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
                try:
                    probe.bind(("127.0.0.1", port))
                except OSError as error:
                    raise CannotStart(
                        f"port {port} (for {name}) is in use; end what listens there, or choose other ports"
                        " with --port-base"
                    ) from error

    def run(self) -> None:
        began = time.monotonic()
        left = self.supervisor.end_left_overs()
        if self.cluster is not None and self.cluster.stop_left_over():
            left.append("postgresql")
        if left:
            say(f"Ended what an earlier start left running: {', '.join(left)}.")
        self.check_ports()
        if self.cluster is not None:
            if self.cluster.moved(self.settings.home):
                say(
                    f"The user postgres cannot enter {self.settings.home.absolute()};"
                    f" the database lies in {self.cluster.folder}."
                )
            say("Starting the database …")
            self.cluster.prepare()
            self.supervisor.add(Program("postgresql", self.cluster.server_command(), stop_signal=signal.SIGINT))
            self.wait("PostgreSQL", self.cluster.answers, "postgresql")
            self.cluster.make_roles()
            self.cluster.make_database()
        if not self.settings.redis_url:
            password = self.settings.keys.text("redis")
            command_line = redis_command(self.settings.home, self.settings.port("redis"), password)
            self.supervisor.add(Program("redis", command_line))
        first_password = self.prepare_data()
        if self.settings.redis:
            from tamarack.gateway.counters.restore import restore

            raised = restore(self.settings.database, self.settings.redis)
            if raised:
                say(f"Brought {raised} counts of quotas up to what the database knows.")
        self.start_programs()
        self.report(time.monotonic() - began, first_password)
        while not self.stop.wait(0.25):
            self.supervisor.look_after()

    def prepare_data(self) -> str:
        """Migrate, and fill an empty database; returns the first admin's password where one was made."""
        if is_ready(self.settings.database):
            return ""  # what follows loads a lot, and a second start should be quick
        from sqlmodel import Session

        from tamarack.store.engine import make_engine
        from tamarack.store.migrate import migrate
        from tamarack.store.people.passwords import hash_password
        from tamarack.store.people.staff import Staff

        engine = make_engine(self.settings.database)
        try:
            say("Bringing its tables up to date …")
            migrate(engine)
            from tamarack.demo.seed import is_seeded, seed

            if is_seeded(engine):
                return ""
            if self.demo:
                say("Filling in the demo: configuration, organizations, applications …")
                seed(engine, self.settings)
                return ""
            password = secrets.token_urlsafe(12)
            with Session(engine) as session:
                admin = Staff(
                    email="admin@tamarack.example",
                    name="Admin",
                    role="platform-admin",
                    password_hash=hash_password(password),
                )
                session.add(admin)
                session.commit()
            return password
        finally:
            engine.dispose()

    def start_programs(self) -> None:
        say("Starting console, portal, sign-in service, feed, nodes and worker …")
        add = self.supervisor.add
        if self.demo:
            add(self.program("stand-ins", "stand-ins"))
        shows = {"TAMARACK_WEB_TLS_CERTIFICATES": str(self.shown)} if self.shown is not None else {}
        for name in ("console", "portal", "sign-in", "feed"):
            own = shows if name == "feed" else {}
            certificates = own.get("TAMARACK_WEB_TLS_CERTIFICATES", self.settings.web_tls_certificates)
            add(Program(name, command(name, self.settings.port(name), certificates), self.environment() | own))
        self.nodes = self._nodes_to_run()
        for name, environment in self.nodes.items():
            program = self.program(name, "gateway", "--name", name, "--environment", environment)
            if self.shown is not None and name == OVER_TLS:
                over_tls = str(self.settings.port(f"{name} over TLS"))
                tls = {"TAMARACK_TLS_CERTIFICATES": str(self.shown)}
                program = Program(name, [*program.command, "--tls-port", over_tls], {**program.environment, **tls})
            add(replace(program, over=NODE_IS_OVER))
        add(self.program("worker", "worker"))
        self.wait("The console", lambda: _answers(f"{self.settings.console_url}/-/health"), "console")
        self.wait("The portal", lambda: _answers(f"{self.settings.portal_url}/-/health"), "portal")
        self.wait("The sign-in service", lambda: _answers(f"{self.settings.sign_in_url}/-/health"), "sign-in")
        self.wait("The feed", lambda: _answers(f"{self.settings.feed_url}/-/health"), "feed")
        for name in self.nodes:
            port = self.settings.port(name)
            self.wait(f"The node {name}", lambda p=port: _listens(p), name)
        if self.demo:
            with psycopg.connect(self.settings.database) as connection:
                self.wait(
                    "Every node's rollout", lambda: _all_run(connection, self.nodes), next(iter(self.nodes), "worker")
                )
            add(self.program("driver", "driver"))
            from tamarack.demo.seed import waiting_past

            if waiting_past(self.settings.home).exists():
                self.past_loads = True
                add(replace(self.program("past", "load-past"), once=True))

    def _nodes_to_run(self) -> dict[str, str]:
        """The nodes that are started here: those whose environment was not removed."""
        with psycopg.connect(self.settings.database) as connection:
            there = {name for (name,) in connection.execute(ENVIRONMENTS)}
        return {name: environment for name, environment in NODES.items() if environment in there}

    def report(self, seconds: float, first_password: str) -> None:
        settings = self.settings
        say("")
        say(f"Tamarack is ready ({seconds:.1f} s).")
        say("")
        say(f"  Console             {settings.console_url}")
        if self.demo:
            from tamarack.demo.world import STAFF

            for member in STAFF:
                say(f"    {member.email:<27} {member.password:<18} {member.role}")
        elif first_password:
            say(f"    {'admin@tamarack.example':<27} {first_password:<18} platform-admin, shown this once")
        say(f"  Portal              {settings.portal_url}")
        if self.demo:
            from tamarack.demo.world import ORGANIZATIONS

            for organization in ORGANIZATIONS:
                for person in organization.people[:1]:
                    say(f"    {person.email:<27} {person.password:<18} {organization.title}, {person.role}")
        say(f"  Sign-in service     {settings.sign_in_url}")
        if self.demo:
            from tamarack.demo.sign_in import PASSWORD, USER

            say(f"    {USER:<27} {PASSWORD:<18} Skerry passengers, at /passengers/")
        say(f"  Feed                {settings.feed_url}  for nodes elsewhere; see Nodes in the console")
        for name, environment in self.nodes.items():
            say(f"  {name:<19} http://127.0.0.1:{settings.port(name)}  gateway node, {environment}")
            if self.shown is not None and name == OVER_TLS:
                port = settings.port(f"{name} over TLS")
                say(f"  {'':<19} https://127.0.0.1:{port}  the same over TLS: curl --cacert {settings.feed_ca}")
        if self.demo:
            from tamarack.demo.places import OWN_PAGES

            for title, place, words in OWN_PAGES:
                say(f"  {title:<19} http://127.0.0.1:{settings.stand_in_port(place)}  {words}")
        if self.past_loads:
            say("")
            days = "1 day" if settings.demo_days == 1 else f"{settings.demo_days} days"
            say(f"{days} of made-up traffic are being loaded; charts fill in within a minute or so.")
        say("")
        say(f"State and logs are in {settings.home.absolute()}. Stop with Ctrl+C.")


def _answers(address: str) -> bool:
    try:
        # This asks whether a program of its own has begun, and trusts it with nothing.
        context = ssl._create_unverified_context() if address.startswith("https:") else None  # noqa: S323
        with urllib.request.urlopen(address, timeout=2, context=context):  # noqa: S310 - of this installation
            return True
    except urllib.error.HTTPError:
        return True
    except OSError:
        return False


def _listens(port: int) -> bool:
    """Whether a node takes connections. It is asked nothing: that would be a call, and stand in the traffic."""
    with socket.socket() as probe:
        return probe.connect_ex(("127.0.0.1", port)) == 0


def _all_run(connection: "psycopg.Connection", nodes: Collection[str]) -> bool:
    row = connection.execute(
        "SELECT count(*) FROM node WHERE rollout > 0 AND seen_at > now() - interval '10 s' AND name = ANY(%s)",
        [list(nodes)],
    ).fetchone()
    connection.rollback()
    return row is not None and row[0] >= len(nodes)


def reset(home: Path, cluster: Cluster | None) -> None:
    """Remove all state of an installation."""
    if cluster is not None:
        cluster.stop_left_over()
        shutil.rmtree(cluster.folder, ignore_errors=True)
    for name in ("postgresql", "nodes", "keys", "demo", "logs", "run", "redis", "tls"):
        shutil.rmtree(home / name, ignore_errors=True)


def own_folder(home: Path) -> None:
    """Make the folder of all state. What lies in it is its owner's alone; PostgreSQL's user may pass through."""
    os.umask(0o077)
    if not home.exists():
        home.mkdir(parents=True)
        home.chmod(0o711)
    for name in ("nodes", "keys", "demo", "logs", "run", "redis"):
        if (home / name).is_dir():
            (home / name).chmod(0o700)


def up(settings: Settings, demo: bool, start_anew: bool) -> int:
    """Start everything and stay until told to stop; returns the exit code."""
    home = settings.home
    own_folder(home)
    (home / "port-base").write_text(str(settings.port_base))
    lock = (home / ".lock").open("w")
    try:
        fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
    except OSError:
        print(f"Tamarack is already running on {home.absolute()}.", file=sys.stderr)
        return 1
    try:
        upper = _Up(settings, demo)
        if start_anew:
            upper.supervisor.end_left_overs()
            reset(home, upper.cluster)
            upper = _Up(Settings(home=home, port_base=settings.port_base), demo)
    except CannotStart as error:
        print(f"Cannot start: {error}", file=sys.stderr)
        return 1

    def ask_to_stop(number: int, frame: FrameType | None) -> None:
        upper.stop.set()

    for number in (signal.SIGINT, signal.SIGTERM):
        signal.signal(number, ask_to_stop)
    code = 0
    try:
        upper.run()
    except CannotStart as error:
        print(f"Cannot start: {error}", file=sys.stderr)
        code = 1
    except _Stopped:
        pass
    finally:
        upper.supervisor.stop()
        say("Stopped.")
    return code
