"""Databases that tests take one after the other: each finds its own as its template was.

Making a database for every test, and connections to it, takes longer than most tests. So each process that runs tests
keeps one database of each template. When a test has ended, rows that it changed are brought back; where it changed more
than rows, or left more behind than is worth clearing up, the database is made anew.
"""

from collections.abc import Iterator
from contextlib import contextmanager, suppress
from typing import Any

import psycopg
from sqlalchemy import Engine, event
from sqlalchemy.engine import create_engine

from tamarack.start.postgres import Cluster

_MANY = 2_000_000
"""Bytes of a table and its indexes beyond which its database is made anew."""

_COLUMNS = """
SELECT c.relname, string_agg(quote_ident(a.attname), ', ' ORDER BY a.attnum)
FROM pg_class c JOIN pg_attribute a ON a.attrelid = c.oid AND a.attnum > 0 AND NOT a.attisdropped AND a.attgenerated = ''
WHERE c.relnamespace = 'public'::regnamespace AND c.relkind IN ('r', 'p') AND NOT c.relispartition
GROUP BY 1 ORDER BY 1"""

_SHAPE = """
(SELECT concat_ws(' ', count(*), max(oid), sum(relnatts)) FROM pg_class WHERE oid >= 16384)
|| (SELECT concat_ws(' ', '', count(*), max(oid)) FROM pg_constraint WHERE oid >= 16384)"""
"""What is other where something was made, changed or dropped that is no row."""

_CLEAR = """
CREATE FUNCTION kept.clear() RETURNS text[] LANGUAGE plpgsql AS $clear$
DECLARE
  was text[] := (SELECT now FROM kept.state);
  found text[] := {state};
  wide text[] := '{{}}';
BEGIN
  IF {shape} <> (SELECT shape FROM kept.state) THEN RETURN NULL; END IF;
  IF found = was THEN RETURN wide; END IF;
  {parts}
  RETURN wide;
END $clear$"""
"""Removes the rows of all tables that are other than they were. Tells which of them need their room cleared, so that what
is put in next comes after what was put in before; NULL where all has to be made anew."""
_CLEAR_TABLE = """
IF found[{place}] <> was[{place}] THEN
  IF pg_total_relation_size('public.{table}') > {many} THEN RETURN NULL; END IF;
  IF pg_relation_size('public.{table}') > 8192 THEN wide := wide || 'public.{table}'::text; END IF;
  DELETE FROM public.{table};
  UPDATE kept.state SET now[{place}] = '';
END IF;"""
_CLEAR_SEQUENCE = """
IF found[{place}] <> was[{place}] THEN PERFORM setval('public.{name}', {value}, {called}); END IF;"""
_EMPTY = "(EXISTS (SELECT FROM public.{table}))::text"
_ROWS = "(SELECT concat_ws(' ', count(*), sum(hashtextextended(ctid::text || xmin::text, 0))) FROM public.{table})"
_NEXT = "(SELECT concat_ws(' ', last_value, is_called) FROM public.{name})"
_FILL = """
CREATE FUNCTION kept.fill() RETURNS void LANGUAGE plpgsql AS $fill$
BEGIN
  {parts}
  UPDATE kept.state SET now = {state} WHERE '' = ANY (now);
END $fill$"""
_FILL_TABLE = """
IF (SELECT now[{place}] = '' FROM kept.state) THEN
  INSERT INTO public.{table} ({columns}) OVERRIDING SYSTEM VALUE SELECT {columns} FROM kept.{table};
END IF;"""


def _keep(connection: psycopg.Connection) -> None:
    """Keep beside a database's tables what it takes to bring back what they hold."""
    connection.execute("CREATE SCHEMA kept")
    state, clear, fill = [], [], []
    for table, columns in connection.execute(_COLUMNS).fetchall():
        values = {"table": table, "columns": columns, "place": len(state) + 1, "many": _MANY}
        filled = connection.execute(f"SELECT EXISTS (SELECT FROM public.{table})").fetchone() == (True,)
        state.append((_ROWS if filled else _EMPTY).format(**values))
        clear.append(_CLEAR_TABLE.format(**values))
        if filled:
            connection.execute(f"CREATE TABLE kept.{table} AS TABLE public.{table}")
            fill.append(_FILL_TABLE.format(**values))
    for (name,) in connection.execute("SELECT sequencename FROM pg_sequences WHERE schemaname = 'public'").fetchall():
        value, called = connection.execute(f"SELECT last_value, is_called FROM public.{name}").fetchone() or (1, False)
        state.append(_NEXT.format(name=name))
        clear.append(_CLEAR_SEQUENCE.format(name=name, value=value, called=called, place=len(state)))
    all_of_it = f"ARRAY[{', '.join(state)}]"
    connection.execute(_CLEAR.format(shape=_SHAPE, state=all_of_it, parts="".join(clear)))
    connection.execute(_FILL.format(state=all_of_it, parts="".join(fill)))
    connection.execute(f"CREATE TABLE kept.state AS SELECT '' AS shape, {all_of_it} AS now")
    connection.execute(f"UPDATE kept.state SET shape = {_SHAPE}")


class _Kept:
    """A database that is taken by one test after the other, and the engines on it, whose connections stay open."""

    def __init__(self, cluster: Cluster, name: str, template: str) -> None:
        self.name, self._template, self._cluster = name, template, cluster
        self.url = cluster.url(name)
        self.engines: dict[str, tuple[Engine, set[int]]] = {}
        cluster.make_database(template + name, template)
        with self._administering(template + name) as own:
            _keep(own)
        self._make()

    def _administering(self, name: str) -> psycopg.Connection:
        address = f"postgresql://postgres@127.0.0.1:{self._cluster.port}/{name}"
        return psycopg.connect(address, autocommit=True, connect_timeout=30)

    def _make(self) -> None:
        with self._administering("postgres") as all_of_them:
            all_of_them.execute(f"DROP DATABASE IF EXISTS {self.name} WITH (FORCE)")
            all_of_them.execute(
                f"CREATE DATABASE {self.name} TEMPLATE {self._template}{self.name} STRATEGY FILE_COPY OWNER tamarack"
            )
        self._own = self._administering(self.name)
        # No rule between tables is asked while rows are removed and put back.
        self._own.execute("SET session_replication_role = replica")
        self._own.execute("SET lock_timeout = '10s'")

    def engine(self, *args: Any, **kwargs: Any) -> Engine:
        """The engine that is asked for: the one that is there already, where it is the same."""
        key = repr((args, sorted(kwargs.items())))
        if key not in self.engines:
            made, pids = create_engine(*args, **kwargs), set[int]()
            event.listen(made, "connect", lambda connection, _: pids.add(connection.info.backend_pid))
            made.dispose = lambda close=True: None  # type: ignore[method-assign]
            self.engines[key] = (made, pids)
        return self.engines[key][0]

    def give_back(self) -> None:
        """Bring back what its template holds, whatever was done with it."""
        for key, (engine, _) in list(self.engines.items()):
            if engine.pool.checkedout():  # type: ignore[attr-defined]
                del self.engines[key]
                type(engine).dispose(engine)
        ours = [pid for _, pids in self.engines.values() for pid in pids]
        with suppress(psycopg.Error):
            self._own.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity"
                " WHERE datname = current_database() AND pid <> pg_backend_pid() AND pid <> ALL(%s)",
                [ours],
            )
            wide = (self._own.execute("SELECT kept.clear()").fetchone() or (None,))[0]
            if wide is not None:
                if wide:
                    self._own.execute(f"VACUUM {', '.join(wide)}")
                self._own.execute("SELECT kept.fill()")
                return
        self.end()
        self._make()

    def end(self) -> None:
        """Close all connections."""
        for engine, _ in self.engines.values():
            type(engine).dispose(engine)
        self.engines.clear()
        self._own.close()


class Databases:
    """The databases that a process keeps for its tests, by their templates."""

    def __init__(self, cluster: Cluster) -> None:
        self._cluster = cluster
        self._kept: dict[str, _Kept] = {}

    @contextmanager
    def taken(self, template: str) -> Iterator[str]:
        """The address of a database that is as its template, for as long as a test runs."""
        kept = self._kept.get(template)
        if kept is None:
            kept = self._kept[template] = _Kept(self._cluster, f"t{len(self._kept)}", template)
        yield kept.url
        kept.give_back()

    def engine(self, url: str, **kwargs: Any) -> Engine | None:
        """An engine on one of them; None for other databases."""
        for kept in self._kept.values():
            if url == kept.url.replace("postgresql://", "postgresql+psycopg://", 1):
                return kept.engine(url, **kwargs)
        return None

    def end(self) -> None:
        """Close all that is open."""
        for kept in self._kept.values():
            kept.end()
