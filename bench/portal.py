"""The portal with large documents: reading a reference of a thousand operations, searching fifty APIs.

Each time stands beside that of the smallest page (the health check) of the same program in the same run.
"""

import json
import shutil
import socket
import statistics
import subprocess
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

from flask.testing import FlaskClient
from sqlmodel import Session

from tamarack.core.configuration.backend import Backend, Target
from tamarack.core.configuration.model import Api
from tamarack.portal.app import make_app
from tamarack.settings import Settings
from tamarack.start.postgres import Cluster
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.draft import queries as drafting
from tamarack.store.engine import make_engine
from tamarack.store.migrate import migrate
from tamarack.store.rollouts import queries as rolling

OPERATIONS = 1_000
APIS = 50
ROUNDS = 15
WORDS = ("berth", "crossing", "departure", "fare", "harbour", "lamp", "mooring", "pier", "quay", "tide")


def document(operations: int) -> dict[str, object]:
    """A document whose operations have parameters, bodies and answers with nested schemas."""
    stop = {"type": "object", "properties": {name: {"type": "string", "description": f"The {name}"} for name in WORDS}}
    leg = {"type": "object", "properties": {"stops": {"type": "array", "items": {"$ref": "#/components/schemas/Stop"}},
                                            "next": {"$ref": "#/components/schemas/Leg"}}}  # fmt: skip
    body = {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/Leg"}}}}
    day = {"name": "day", "in": "query", "description": "The day of the crossing", "schema": {"type": "string"}}
    paths = {
        f"/legs/{number}": {
            "post": {
                "summary": f"Leg {number} by {WORDS[number % 10]}",
                "description": f"What there is at the {WORDS[number // 10 % 10]} on this leg, with its stops.",
                "tags": [WORDS[number % 10]],
                "parameters": [day],
                "requestBody": body,
                "responses": {"200": {"description": "The leg", **body}, "404": {"description": "No such leg"}},
            }
        }
        for number in range(operations)
    }
    info = {"title": "Legs", "version": "1"}
    return {"openapi": "3.0.3", "info": info, "paths": paths, "components": {"schemas": {"Stop": stop, "Leg": leg}}}


def furnish(session: Session) -> None:
    """One API of a thousand operations and many small ones, rolled out."""
    backend = Backend(name="b", targets=(Target(address="http://127.0.0.1:9"),))
    drafting.save(session, COMMAND_LINE, "backend", "b", backend, "bench")
    for place in range(APIS):
        many = OPERATIONS if place == 0 else 20
        described = document(many)
        calls = [{"call": f"post {path}", "policies": [{"kind": "open"}]} for path in described["paths"]]  # type: ignore[attr-defined]
        version = {
            "version": "1",
            "base_path": f"/a{place}",
            "backend": "b",
            "document": drafting.keep_document(session, json.dumps(described)),
            "operations": calls,
        }
        api = Api.model_validate({"name": f"a{place}", "title": f"API {place}", "versions": [version]})
        drafting.save(session, COMMAND_LINE, "api", api.name, api, "bench")
    begun = time.perf_counter()
    rolling.roll_out(session, COMMAND_LINE, "production")
    session.commit()
    print(f"rolled out, with the search made anew: {(time.perf_counter() - begun) * 1000:8.0f} ms")


def timed(work: Callable[[], object]) -> float:
    """Milliseconds."""
    begun = time.perf_counter()
    work()
    return (time.perf_counter() - begun) * 1000


def get(client: FlaskClient, path: str) -> Callable[[], None]:
    def work() -> None:
        answer = client.get(path)
        assert answer.status_code == 200, (path, answer.status_code)

    return work


PAGES = {
    "catalogue, 50 APIs": "/",
    "search, one word": "/?search=tide",
    "search, two words": "/?search=tide+leg",
    "reference, 1,000 operations": "/apis/a0/1/",
    "one operation of 1,000": "/apis/a0/1/operation?call=post+/legs/500",
    "document as JSON": "/apis/a0/1/openapi.json",
    "document as YAML": "/apis/a0/1/openapi.yaml",
}


def main() -> None:
    """Print the figures."""
    home = Path(tempfile.mkdtemp(prefix="tamarack-bench-"))
    home.chmod(0o755)
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        port = int(probe.getsockname()[1])
    cluster = Cluster(home, port, "only-for-the-bench")
    cluster.prepare()
    with (home / "log").open("w") as log:
        server = subprocess.Popen([*cluster.server_command(), "-c", "fsync=off"], stdout=log, stderr=log)
    try:
        while not cluster.answers():
            assert server.poll() is None, (home / "log").read_text()
        cluster.make_roles()
        cluster.make_database("bench")
        engine = make_engine(cluster.url("bench"))
        migrate(engine)
        with Session(engine) as session:
            furnish(session)
        client = make_app(Settings(home=home, database_url=cluster.url("bench"))).test_client()
        smallest = [timed(get(client, "/-/health")) for _ in range(ROUNDS)]
        bare = statistics.median(smallest)
        print(f"the smallest page: {bare:.2f} ms")
        print(f"{'':30} {'first':>9} {'median':>9} {'most':>9}   against the smallest")
        for words, path in PAGES.items():
            first = timed(get(client, path))
            later = [timed(get(client, path)) for _ in range(ROUNDS)]
            middle = statistics.median(later)
            print(f"{words:30} {first:6.0f} ms {middle:6.0f} ms {max(later):6.0f} ms {middle / bare:8.0f} times")
        engine.dispose()
    finally:
        server.send_signal(2)
        server.wait(30)
        shutil.rmtree(home, ignore_errors=True)
        shutil.rmtree(cluster.folder, ignore_errors=True)


if __name__ == "__main__":
    main()
