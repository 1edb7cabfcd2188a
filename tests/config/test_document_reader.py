"""Documents are read in a process of their own: what they ask for is bounded, and they take nothing with them."""

import os

from sqlalchemy import Engine
from sqlmodel import Session

from tamarack.config.document_reader import DocumentReader
from tamarack.core.openapi.read import describe
from tamarack.store.documents import queries as documents
from tamarack.worker.documents import DocumentTask

GOOD = 'openapi: 3.1.0\ninfo: {title: T, version: "1"}\npaths: {/a: {get: {responses: {"200": {description: ok}}}}}'
MUCH = "openapi: 3.1.0\nx-much:\n" + "  - {a: [1, 2, 3]}\n" * 78_000 + GOOD.partition("\n")[2]


def test_a_reader_says_what_the_core_says_and_what_it_is_doing() -> None:
    steps: list[str] = []
    with DocumentReader() as reader:
        assert reader.read(GOOD, steps.append) == describe(GOOD)
        assert reader.read("a: [") == describe("a: [")
    assert steps[0] == "reading the text"
    assert len(steps) > 2


def test_a_document_that_asks_for_too_much_time_ends_its_reader_and_no_other() -> None:
    with DocumentReader(seconds=0.5) as reader:
        problem = reader.read(MUCH).problems[0]
        assert problem.severity == "error"
        assert "signal" in problem.message
        assert reader.read(GOOD).usable


def test_a_document_that_asks_for_too_much_memory_is_an_error_of_its_own() -> None:
    with DocumentReader(memory=170_000_000) as reader:
        assert reader.read(GOOD).usable
        problem = reader.read(MUCH).problems[0]
        assert problem.severity == "error"
        assert "more memory than one document may" in problem.message or "stopped" in problem.message
        assert reader.read(GOOD).usable


def test_a_reader_that_is_killed_is_started_anew() -> None:
    with DocumentReader() as reader:
        reader.read(GOOD)
        assert reader._child is not None
        os.kill(reader._child.pid, 9)
        first = reader.read(GOOD)
        assert first.usable or "stopped" in first.problems[0].message
        assert reader.read(GOOD).usable


def test_the_worker_reads_what_waits_and_one_bad_document_stops_none(engine: Engine) -> None:
    said: list[str] = []
    task = DocumentTask(engine, said.append)
    with Session(engine) as session:
        bad, good = documents.ask(session, "[" * 50_000), documents.ask(session, GOOD)
        session.commit()
    assert task.read_next()
    assert task.read_next()
    assert not task.read_next()
    task.close()
    with Session(engine) as session:
        broken, whole = documents.description_of(session, bad), documents.description_of(session, good)
    assert broken is not None
    assert not broken.usable
    assert whole is not None
    assert [one.call for one in whole.operations] == ["get /a"]
    assert "deep" in said[0]
