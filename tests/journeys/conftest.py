"""The running programs, started as a person starts them, and a real browser on them."""

import http.client
import os
import random
import re
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Browser, Page, expect
from playwright.sync_api import Error as PlaywrightError

from helpers import until
from tamarack.settings import Settings

ROOT = Path(__file__).parents[2]
CHROMIUM = "/usr/bin/chromium-headless-shell"
expect.set_options(timeout=15_000)


def port_base() -> int:
    """A base whose ports are free, below those that the system gives to connections by itself."""
    offsets = (*range(8), 10, 11, *range(20, 31), 32, 33, 34)
    bases = list(range(10_000, 32_000, 100))
    random.shuffle(bases)
    return next(base for base in bases if all(_is_free(base + offset) for offset in offsets))


def _is_free(port: int) -> bool:
    with socket.socket() as probe:
        try:
            probe.bind(("127.0.0.1", port))
        except OSError:
            return False
    return True


@dataclass
class Installation:
    """A running installation."""

    base: int
    home: Path
    process: subprocess.Popen[str]
    log: Path

    @property
    def console(self) -> str:
        return f"http://127.0.0.1:{self.base}"

    @property
    def portal(self) -> str:
        return f"http://127.0.0.1:{self.base + 1}"

    @property
    def production(self) -> str:
        return f"http://127.0.0.1:{self.base + 2}"

    @property
    def sign_in(self) -> str:
        return f"http://127.0.0.1:{self.base + 5}"

    @property
    def database(self) -> str:
        return Settings(home=self.home, port_base=self.base).database

    def pids(self) -> dict[str, int]:
        """The running programs."""
        return {path.stem: int(path.read_text().split()[0]) for path in (self.home / "run").glob("*.pid")}


def start(home: Path, base: int, *options: str, ready: bool = True) -> Installation:
    """Start an installation; waits until it says that it is ready."""
    log = home.with_name(home.name + ".log")
    patient = {
        "TAMARACK_COUNTERS_WITHIN_MS": "5000",  # a slow machine is no reason to count in two places
        "TAMARACK_REACHABLE": "127.0.0.1:32768-60999",  # where a test's own backend listens
        "TAMARACK_LEAVE_S": "3",  # longer than a balancer takes to notice
    }
    environment = os.environ | patient | {"TAMARACK_DEMO_DAYS": "1", "PYTHONPATH": str(ROOT / "src")}
    command = [sys.executable, "-m", "tamarack", "start", "--home", str(home), "--port-base", str(base), *options]
    with log.open("a") as out:
        process = subprocess.Popen(command, stdout=out, stderr=out, text=True, env=environment, cwd=ROOT)
    made = Installation(base, home, process, log)
    if ready:
        many = log.read_text().count("Tamarack is ready")
        until(
            lambda: log.read_text().count("Tamarack is ready") > many or process.poll() is not None,
            f"the start: {log.read_text()}",
            240,
        )
        assert process.poll() is None, log.read_text()
    return made


def stop(installation: Installation) -> None:
    """Stop it as Ctrl+C does, and make sure that nothing stays behind."""
    pids = installation.pids()
    installation.process.send_signal(signal.SIGINT)
    assert installation.process.wait(40) == 0, installation.log.read_text()
    left = {name: pid for name, pid in pids.items() if Path(f"/proc/{pid}").exists()}
    assert left == {}


@pytest.fixture(scope="session")
def home() -> Iterator[Path]:
    """A home folder that PostgreSQL's user can enter."""
    folder = Path(tempfile.mkdtemp(prefix="tamarack-journey-"))
    folder.chmod(0o755)
    yield folder / "home"
    subprocess.run(["rm", "-rf", str(folder)], check=False)


@pytest.fixture(scope="session")
def begun(home: Path) -> Iterator[Installation]:
    """The demo, ready; its past is loaded beside what is done in it."""
    made = start(home, port_base())
    yield made
    if made.process.poll() is None:
        stop(made)


@pytest.fixture(scope="session")
def demo(begun: Installation) -> Installation:
    """The demo, running, with its past."""
    until(lambda: not (begun.home / "demo" / "past.json").exists(), f"the past: {begun.log.read_text()}", 240)
    return begun


@pytest.fixture(scope="session")
def browser_type_launch_args() -> dict[str, Any]:
    """Debian's Chromium, without a network of its own."""
    arguments = (
        "--no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking"
        " --disable-component-update --disable-sync"
    )
    return {"executable_path": CHROMIUM, "args": arguments.split()}


@pytest.fixture(scope="session")
def browser_context_args() -> dict[str, Any]:
    return {"viewport": {"width": 1280, "height": 800}}


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(item: pytest.Item) -> Iterator[None]:
    """A journey that fails says what its page showed."""
    report: Any = yield
    page = getattr(item, "funcargs", {}).get("page")
    if report.when == "call" and report.failed and isinstance(page, Page):
        with suppress(PlaywrightError):  # a page that broke down has nothing to say, and must not hide why it failed
            report.sections.append((f"the page, {page.url}", page.inner_text("body", timeout=2000)))
    return report


@pytest.fixture
def page(browser: Browser, browser_context_args: dict[str, Any]) -> Iterator[Page]:
    """A page whose scripts may complain of nothing."""
    context = browser.new_context(**browser_context_args)
    opened = context.new_page()
    complaints: list[str] = []
    opened.on("console", lambda message: complaints.append(message.text) if message.type == "error" else None)
    opened.on("pageerror", lambda error: complaints.append(str(error)))
    opened.on("dialog", lambda dialog: dialog.accept())
    yield opened
    context.close()
    assert [text for text in complaints if not re.search(r"status of (4\d\d)", text)] == []


_LET_IN: dict[tuple[str, str], list[Any]] = {}
"""The cookies of those who signed in, by door and mail address: they are let in again by them for as long as these are
good."""


def sign_in(page: Page, address: str, email: str, password: str) -> None:
    """Sign in at a door; where one is signed in already, the page stays where it is."""
    door, who = f"{address}/sign-in", (address, email)
    page.context.add_cookies(_LET_IN.get(who, []))
    if page.request.get(door, max_redirects=0).status != 200:
        return
    before = page.context.cookies(address)
    page.goto(door)
    page.get_by_label(re.compile("mail address", re.IGNORECASE)).fill(email)
    page.get_by_label("Password").fill(password)
    page.get_by_role("button", name="Sign in").click()
    page.wait_for_url(lambda url: url != door)
    _LET_IN[who] = [cookie for cookie in page.context.cookies(address) if cookie not in before]


def ask(port: int, key: str, agent: str) -> str:
    """One call; returns its id."""
    connection = http.client.HTTPConnection("127.0.0.1", port, timeout=10)
    connection.request("GET", "/sailings/v2/ports", headers={"X-Skerry-Key": key, "User-Agent": agent})
    answer = connection.getresponse()
    answer.read()
    connection.close()
    return answer.headers["tamarack-call-id"]
