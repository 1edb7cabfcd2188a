"""Environments: which there are, making one, and comparing what two of them run."""

import sys
from typing import TYPE_CHECKING

import click

from tamarack.commands.context import database_session, here

if TYPE_CHECKING:
    from sqlmodel import Session

    from tamarack.core.configuration.model import Configuration


@click.group()
def environments() -> None:
    """Environments: list them, make one, compare two. The last one is the live one."""


@environments.command("list")
def list_environments() -> None:
    """Their names in their order, with the rollout that runs and where callers reach each."""
    from tamarack.store.environments.addresses import reached_at
    from tamarack.store.environments.queries import known
    from tamarack.store.rollouts.queries import running_number

    with database_session() as session:
        there = known(session)
        for one in there.listed:
            number = running_number(session, one.name)
            runs = f"rollout {number}" if number else "nothing runs yet"
            live = "the live one" if one.name == there.live else ""
            click.echo(f"{one.name}\t{runs}\t{reached_at(session, here(), one.name)}\t{live}".rstrip())


@environments.command("make")
@click.argument("name")
@click.option("--summary", default="", help="What it is for.")
@click.option("--address", default="", help="Where callers reach it.")
@click.option("--before", default="", help="The one that it stands before; the live one unless given.")
@click.option("--on-portal", is_flag=True, help="Developers see what it offers, and subscribe to it by themselves.")
@click.option("--open-to-owners", is_flag=True, help="API owners may roll out to it too.")
def make_environment(name: str, summary: str, address: str, before: str, on_portal: bool, open_to_owners: bool) -> None:
    """Make the environment NAME."""
    from tamarack.store.audit.log import COMMAND_LINE
    from tamarack.store.environments import queries
    from tamarack.store.errors import NotPossible

    said = {"name": name, "summary": summary, "address": address, "open_to_owners": open_to_owners,
            "on_portal": on_portal}  # fmt: skip
    with database_session() as session:
        try:
            queries.make(session, COMMAND_LINE, queries.read(said), before)
        except NotPossible as error:
            click.echo(f"Error: {error}", err=True)
            sys.exit(1)
        session.commit()
    click.echo(f"Made the environment {name}. Add a node to it, and roll out to it, in the console.")


@environments.command("compare")
@click.argument("first")
@click.argument("second")
def compare_environments(first: str, second: str) -> None:
    """What SECOND would have otherwise if it ran what FIRST runs; either may be the word draft.

    Ends with 0 where they say the same, with 1 where they differ, and with 2 where there is no such environment.
    """
    from tamarack.core.configuration.difference import difference

    with database_session() as session:
        changes = difference(_held(session, second), _held(session, first))
    for change in changes:
        click.echo(f"{change.what:<8} {change.subject}: {change.text}")
    if not changes:
        click.echo(f"{first} and {second} say the same.")
    sys.exit(1 if changes else 0)


def _held(session: "Session", name: str) -> "Configuration":
    from tamarack.store.draft.queries import load_configuration
    from tamarack.store.environments.queries import known
    from tamarack.store.rollouts.queries import running_configuration

    if name == "draft":
        return load_configuration(session)
    there = known(session)
    if name not in there:
        click.echo(f"Error: {name!r} is no environment; there are {there.said}.", err=True)
        sys.exit(2)
    return running_configuration(session, name)
