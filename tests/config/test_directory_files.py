"""Directories and clients as a file, and users as a list: what is written is read, and every problem has its line."""

from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st
from sqlmodel import Session, func, select

from sign_in.passengers import Passengers
from tamarack.config.directories import entries, put, read_file, written
from tamarack.config.files import NotApplicable
from tamarack.config.user_lists import add_all, read_list
from tamarack.config.user_lists import written as list_of
from tamarack.core.sign_in.directory_file import DirectoryEntry, DirectoryFile
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.joining.tables import MailLink
from tamarack.store.sign_in.clients import is_secret_of
from tamarack.store.sign_in.tables import Directory, EndUser, SignInClient

PEPPER = bytes(32)


@pytest.fixture
def file(tmp_path: Path) -> Callable[[str], Path]:
    def made(text: str) -> Path:
        path = tmp_path / "file"
        path.write_text(text, encoding="utf-8")
        return path

    return made


# directories and clients


def test_what_is_written_is_read_and_changes_nothing(
    world: Session, passengers: Passengers, file: Callable[[str], Path]
) -> None:
    text = written(entries(world))
    assert passengers.secret not in text and passengers.web.secret_digest not in text and "nell@" not in text
    found, _ = read_file(file(text))
    assert found == entries(world)
    assert put(world, COMMAND_LINE, file(text), PEPPER) == []


@given(st.lists(st.builds(DirectoryEntry, name=st.sampled_from("abcdef"), title=st.text("xyz å", min_size=1).filter(
    lambda text: bool(text.strip())), codes=st.sampled_from(["off", "optional", "required"]), sign_up=st.booleans(),
    access_minutes=st.integers(1, 1440)), unique_by=lambda one: one.name, max_size=4))  # fmt: skip
def test_any_file_is_read_as_it_was_written(
    tmp_path_factory: pytest.TempPathFactory, made: list[DirectoryEntry]
) -> None:
    path = tmp_path_factory.mktemp("files") / "directories.yaml"
    file = DirectoryFile(directories=tuple(made))
    path.write_text(written(file), encoding="utf-8")
    assert read_file(path)[0] == file


def test_a_file_makes_and_changes_what_it_names_and_says_so(
    world: Session, passengers: Passengers, file: Callable[[str], Path]
) -> None:
    text = written(entries(world)).replace("title: Tern on the web", "title: Tern online")
    text += """\
  - name: crew
    title: Skerry crew
    codes: required
    clients:
      - {id: crew-desk, application: tern-web, environment: test, title: Crew desk, confidential: true,
         grants: [client_credentials]}
"""
    said = put(world, COMMAND_LINE, file(text), PEPPER)
    assert said == [
        f"change the client {passengers.web.id}: title Tern on the web → Tern online",
        "make the directory crew",
        "make the client crew-desk of tern-web; make its secret in the console",
    ]
    assert world.get_one(Directory, "crew").codes == "required"
    made = world.get_one(SignInClient, "crew-desk")
    assert made.confidential and not is_secret_of(made, "", PEPPER), "nobody signs in with no secret"
    assert world.get_one(SignInClient, passengers.phone.id).title == "Tern Mobile", "what is not named stays"


@pytest.mark.parametrize(
    ("text", "line", "words"),
    [
        ("directories:\n  - name: crew\n", 2, "title"),
        ("directories:\n  - {name: Crew, title: Crew}\n", 2, "name"),
        ("directories:\n  - name: crew\n    title: Crew\n    codes: sometimes\n", 4, "codes"),
        ("directories:\n  - name: crew\n    title: Crew\n    password:\n      shortest: 3\n", 5, "shortest"),
        ("directories:\n  - {name: crew, title: A}\n  - {name: crew, title: B}\n", 1, "stands twice"),
        ("directories:\n  - name: crew\n    title: A\n    title: B\n", 4, "stands twice"),
        ("directories: [\n", 2, ""),
    ],
)
def test_what_is_wrong_in_a_file_is_told_with_its_line(
    file: Callable[[str], Path], text: str, line: int, words: str
) -> None:
    with pytest.raises(NotApplicable) as caught:
        read_file(file(text))
    assert [one.line for one in caught.value.problems] == [line] and words in str(caught.value)


@pytest.mark.parametrize(
    ("client", "words"),
    [
        ("application: nobody", "there is no application 'nobody' here"),
        ("redirects: ['http://tern.example/']", "is not encrypted"),
        ("grants: [client_credentials]", "only a client that keeps a secret"),
        ("grants: [password]", "grants"),
        ("environment: test", "its environment stays"),
        ("confidential: true", "its confidential stays"),
    ],
)
def test_a_client_that_cannot_be_is_named(
    world: Session, passengers: Passengers, file: Callable[[str], Path], client: str, words: str
) -> None:
    fields = {
        "id": passengers.phone.id, "application": "tern-web", "environment": "production", "title": "Tern Mobile",
        "grants": "[authorization_code]", "redirects": "['https://tern.example/']",
    }  # fmt: skip
    name, _, value = client.partition(": ")
    entry = "\n".join(f"        {key}: {one}" for key, one in (fields | {name: value}).items())
    text = f"directories:\n  - name: passengers\n    title: P\n    clients:\n      -\n{entry}\n"
    with pytest.raises(NotApplicable) as caught:
        put(world, COMMAND_LINE, file(text), PEPPER)
    assert words in str(caught.value) and caught.value.problems[0].line >= 5


# users


def add(world: Session, passengers: Passengers, path: Path, invite: bool = False) -> Any:
    return add_all(world, COMMAND_LINE, passengers.directory, path, "https://id.skerry.example", invite)


def test_users_come_from_a_list_with_temporary_passwords_groups_and_claims(
    world: Session, passengers: Passengers, file: Callable[[str], Path]
) -> None:
    text = (
        'email,name,groups,claims\nA.Moe@Moe.example,Astrid Moe,crew; deck,"{""deck"": 7}"\nb@moe.example,"Bo, jr",,\n'
    )
    made = add(world, passengers, file(text))
    assert [email for email, _ in made] == ["a.moe@moe.example", "b@moe.example"]
    astrid = world.exec(select(EndUser).where(EndUser.email == "a.moe@moe.example")).one()
    assert (astrid.groups, astrid.claims, astrid.must_change_password) == (["crew", "deck"], {"deck": 7}, True)
    out = list_of(world, passengers.directory)
    assert '"Bo, jr"' in out and made[0][1] not in out and "argon2" not in out


def test_a_list_asks_users_in_by_mail(world: Session, passengers: Passengers, file: Callable[[str], Path]) -> None:
    assert add(world, passengers, file("email,name\na@moe.example,Astrid\n"), invite=True) == [("a@moe.example", "")]
    assert world.exec(select(func.count()).where(MailLink.purpose == "user-invite")).one() == 1


@pytest.mark.parametrize(
    ("text", "lines", "words"),
    [
        ("", [1], "columns email and name"),
        ("email\na@moe.example\n", [1], "columns email and name"),
        ("email,name,password\na@moe.example,A,x\n", [1], "password: is no column here"),
        ("email,name\nnobody,A\na@moe.example,\n", [2], "'nobody'"),
        ("email,name\na@moe.example,A\nA@moe.example,B\n", [3], "stands in line 2 too"),
        ("email,name\na@moe.example,A,B\n", [2], "another number of columns"),
        ("email,name,claims\na@moe.example,A,[1]\nb@moe.example,B,{\n", [2, 3], "is no object"),
        ('email,name,claims\na@moe.example,A,"{""sub"": 1}"\n', [2], "'sub' is what the service itself says"),
        ("email,name\na@moe.example,A\nnell@holm.example,N\n", [3], "has a user nell@holm.example already"),
        ('email,name\n"a@moe.example,A\n', [2], "is no CSV"),
    ],
)
def test_a_list_with_a_mistake_makes_nobody_and_names_each_line(
    world: Session, passengers: Passengers, file: Callable[[str], Path], text: str, lines: list[int], words: str
) -> None:
    with pytest.raises(NotApplicable) as caught:
        add(world, passengers, file(text))
    assert [one.line for one in caught.value.problems] == lines and words in str(caught.value)
    world.rollback()
    assert world.exec(select(func.count()).select_from(EndUser)).one() == 1


def test_a_name_that_a_spreadsheet_would_run_is_written_as_text_and_read_back(
    world: Session, passengers: Passengers, file: Callable[[str], Path]
) -> None:
    passengers.user.name = "=cmd|' /C calc'!A0"
    world.add(passengers.user)
    world.commit()
    out = list_of(world, passengers.directory)
    assert ",'=cmd" in out
    assert read_list(file(out))[0].name == passengers.user.name
