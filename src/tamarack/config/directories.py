"""Directories of end users and their clients as a YAML file: written, checked, applied.

Every problem is told with its line.
"""

from __future__ import annotations

from pathlib import Path
from typing import Any

from pydantic import ValidationError
from sqlmodel import Session, select

from tamarack.config.files import FileProblem, NotApplicable
from tamarack.core.documents.decoding import decode
from tamarack.core.documents.located import Located, NotReadable, read
from tamarack.core.documents.yaml_text import to_yaml
from tamarack.core.sign_in.directory_file import ClientEntry, DirectoryEntry, DirectoryFile
from tamarack.core.types import problems_of
from tamarack.store.applications.tables import Application
from tamarack.store.audit import log as auditing
from tamarack.store.audit.log import Actor
from tamarack.store.errors import NotPossible
from tamarack.store.sign_in import clients, users
from tamarack.store.sign_in.tables import Directory, SignInClient

_PLAIN = ("title", "codes", "sign_up", "active", "access_minutes", "refresh_days")
"""Fields of a directory that are the same in the file and in the table."""


def entries(session: Session) -> DirectoryFile:
    """What is kept now, as it would stand in a file."""
    return DirectoryFile(directories=tuple(_entry(session, one) for one in users.directories(session)))


def _entry(session: Session, directory: Directory) -> DirectoryEntry:
    found, _ = clients.find_clients(session, directory.name, "", 100_000)
    return DirectoryEntry(
        name=directory.name,
        password=directory.password_rules,
        clients=tuple(_client(one, application) for one, application in found if one.revoked_at is None),
        **{name: getattr(directory, name) for name in _PLAIN},
    )


def _client(client: SignInClient, application: Application) -> ClientEntry:
    return ClientEntry.model_validate(
        clients.spec_of(client)._asdict()
        | {"id": client.id, "application": application.name, "environment": client.environment}
    )


def written(file: DirectoryFile) -> str:
    """The file that says it."""
    return to_yaml(file.model_dump(mode="json", exclude_defaults=True) or {"directories": []})


def read_file(path: Path) -> tuple[DirectoryFile, Located]:
    """Read a file. Raises `NotApplicable` with every problem and its line."""
    try:
        located = read(decode(path.read_bytes()))
    except NotReadable as error:
        raise NotApplicable([FileProblem(str(path), error.line, "", str(error))]) from error
    except OSError as error:
        raise NotApplicable([FileProblem(str(path), 0, "", f"cannot be read: {error}")]) from error
    twice = [FileProblem(str(path), line, ".".join(map(str, where)), "stands twice; remove one")
             for where, line in located.doubled]  # fmt: skip
    if twice:
        raise NotApplicable(twice)
    try:
        return DirectoryFile.model_validate(located.data), located
    except ValidationError as error:
        raise NotApplicable(
            [
                FileProblem(str(path), located.line_skipping(one.path), one.field, one.message)
                for one in problems_of(error)
            ]
        ) from error


def put(session: Session, actor: Actor, path: Path, pepper: bytes) -> list[str]:
    """Make and change what a file names, and leave the rest; returns each change in words, for whoever commits.

    Raises `NotApplicable`, and then nothing may be committed.
    """
    file, located = read_file(path)
    said: list[str] = []
    problems: list[FileProblem] = []
    before = {one.name: one for one in entries(session).directories}
    for place, entry in enumerate(file.directories):
        said += _put_directory(session, actor, entry, before.get(entry.name))
        for number, client in enumerate(entry.clients):
            where: tuple[str | int, ...] = ("directories", place, "clients", number)
            try:
                said += _put_client(session, actor, entry, client, pepper)
            except NotPossible as error:
                field = (*where, error.field) if error.field else where
                line = located.line_skipping(field)
                problems.append(FileProblem(str(path), line, ".".join(map(str, field)), str(error)))
    if problems:
        raise NotApplicable(problems)
    return said


def _differs(before: Any, after: Any) -> str:
    """The fields that change, each with what it becomes."""
    old, new = before.model_dump(mode="json"), after.model_dump(mode="json")
    return "; ".join(f"{name} {_shown(old[name])} → {_shown(new[name])}" for name in new
                     if name != "clients" and old[name] != new[name])  # fmt: skip


def _shown(value: Any) -> str:
    if isinstance(value, list):
        return ", ".join(map(str, value)) or "none"
    if isinstance(value, dict):
        return ", ".join(f"{name} {_shown(one)}" for name, one in value.items())
    return {True: "yes", False: "no"}[value] if isinstance(value, bool) else str(value)


def _put_directory(session: Session, actor: Actor, entry: DirectoryEntry, before: DirectoryEntry | None) -> list[str]:
    if before is None:
        made = users.make_directory(session, actor, entry.name, entry.title, entry.password)
    else:
        if not (changes := _differs(before, entry)):
            return []
        made = session.get_one(Directory, entry.name)
        auditing.record(session, actor, "change directory", entry.name)
    for name in _PLAIN:
        setattr(made, name, getattr(entry, name))
    made.rules = entry.password.model_dump(mode="json")
    session.add(made)
    session.flush()
    return [f"make the directory {entry.name}"] if before is None else [f"change the directory {entry.name}: {changes}"]


def _put_client(session: Session, actor: Actor, entry: DirectoryEntry, client: ClientEntry, pepper: bytes) -> list[str]:
    kept = session.get(SignInClient, client.id)
    application = session.exec(select(Application).where(Application.name == client.application)).first()
    if application is None:
        raise NotPossible(f"there is no application {client.application!r} here; make it first", "application")
    spec = clients.ClientSpec(**client.model_dump(exclude={"id", "application", "environment"}))
    if kept is None:
        directory = session.get_one(Directory, entry.name)
        clients.make_client(session, actor, application, directory, client.environment, spec, pepper, client.id)
        more = "; make its secret in the console" if client.confidential else ""
        return [f"make the client {client.id} of {client.application}{more}"]
    stays = {
        "application": kept.application_id == application.id,
        "environment": kept.environment == client.environment,
        "confidential": kept.confidential == client.confidential,
        "id": kept.directory == entry.name,
    }
    other = next((name for name, same in stays.items() if not same), None)
    if other is not None:
        raise NotPossible(f"the client {client.id} is another here: its {other} stays; give this one another id", other)
    changes = _differs(_client(kept, application), client)
    if not changes:
        return []
    clients.change_client(session, actor, kept, spec)
    return [f"change the client {client.id}: {changes}"]
