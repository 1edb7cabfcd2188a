"""Small tools of the tests."""

import socket
import subprocess
import time
from collections.abc import Callable, Coroutine
from concurrent.futures import ThreadPoolExecutor
from typing import Any

from flask.testing import FlaskClient
from sqlmodel import Session

from tamarack.core.configuration.model import Configuration
from tamarack.core.identity.material import Material, nothing_sealed
from tamarack.core.openapi.read import describe
from tamarack.store.documents import queries as documents


def material(environment: str = "production", **secrets: str) -> Material:
    """What a node holds besides its callers, with some secrets in it that are sealed with nothing."""
    made = Material(environment, (lambda sealed, about: sealed.encode()) if secrets else nothing_sealed)
    for name, value in secrets.items():
        made.apply("secret", name.replace("_", "-"), {"values": {"": [{"sealed": value}]}})
    return made


def read_now(session: Session, text: str) -> str:
    """Keep a document and read it, as the worker would; returns its name."""
    sha256 = documents.keep_document(session, text)
    documents.take_in(session, sha256, describe(text))
    return sha256


def apart(run: Callable[[Coroutine[Any, Any, Any]], Any], work: Coroutine[Any, Any, Any]) -> Any:
    """Run `run(work)` in a thread of its own: the main one may have a loop already, Playwright's after a journey."""
    with ThreadPoolExecutor(1) as pool:
        return pool.submit(run, work).result()


def free_port() -> int:
    """A port that nothing listens on."""
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def sign_in(client: FlaskClient, email: str, password: str) -> FlaskClient:
    """Sign in, and make sure that it worked."""
    answer = client.post("/sign-in", data={"email": email, "password": password})
    assert answer.status_code == 303, answer.text
    return client


def fresh_redis(port: int, database: int) -> str:
    """The address of an empty database of the tests' Redis."""
    subprocess.run(["redis-cli", "-p", str(port), "-n", str(database), "flushdb"], check=True, capture_output=True)
    return f"redis://127.0.0.1:{port}/{database}"


def until(ready: Callable[[], Any], what: str, seconds: float = 20) -> Any:
    """Ask again and again until something holds; fails, saying what did not come, when it never does."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        found = ready()
        if found:
            return found
        time.sleep(0.02)
    raise AssertionError(f"{what} did not happen within {seconds} s")


def configuration(**changes: Any) -> Configuration:
    """A small configuration: Sailings 2 behind a key, in one product with one plan; parts can be replaced."""
    version: dict[str, Any] = {
        "version": "2",
        "base_path": "/sailings/v2",
        "backend": "timetable",
        "policies": [{"kind": "api-key", "header": "x-skerry-key", "query": "key"}],
        "operations": [
            {"call": "get /sailings"},
            {"call": "post /sailings"},
            {"call": "get /sailings/{id}"},
            {"call": "get /ports", "policies": [{"kind": "open"}]},
        ],
    }
    version.update(changes.pop("version", {}))
    whole: dict[str, Any] = {
        "backends": [{"name": "timetable", "targets": [{"address": "http://127.0.0.1:9"}]}],
        "apis": [{"name": "sailings", "title": "Sailings", "versions": [version]}],
        "products": [
            {
                "name": "passage",
                "title": "Passage",
                "apis": ["sailings"],
                "plans": [{"name": "skiff", "title": "Skiff", "limits": ["1000 per second"]}],
            }
        ],
    }
    whole.update(changes)
    return Configuration.model_validate(whole)
