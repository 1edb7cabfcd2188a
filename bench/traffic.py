"""Ten million made-up calls over thirty days: how fast they load, how large they are, and how fast pages read them.

Each page is asked for many times; its 95th percentile stands beside the time of the smallest page in the same run.
Recording is measured with batches as nodes write them, into the full tables, and stands beside the rate of a node of
the same machine (key, limit and recording), measured right after. Bounded in calls, rounds and time.
"""

import argparse
import itertools
import multiprocessing
import random
import re
import shutil
import socket
import statistics
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable, Iterator
from datetime import UTC, datetime, timedelta
from pathlib import Path

import psycopg
from flask.testing import FlaskClient
from sqlmodel import Session

from tamarack.console.app import make_app
from tamarack.core.carrying.refusals import REASONS
from tamarack.core.traffic.record import Record
from tamarack.core.traffic.rollup import Cell, add_cell, roll_up
from tamarack.core.traffic.totals import Totals
from tamarack.demo.calls import KINDS
from tamarack.demo.seed import shipped_configuration
from tamarack.demo.world import ORGANIZATIONS
from tamarack.settings import Settings
from tamarack.start.postgres import Cluster
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.draft import queries as drafting
from tamarack.store.engine import make_engine
from tamarack.store.migrate import migrate
from tamarack.store.people.passwords import hash_password
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Organization
from tamarack.store.rollouts import queries as rolling
from tamarack.store.secrets.queries import set_secret
from tamarack.store.traffic.partitions import make_partitions
from tamarack.store.traffic.recording import Batch, KeyIds, copy_calls, copy_rollups, take_in

HERE = Path(__file__).parent
PIECE = 50_000
VARIETY = 40_000
"""Different calls that the made-up ones are drawn from."""
ROUNDS = 20
TODAY = datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0)


def templates(draw: random.Random) -> list[Record]:
    """Calls of every application to everything it may call; some refused, some failed."""
    callers = [(o.name, a) for o in ORGANIZATIONS for a in o.applications if a.weight]
    weights = [a.weight for _, a in callers]
    found = []
    for _ in range(VARIETY):
        organization, application = draw.choices(callers, weights)[0]
        plans = dict(application.subscriptions)
        kinds = [kind for kind in KINDS if kind.product in plans]
        kind = draw.choices(kinds, [kind.weight for kind in kinds])[0]
        chance = draw.random()
        status, reason = 200, ""
        if chance < 0.03:
            status, reason = 429, "over-plan"
        elif chance < 0.04:
            status, reason = 502, "backend-away"
        elif chance < 0.05:
            status = 404
        asked = reason != "over-plan"
        backend = int(draw.lognormvariate(0, 0.4) * kind.median_ms * 1000) if asked else 0
        found.append(
            Record(
                id="", at=0, total_us=backend + draw.randint(60, 300), backend_us=backend, environment="production",
                node=f"production-{draw.randint(1, 2)}", rollout=2, api=kind.api, version=kind.version,
                operation=kind.operation, method=kind.method, path=kind.path.partition("?")[0], status=status,
                reason=reason, request_bytes=len(kind.body), response_bytes=kind.answer_bytes if not reason else 300,
                organization=organization, application=application.title.lower().replace(" ", "-"),
                subscription="s", plan=f"{kind.product}/{plans[kind.product]}", credential="c",
                address=f"192.0.2.{draw.randint(1, 250)}", agent="bench/1", target=f"127.0.0.1:{7420}" if asked else "",
                cache="hit" if draw.random() < kind.cached_share else "miss" if kind.cached_share else "",
                stages_ns=(30_000, 2_000, 20_000, 4_000, 10_000, 14_000, backend * 1000, 20_000),
            )
        )  # fmt: skip
    assert all(not one.reason or one.reason in REASONS for one in found)
    return found


def made_up(day: datetime, many: int, seed: int) -> Iterator[Record]:
    """So many calls of one day, in order."""
    draw = random.Random(seed)
    kinds = templates(draw)
    step = 86_400_000_000 / many
    base = int(day.timestamp() * 1_000_000)
    for place, kind in zip(range(many), itertools.cycle(draw.sample(kinds, len(kinds)))):
        at = base + int(place * step)
        yield Record(f"{at // 1000:011x}be0{seed:02x}{place:08x}", at, *kind[2:])


def load_days(url: str, days: list[int], many: int) -> None:
    """Load some days, counted back from today."""
    with psycopg.connect(url, autocommit=True) as connection:
        ids = KeyIds()
        for back in days:
            day = TODAY - timedelta(days=back)
            make_partitions(connection, day.date(), day.date())
            cells: dict[Cell, Totals] = {}
            calls = made_up(day, many, back)
            while piece := list(itertools.islice(calls, PIECE)):
                copy_calls(connection, ((record, 0) for record in piece))
                for cell, totals in roll_up(piece).items():
                    add_cell(cells, cell, totals)
            copy_rollups(connection, cells, ids.of(connection, {cell.key for cell in cells}))


def load(url: str, calls: int, days: int) -> None:
    """Load all, in two processes."""
    begun = time.perf_counter()
    with psycopg.connect(url, autocommit=True) as connection:
        make_partitions(connection, (TODAY - timedelta(days=days)).date(), (TODAY + timedelta(days=1)).date())
    each = calls // days
    halves = [list(range(days))[place::2] for place in (0, 1)]
    workers = [multiprocessing.Process(target=load_days, args=(url, half, each)) for half in halves]
    for worker in workers:
        worker.start()
    for worker in workers:
        worker.join()
        assert worker.exitcode == 0
    seconds = time.perf_counter() - begun
    with psycopg.connect(url, autocommit=True) as connection:
        connection.execute("ANALYZE")
        sizes = dict(
            connection.execute(
                "SELECT regexp_replace(relname, '_2[0-9]{7}.*', ''), sum(pg_total_relation_size(oid))::bigint"
                " FROM pg_class"
                " WHERE relkind = 'r' AND (relname LIKE 'call_2%' OR relname LIKE 'rollup_%') GROUP BY 1"
            ).fetchall()
        )
    print(
        f"loaded {each * days:,} calls over {days} days in {seconds:.0f} s by two processes:"
        f" {each * days / seconds:,.0f} rows/s"
    )
    for name, size in sorted(sizes.items()):
        print(f"    {name:<16}{size / 1e6:>10,.0f} MB{size / (each * days):>10.1f} bytes a call")


def furnish(session: Session) -> None:
    """The demo's configuration and organizations, and one admin."""
    loaded = shipped_configuration(7400)
    for text in loaded.documents.values():
        drafting.keep_document(session, text)
    drafting.replace_all(session, COMMAND_LINE, loaded.configuration, remove_others=True)
    set_secret(session, COMMAND_LINE, bytes(32), "harbour-register", "only-for-the-bench")
    rolling.roll_out(session, COMMAND_LINE, "production")
    for one in ORGANIZATIONS:
        session.add(Organization(name=one.name, title=one.title, kind=one.kind))
    session.add(
        Staff(email="a@skerry.example", name="A", role="platform-admin", password_hash=hash_password("bench-only-1"))
    )
    session.commit()


def timed(work: Callable[[], object]) -> float:
    """Milliseconds."""
    begun = time.perf_counter()
    work()
    return (time.perf_counter() - begun) * 1000


def get(client: FlaskClient, path: str) -> Callable[[], None]:
    def work() -> None:
        with client.get(path) as answer:
            assert answer.status_code == 200, (path, answer.status_code)
            assert answer.data

    return work


MONTH = f"{TODAY:%Y-%m}"
EXPLORE = "/traffic/explore/?"
PAGES = {
    "overview, 6 hours": "/traffic/?span=6+hours",
    "overview, day": "/traffic/?span=day",
    "overview, month": "/traffic/?span=month",
    "explore: calls by API, week": f"{EXPLORE}split=api&span=week",
    "explore: p95 by application, month": f"{EXPLORE}measure=p95&split=application&span=month",
    "explore: p99 of one API by operation, day": f"{EXPLORE}measure=p99&split=operation&span=day&where=api+is+sailings",
    "explore: heat map, week": f"{EXPLORE}measure=p95&picture=heat+map&span=week",
    "explore: error share by pairs, against week": f"{EXPLORE}measure=error+share&split=api&split=application"
    "&span=day&against=week",
    "calls, newest": "/traffic/calls",
    "calls, refused ones of one API": "/traffic/calls?where=api+is+fares&where=outcome+is+refused",
    "statement of a month": f"/traffic/statements/tern-trips/{MONTH}/",
    "single calls of a day: by path": f"{EXPLORE}split=path&span=day",
    "single calls of a day: took from 100 ms": f"{EXPLORE}measure=p95&split=api&span=day&where=took+from+100+ms",
    "search of a day: an address": "/traffic/calls?q=192.0.2.77&span=day",
    "search of a day: a path that is not there": "/traffic/calls?where=path+contains+/nowhere&span=day",
}


def read(client: FlaskClient, rounds: int) -> None:
    """The time of each page."""
    bare = statistics.median(timed(get(client, "/-/health")) for _ in range(rounds))
    print(f"\nthe smallest page: {bare:.2f} ms\n{'':<46}{'median':>10}{'p95':>10}   p95 to the smallest")
    for words, path in PAGES.items():
        get(client, path)()
        times = sorted(timed(get(client, path)) for _ in range(rounds))
        p95 = times[max(0, -(-95 * rounds // 100) - 1)]
        print(f"{words:<46}{statistics.median(times):>7.0f} ms{p95:>7.0f} ms{p95 / bare:>14.0f} times")


def keep_up(url: str, rounds: int) -> None:
    """Batches as nodes write them, into the full tables, against what a node carries."""
    many = 2500
    now = datetime.now(UTC)
    kinds = templates(random.Random(99))
    with psycopg.connect(url, autocommit=True) as connection:
        ids = KeyIds()
        rates = []
        for place in range(rounds):
            base = int((now + timedelta(seconds=place)).timestamp() * 1_000_000)
            rows = [
                Record(f"{base // 1000:011x}fff{n:010x}", base + n, *kinds[(place * many + n) % VARIETY][2:])
                for n in range(many)
            ]
            begun = time.perf_counter()
            take_in(connection, [Batch(f"bench-{base}", "n", rows)], ids)
            rates.append(many / (time.perf_counter() - begun))
    text = subprocess.run(
        [sys.executable, str(HERE / "gateway.py"), "--rounds", "3", "--seconds", "2"],
        capture_output=True,
        text=True,
        check=True,
    ).stdout
    found = re.search(r"key \+ limit \+ recording\s+([\d,]+)", text)
    assert found is not None, text
    carried, taken = float(found[1].replace(",", "")), statistics.median(rates)
    print(f"\nrecording: {taken:,.0f} rows/s in batches of {many:,} (slowest {min(rates):,.0f}), one process")
    print(f"a node of this machine: {carried:,.0f} calls/s; recording to that: {taken / carried:.1f}")


def main() -> None:
    """Run the bench and print its figures."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--calls", type=int, default=10_000_000)
    parser.add_argument("--days", type=int, default=30)
    parser.add_argument("--rounds", type=int, default=ROUNDS)
    parser.add_argument("--home", type=Path, help="a folder that is kept: loaded the first time, only read after that")
    parser.add_argument("--no-gateway", action="store_true", help="leave out the comparison with a node")
    given = parser.parse_args()
    home = given.home.resolve() if given.home else Path(tempfile.mkdtemp(prefix="tamarack-bench-"))
    home.mkdir(mode=0o755, parents=True, exist_ok=True)
    home.chmod(0o755)
    is_new = not (home / "postgresql").exists()
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = int(probe.getsockname()[1])
    cluster = Cluster(home, port, "only-for-the-bench")
    cluster.prepare()
    with (home / "log").open("w") as log:
        server = subprocess.Popen(cluster.server_command(), stdout=log, stderr=log)
    try:
        while not cluster.answers():
            assert server.poll() is None, (home / "log").read_text()
        if is_new:
            cluster.make_roles()
        cluster.make_database("bench")
        url = cluster.url("bench")
        if is_new:
            engine = make_engine(url)
            migrate(engine)
            with Session(engine) as session:
                furnish(session)
            engine.dispose()
            load(url, min(given.calls, 50_000_000), min(given.days, 60))
        app = make_app(Settings(home=home, database_url=url))
        app.config["WTF_CSRF_ENABLED"] = False
        client = app.test_client()
        client.post("/sign-in", data={"email": "a@skerry.example", "password": "bench-only-1"})
        read(client, min(given.rounds, 200))
        app.extensions["tamarack_engine"].dispose()
        if not given.no_gateway:
            keep_up(url, min(given.rounds, 200))
    finally:
        server.send_signal(2)
        server.wait(60)
        if given.home is None:
            shutil.rmtree(home, ignore_errors=True)


if __name__ == "__main__":
    main()
