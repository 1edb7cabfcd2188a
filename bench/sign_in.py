"""The sign-in service under load: tokens, the sign-in page and a sign-in, beside the smallest page of the same program.

The service runs as it does in an installation (one process of eight threads) on a database with many users; eight
callers ask it at a time. A sign-in costs what the password's hash costs, on purpose.
"""

import http.client
import re
import shutil
import socket
import statistics
import subprocess
import tempfile
import threading
import time
from base64 import b64encode
from collections.abc import Callable
from pathlib import Path
from urllib.parse import urlencode

from sqlmodel import Session

from tamarack.core.sign_in.password_rules import PasswordRules
from tamarack.settings import Settings
from tamarack.start.postgres import Cluster
from tamarack.store.applications import changes as subscribing
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.engine import make_engine
from tamarack.store.joining.queries import new_organization
from tamarack.store.migrate import migrate
from tamarack.store.people.passwords import hash_password
from tamarack.store.sign_in import clients, users
from tamarack.store.sign_in.clients import CLIENT, CODE, REFRESH, ClientSpec
from tamarack.store.sign_in.tables import EndUser
from tamarack.web.serve import command

USERS = 20_000
CALLERS = 8
SECONDS = 4.0
PASSWORD = "Puffin-Quay-52"
EMAIL = "u1@passengers.example"


def free_port() -> int:
    with socket.socket() as probe:
        probe.bind(("127.0.0.1", 0))
        return int(probe.getsockname()[1])


def furnish(session: Session, pepper: bytes) -> tuple[str, str]:
    """A directory of many users, and a client that keeps a secret: its id and secret."""
    directory = users.make_directory(session, COMMAND_LINE, "passengers", "Passengers", PasswordRules())
    hashed = hash_password(PASSWORD)
    session.add_all(
        EndUser(
            directory="passengers", email=f"u{number}@passengers.example", name=f"User {number}", password_hash=hashed
        )
        for number in range(USERS)
    )
    owner = new_organization(session, COMMAND_LINE, "Tern Trips")
    application = subscribing.make_application(session, COMMAND_LINE, owner, "Tern Mobile")
    spec = ClientSpec("Tern Mobile", [CODE, CLIENT, REFRESH], ["https://tern.example/back"], (), True)
    made, secret = clients.make_client(session, COMMAND_LINE, application, directory, "production", spec, pepper)
    session.commit()
    return made.id, secret


Ask = Callable[[http.client.HTTPConnection], int]


def load(port: int, ask: Ask) -> tuple[float, float, float]:
    """Requests a second of some callers at once, and the median and 99th time of one in milliseconds."""
    times: list[float] = []
    until = time.perf_counter() + SECONDS

    def call() -> None:
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=30)
        while (begun := time.perf_counter()) < until:
            status = ask(connection)
            assert status in (200, 303), status
            times.append((time.perf_counter() - begun) * 1000)
        connection.close()

    callers = [threading.Thread(target=call) for _ in range(CALLERS)]
    for one in callers:
        one.start()
    for one in callers:
        one.join()
    times.sort()
    return len(times) / SECONDS, statistics.median(times), times[int(len(times) * 0.99)]


def get(path: str) -> Ask:
    def ask(connection: http.client.HTTPConnection) -> int:
        connection.request("GET", path)
        answer = connection.getresponse()
        answer.read()
        return answer.status

    return ask


def post(path: str, form: dict[str, str], basic: tuple[str, str]) -> Ask:
    body = urlencode(form)
    fields = {
        "Content-Type": "application/x-www-form-urlencoded",
        "Authorization": "Basic " + b64encode(":".join(basic).encode()).decode(),
    }

    def ask(connection: http.client.HTTPConnection) -> int:
        connection.request("POST", path, body, fields)
        answer = connection.getresponse()
        answer.read()
        return answer.status

    return ask


def sign_in(connection: http.client.HTTPConnection) -> int:
    """The page, and the password on it."""
    connection.request("GET", "/passengers/sign-in")
    page = connection.getresponse()
    token = re.search(rb'name="csrf_token" value="([^"]+)"', page.read())
    assert token is not None
    cookie = (page.getheader("Set-Cookie") or "").partition(";")[0]
    form = urlencode({"csrf_token": token[1].decode(), "email": EMAIL, "password": PASSWORD})
    fields = {"Content-Type": "application/x-www-form-urlencoded", "Cookie": cookie}
    connection.request("POST", "/passengers/sign-in", form, fields)
    answer = connection.getresponse()
    answer.read()
    return answer.status


def main() -> None:
    """Print the figures."""
    home = Path(tempfile.mkdtemp(prefix="tamarack-bench-"))
    home.chmod(0o755)
    cluster = Cluster(home, free_port(), "only-for-the-bench")
    cluster.prepare()
    with (home / "log").open("w") as log:
        database = subprocess.Popen([*cluster.server_command(), "-c", "fsync=off"], stdout=log, stderr=log)
    service = None
    try:
        while not cluster.answers():
            assert database.poll() is None, (home / "log").read_text()
        cluster.make_roles()
        cluster.make_database("bench")
        engine = make_engine(cluster.url("bench"))
        migrate(engine)
        settings = Settings(home=home, database_url=cluster.url("bench"))
        with Session(engine) as session:
            client = furnish(session, settings.keys.raw("pepper"))
        port = free_port()
        environment = {"TAMARACK_HOME": str(home), "TAMARACK_DATABASE_URL": cluster.url("bench"), "PYTHONPATH": "src"}
        with (home / "service.log").open("w") as log:
            service = subprocess.Popen(command("sign-in", port), env=environment, stdout=log, stderr=log)
        for _ in range(200):
            try:
                get("/-/health")(http.client.HTTPConnection("127.0.0.1", port, timeout=1))
                break
            except OSError:
                time.sleep(0.05)
        own = post("/passengers/token", {"grant_type": "client_credentials"}, client)
        connection = http.client.HTTPConnection("127.0.0.1", port, timeout=5)
        connection.request("POST", "/passengers/token", "grant_type=client_credentials", {
            "Content-Type": "application/x-www-form-urlencoded",
            "Authorization": "Basic " + b64encode(":".join(client).encode()).decode()})  # fmt: skip
        token = re.search(rb'"access_token": ?"([^"]+)"', connection.getresponse().read())
        assert token is not None
        rows: dict[str, Ask] = {
            "the smallest page": get("/-/health"),
            "sign-in page": get("/passengers/sign-in"),
            "metadata": get("/passengers/.well-known/openid-configuration"),
            "keys": get("/passengers/jwks.json"),
            "token, client credentials": own,
            "introspection": post("/passengers/introspect", {"token": token[1].decode()}, client),
            "page and password": sign_in,
        }
        print(f"{'':28} {'a second':>9} {'median':>9} {'99 %':>9}   share of the smallest page")
        bare = 0.0
        for words, ask in rows.items():
            rate, middle, tail = load(port, ask)
            bare = bare or rate
            print(f"{words:28} {rate:9.0f} {middle:6.1f} ms {tail:6.1f} ms {rate / bare:8.2f}")
        engine.dispose()
    finally:
        for program in (service, database):
            if program is not None:
                program.send_signal(2)
                program.wait(30)
        shutil.rmtree(home, ignore_errors=True)
        shutil.rmtree(cluster.folder, ignore_errors=True)


if __name__ == "__main__":
    main()
