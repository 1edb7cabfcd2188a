"""The command line: one subcommand per program and task."""

import asyncio
import sys
from pathlib import Path
from typing import TextIO

import click

from tamarack.commands.context import database_session, here
from tamarack.commands.environments import environments
from tamarack.commands.sign_in import directories, users
from tamarack.core.text import one_line
from tamarack.gateway.processes.option import PROCESSES, TLS_PORT
from tamarack.settings import NODES, Settings


class _Commands(click.Group):
    """The commands, where a database that does not answer is one clear line."""

    def invoke(self, ctx: click.Context) -> object:
        try:
            return super().invoke(ctx)
        except Exception as error:
            at_fault = _unreachable(error)
            if at_fault is None:
                raise
            current = here()
            place = current.database.rpartition("@")[2]
            raise click.ClickException(
                f"The database at {place} does not answer: {at_fault}. Start it with bin/start, or name the running "
                f"installation: TAMARACK_HOME is {str(current.home)!r} (option --home of bin/start), "
                "TAMARACK_DATABASE_URL a database of your own."
            ) from None


def _unreachable(error: Exception) -> str | None:
    """What psycopg said of a connection that could not be made; None for any other error."""
    import psycopg

    for one in (error, getattr(error, "orig", None)):
        if isinstance(one, psycopg.OperationalError) and one.sqlstate is None:
            return one_line(str(one).partition("\n")[0])
    return None


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
def main() -> None:
    """Tamarack: publish, protect, meter, offer and watch APIs."""


for group in (directories, environments, users):
    main.add_command(group)


@main.command()
@click.option("--port-base", type=click.IntRange(1024, 65000), help="First port; 7400 unless set.")
@click.option("--home", type=click.Path(path_type=Path, file_okay=False), help="Folder of all state.")
@click.option("--no-demo", is_flag=True, help="Start empty, with one admin account.")
@click.option("--reset", is_flag=True, help="Remove all state first.")
def start(port_base: int | None, home: Path | None, no_demo: bool, reset: bool) -> None:
    """Start everything, and stay until stopped."""
    from tamarack.start.up import up

    given = {name: value for name, value in (("port_base", port_base), ("home", home)) if value is not None}
    settings = Settings(**given)  # type: ignore[arg-type]
    sys.exit(up(settings, demo=not no_demo, start_anew=reset))


@main.command()
@click.option("--name", required=True, help="The node's name.")
@click.option("--environment", required=True, help="The environment that it serves.")
@click.option("--port", type=int, help="Port to listen on; the one set aside for the name unless given.")
@TLS_PORT
@PROCESSES
def gateway(name: str, environment: str, port: int | None, tls_port: int, processes: int) -> None:
    """Run a gateway node."""
    from tamarack.gateway.identity import near
    from tamarack.gateway.node import Where
    from tamarack.gateway.run import run_node

    settings = Settings()
    if port is None and name not in NODES:
        raise click.UsageError(f"--port is needed: no port is set aside for a node called {name}")
    at = port or settings.port(name)
    where = Where(at, tls_port=tls_port)
    sys.exit(run_node(settings, lambda place: near(settings, name, environment), where, processes))


def _web(program: str) -> None:
    from tamarack.web.serve import serve

    settings = Settings()
    serve(program, settings.port(program), settings.web_tls_certificates)


@main.command()
def console() -> None:
    """Run the console."""
    _web("console")


@main.command()
def portal() -> None:
    """Run the portal."""
    _web("portal")


@main.command()
def feed() -> None:
    """Run the feed, which nodes without a database follow."""
    _web("feed")


@main.command()
def worker() -> None:
    """Run the worker."""
    from tamarack.worker.work import work

    work(Settings())


@main.command("stand-ins")
def stand_ins() -> None:
    """Run the demo's backends."""
    from tamarack.demo.stand_ins import serve

    asyncio.run(serve(Settings()))


@main.command("load-past")
def load_past() -> None:
    """Load the demo's past traffic, where it waits to be loaded."""
    from tamarack.demo.seed import load_waiting_past
    from tamarack.gateway.counters.restore import restore
    from tamarack.store.engine import make_engine

    settings = Settings()
    many = load_waiting_past(make_engine(settings.database), settings)
    if settings.redis:
        restore(settings.database, settings.redis)
    click.echo(f"Loaded {many:,} past calls.")


@main.command()
def driver() -> None:
    """Send the demo's stream of calls."""
    from tamarack.demo.drive import drive

    asyncio.run(drive(Settings()))


@main.command()
@click.argument("before")
@click.argument("after")
@click.option("--as", "form", type=click.Choice(["text", "markdown", "json"]), default="text", help="How it is told.")
def compare(before: str, after: str, form: str) -> None:
    """Compare two OpenAPI documents, or descriptions of versions: what differs, and whether it breaks callers.

    Each is a file, API/VERSION of the draft, or API/VERSION@ENVIRONMENT of what runs. Ends with 0 where nothing breaks,
    with 1 where something does, and with 2 where they cannot be compared.
    """
    import json

    from tamarack.config.compared import NotComparable, of_file, of_version
    from tamarack.core.comparing.compare import compare as compared
    from tamarack.core.comparing.compare import worst
    from tamarack.core.comparing.words import as_data, as_markdown, as_text

    def description(named: str) -> dict[str, object]:
        path = Path(named)
        if path.is_file():
            return of_file(path)
        with database_session() as session:
            return of_version(session, named)

    try:
        differences = compared(description(before), description(after))
    except NotComparable as error:
        click.echo(f"Error: {error}", err=True)
        sys.exit(2)
    if form == "json":
        click.echo(json.dumps(as_data(before, after, differences), indent=2, ensure_ascii=False))
    else:
        click.echo((as_markdown if form == "markdown" else as_text)(before, after, differences).rstrip())
    sys.exit(1 if worst(differences) == "breaking" else 0)


@main.command()
def settings() -> None:
    """List every setting with its value and meaning."""
    current = here()
    for name, field in Settings.model_fields.items():
        click.echo(f"TAMARACK_{name.upper()}={getattr(current, name)}")
        click.echo(f"    {field.description}")


@main.command()
@click.argument("folder", type=click.Path(path_type=Path, file_okay=False))
def export(folder: Path) -> None:
    """Write the draft as YAML files into FOLDER."""
    from tamarack.config.exchange import export_to

    for name in export_to(here(), folder):
        click.echo(name)


@main.command()
@click.argument("path", type=click.Path(path_type=Path))
def check(path: Path) -> None:
    """Check a file or folder of configuration, changing nothing."""
    from tamarack.config.files import NotApplicable, load

    try:
        loaded = load(path, whole=path.is_dir())
    except NotApplicable as error:
        click.echo(str(error), err=True)
        sys.exit(1)
    configuration = loaded.configuration
    click.echo(
        f"{path} is in order: {len(configuration.backends)} backends, {len(configuration.apis)} APIs,"
        f" {len(configuration.products)} products."
    )


@main.command("apply")
@click.argument("path", type=click.Path(path_type=Path))
@click.option("--yes", is_flag=True, help="Do not ask.")
@click.option("--whole", is_flag=True, help="Remove from the draft what PATH does not name.")
def apply_files(path: Path, yes: bool, whole: bool) -> None:
    """Put a file or folder of configuration into the draft: all of it or nothing. Rolls nothing out."""
    from tamarack.config.exchange import Applying
    from tamarack.config.files import NotApplicable

    try:
        with Applying(here(), path, whole) as applying:
            if not applying.changes:
                click.echo("The draft says this already.")
                return
            for change in applying.changes:
                click.echo(f"{change.what:<8} {change.subject}: {change.text}")
            if yes or click.confirm("Put this into the draft?"):
                applying.apply()
                click.echo("Applied to the draft. Review and roll out in the console.")
            else:
                click.echo("Nothing was changed.")
    except NotApplicable as error:
        click.echo(str(error), err=True)
        sys.exit(1)


@main.command("show-path")
@click.argument("api")
@click.argument("version")
@click.argument("call")
@click.option("--environment", help="What runs there; the live one unless given.")
@click.option("--draft", is_flag=True, help="The draft's instead of what runs.")
def show_path(api: str, version: str, call: str, environment: str | None, draft: bool) -> None:
    """Draw the way of a call: the whole program of an operation, like `show-path sailings 2 "get /sailings"`."""
    from time import perf_counter_ns

    from tamarack.core.told.shown_path import operation_of, shown_path
    from tamarack.store.draft.queries import load_configuration
    from tamarack.store.environments.queries import known
    from tamarack.store.rollouts.queries import running_configuration

    with database_session() as session:
        there = known(session)
        where = environment or there.live
        if where not in there:
            raise click.BadParameter(f"{where!r} is no environment; there are {there.said}", param_hint="--environment")
        configuration = load_configuration(session) if draft else running_configuration(session, where)
    try:
        operation = operation_of(configuration, where, api, version, call, perf_counter_ns)
    except LookupError as error:
        click.echo(f"{error.args[0]} (in {'the draft' if draft else where})", err=True)
        sys.exit(1)
    for line in shown_path(operation):
        click.echo(line)


@main.command("restore-quotas")
def restore_quotas() -> None:
    """Bring the shared counts of quotas up to the database's, after Redis lost what it kept."""
    from tamarack.gateway.counters.restore import restore

    current = here()
    if not current.redis:
        click.echo("Nodes count by themselves here (TAMARACK_REDIS_URL is none): nothing to restore.", err=True)
        sys.exit(1)
    click.echo(f"Raised {restore(current.database, current.redis, tries=1)} counts.")


@main.group()
def boards() -> None:
    """Boards as files (JSON)."""


@boards.command("list")
def list_boards() -> None:
    """The names of all boards, and whose they are."""
    from sqlmodel import select

    from tamarack.store.boards.queries import shipped
    from tamarack.store.boards.tables import BoardRow

    for board in shipped().values():
        click.echo(f"{board.name}\t{board.title}\tships with Tamarack")
    with database_session() as session:
        for row in session.exec(select(BoardRow).order_by(BoardRow.name)):
            click.echo(f"{row.name}\t{row.body['title']}\t{row.owner}")


@boards.command("write")
@click.argument("name")
def write_board(name: str) -> None:
    """Write a board to the standard output."""

    from tamarack.core.traffic.board import Board
    from tamarack.store.boards.queries import shipped
    from tamarack.store.boards.tables import BoardRow

    with database_session() as session:
        row = session.get(BoardRow, name)
    board = shipped().get(name) or (Board.model_validate(row.body) if row is not None else None)
    if board is None:
        click.echo(f"There is no board {name}; `tamarack boards list` names them.", err=True)
        sys.exit(1)
    click.echo(board.written(), nl=False)


@boards.command("read")
@click.argument("file", type=click.File(encoding="utf-8"))
@click.option("--owner", required=True, help="The mail address of the member of staff whose it is to be.")
@click.option("--role", "roles", multiple=True, help="A role that sees it too; may be given several times.")
def read_board_file(file: TextIO, owner: str, roles: tuple[str, ...]) -> None:
    """Read a board from its file."""
    from sqlmodel import select

    from tamarack.core.traffic.board import NotABoard, read_board
    from tamarack.store.audit.log import Actor
    from tamarack.store.boards.queries import save_board
    from tamarack.store.errors import NotPossible
    from tamarack.store.people.staff import Staff

    with database_session() as session:
        try:
            board = read_board(file.read())
            if session.exec(select(Staff).where(Staff.email == owner)).first() is None:
                raise NotPossible(f"There is no member of staff {owner!r}.")
            save_board(session, Actor(owner, "command line"), board, roles or None)
        except (NotABoard, NotPossible) as error:
            click.echo(f"{file.name}: {error}", err=True)
            sys.exit(1)
        session.commit()
    click.echo(f"Read the board {board.name}.")


@main.command("rebuild-rollups")
@click.option("--days", type=click.IntRange(1, 400), default=1, help="How many days back, today included.")
def rebuild(days: int) -> None:
    """Make the roll-ups of the last days anew from the single calls."""
    from datetime import UTC, datetime, timedelta

    import psycopg

    from tamarack.store.traffic.recording import rebuild_rollups

    tomorrow = datetime.now(UTC).replace(hour=0, minute=0, second=0, microsecond=0) + timedelta(days=1)
    with psycopg.connect(here().database, autocommit=True) as connection:
        many = rebuild_rollups(connection, tomorrow - timedelta(days=days), tomorrow)
    click.echo(f"Counted {many:,} calls again.")


if __name__ == "__main__":
    main(prog_name="tamarack")
