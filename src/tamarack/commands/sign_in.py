"""Directories of end users, their clients and their users as files."""

import csv
import sys
from pathlib import Path

import click

from tamarack.commands.context import database_session, here

FILE = click.Path(path_type=Path, dir_okay=False)


@click.group()
def directories() -> None:
    """Directories of end users and their clients as a file (YAML), without secrets and users."""


@directories.command("write")
def write_directories() -> None:
    """Write every directory to the standard output."""
    from tamarack.config.directories import entries, written

    with database_session() as session:
        click.echo(written(entries(session)), nl=False)


@directories.command("check")
@click.argument("file", type=FILE)
def check_directories(file: Path) -> None:
    """Check a file of directories, changing nothing."""
    from tamarack.config.directories import read_file
    from tamarack.config.files import NotApplicable

    try:
        found, _ = read_file(file)
    except NotApplicable as error:
        click.echo(str(error), err=True)
        sys.exit(1)
    many = sum(len(one.clients) for one in found.directories)
    click.echo(f"{file} is in order: {len(found.directories)} directories, {many} clients.")


@directories.command("apply")
@click.argument("file", type=FILE)
@click.option("--yes", is_flag=True, help="Do not ask.")
def apply_directories(file: Path, yes: bool) -> None:
    """Make and change what FILE names: all of it or nothing. What it does not name stays."""
    from tamarack.config.directories import put
    from tamarack.config.files import NotApplicable
    from tamarack.store.audit.log import COMMAND_LINE

    with database_session() as session:
        try:
            said = put(session, COMMAND_LINE, file, here().keys.raw("pepper"))
        except NotApplicable as error:
            click.echo(str(error), err=True)
            sys.exit(1)
        if not said:
            click.echo("It is so already.")
            return
        for line in said:
            click.echo(line)
        if yes or click.confirm("Do this?"):
            session.commit()
            click.echo("Done.")
        else:
            click.echo("Nothing was changed.")


@click.group()
def users() -> None:
    """End users of a directory as a list (CSV): email, name, groups, claims."""


@users.command("write")
@click.argument("directory")
def write_users(directory: str) -> None:
    """Write the users of DIRECTORY to the standard output, without passwords."""
    from tamarack.config.user_lists import written
    from tamarack.store.sign_in.tables import Directory

    with database_session() as session:
        found = session.get(Directory, directory)
        if found is None:
            click.echo(f"There is no directory {directory}.", err=True)
            sys.exit(1)
        click.echo(written(session, found), nl=False)


@users.command("read")
@click.argument("directory")
@click.argument("file", type=FILE)
@click.option("--invite", is_flag=True, help="Ask them in by mail, in the place of temporary passwords.")
def read_users(directory: str, file: Path, invite: bool) -> None:
    """Make the users that FILE lists in DIRECTORY: all of them or none.

    Temporary passwords, which have to be changed at the first sign-in, go to the standard output as CSV and are kept
    nowhere.
    """
    from tamarack.config.files import NotApplicable
    from tamarack.config.user_lists import add_all
    from tamarack.store.audit.log import COMMAND_LINE
    from tamarack.store.sign_in.tables import Directory

    with database_session() as session:
        found = session.get(Directory, directory)
        if found is None:
            click.echo(f"There is no directory {directory}.", err=True)
            sys.exit(1)
        try:
            made = add_all(session, COMMAND_LINE, found, file, here().sign_in_url, invite)
        except NotApplicable as error:
            click.echo(str(error), err=True)
            sys.exit(1)
        session.commit()
    if not invite:
        rows = csv.writer(sys.stdout)
        rows.writerow(("email", "temporary password"))
        rows.writerows(made)
    click.echo(f"{'Invited' if invite else 'Made'} {len(made):,} user{'' if len(made) == 1 else 's'}.", err=True)
