"""What a page asks of the database: each thing once, and no more where there are more of what it lists."""

from collections import Counter
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

import pytest
from flask.testing import FlaskClient
from sqlalchemy import event
from sqlmodel import Session

from journeys.pages.test_every_page import CONSOLE_PAGES
from tamarack.demo.world import ORGANIZATIONS
from tamarack.store.people.tables import Organization

Question = tuple[str, str]
"""A statement, and the values in it."""


@contextmanager
def _asked(client: FlaskClient) -> Iterator[list[Question]]:
    """The questions that the client's program asks meanwhile, but for how they are to be answered."""
    engine, found = client.application.extensions["tamarack_engine"], list[Question]()

    def note(connection: Any, cursor: Any, statement: str, values: Any, context: Any, many: bool) -> None:
        if not statement.startswith("SET LOCAL"):
            found.append((" ".join(statement.split()), repr(values)))

    event.listen(engine, "before_cursor_execute", note)
    try:
        yield found
    finally:
        event.remove(engine, "before_cursor_execute", note)


def test_a_page_asks_what_the_draft_and_what_runs_is_once(admin: FlaskClient) -> None:
    often = {}
    for path in CONSOLE_PAGES:
        with _asked(admin) as questions:
            admin.get(path)
        marks = [one for one, _ in questions if "sum(draft_item.revision)" in one]
        newest = Counter(one for one in questions if "ORDER BY rollout.number DESC" in one[0])
        if len(marks) > 2 or any(many > 2 for many in newest.values()):  # what is compared in a review asks once more
            often[path] = (len(marks), newest.most_common(1))
    assert not often


@pytest.mark.parametrize("path", ["/traffic/statements/", "/subscribers/", "/subscribers/people", "/review"])
def test_a_page_asks_no_more_where_there_is_more_to_list(admin: FlaskClient, world: Session, path: str) -> None:
    admin.get(path)
    with _asked(admin) as few:
        admin.get(path)
    world.add_all(Organization(name=f"quay-{n}", title=f"A quay {n}", kind="partner") for n in range(20))
    world.commit()
    with _asked(admin) as many:
        answer = admin.get(path)
    assert answer.status_code == 200
    assert len(ORGANIZATIONS) < 20
    assert len(many) <= len(few)
