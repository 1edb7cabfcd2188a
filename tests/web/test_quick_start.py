"""What the quick start fetches: a part of the lock file, a package that is whole, and a script that says what fails."""

import json
import os
import subprocess
import sys
import zipfile
from collections.abc import Iterator
from hashlib import sha256
from importlib.metadata import distribution
from io import BytesIO
from pathlib import Path

import pytest
from flask.testing import FlaskClient
from sqlmodel import Session

from feed.serving import serving
from tamarack.feed.app import make_app
from tamarack.settings import Settings
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.nodes import joining
from tamarack.web.quick_start.packages import LOCK, NEEDS, entries_of, needed_of, node_lock, pinned
from tamarack.web.quick_start.places import by_hand, container, service
from tamarack.web.quick_start.script import script
from tamarack.web.quick_start.wheel import WHEEL, contents, node_wheel

EVERY_MODULE = """
import importlib, json, pkgutil, sys, tamarack
for one in pkgutil.walk_packages(tamarack.__path__, "tamarack."):
    importlib.import_module(one.name)
import wordllama
print(json.dumps(sorted({name.partition(".")[0] for name in sys.modules})))
"""


@pytest.fixture
def feed(world: Session, settings: Settings) -> Iterator[FlaskClient]:
    app = make_app(settings)
    yield app.test_client()
    app.extensions["tamarack_engine"].dispose()


def test_the_nodes_lock_is_a_part_of_the_projects_and_holds_all_that_its_packages_need() -> None:
    lock, whole = entries_of(node_lock()), entries_of(LOCK.read_text())
    assert set(NEEDS) <= set(lock)
    assert all(whole[name] == text for name, text in lock.items())
    for name in lock:
        for need in distribution(name).requires or ():
            needed = (
                need.partition(";")[0].split("[")[0].rstrip("<>=!~ 0123456789.,*").strip().lower().replace("_", "-")
            )
            if "extra ==" not in need and needed in whole:
                assert needed in lock, f"{name} needs {needed}"
    for of_the_control_side in ("flask", "psycopg", "sqlalchemy", "pyarrow"):
        assert of_the_control_side not in lock


def test_a_lock_without_a_package_that_a_node_needs_is_said() -> None:
    with pytest.raises(LookupError, match="no entry for uvloop"):
        needed_of("click==1.0 \\\n    --hash=sha256:0\n", ("click", "uvloop"))


def test_the_package_is_whole_and_imports_nothing_but_what_its_lock_names(tmp_path: Path) -> None:
    with zipfile.ZipFile(BytesIO(node_wheel())) as archive:
        archive.extractall(tmp_path)
        record = next(name for name in archive.namelist() if name.endswith("RECORD"))
        listed = [line.partition(",")[0] for line in archive.read(record).decode().splitlines()]
        assert sorted(listed) == sorted(archive.namelist())
    ran = subprocess.run(
        [sys.executable, "-c", EVERY_MODULE], capture_output=True, text=True, check=True, cwd=tmp_path,
        env={"PYTHONPATH": str(tmp_path), "PATH": os.environ["PATH"]},
    )  # fmt: skip
    imported = set(json.loads(ran.stdout))
    for of_the_control_side in ("flask", "psycopg", "sqlalchemy", "sqlmodel", "gunicorn", "pyarrow"):
        assert of_the_control_side not in imported
    assert "tamarack/gateway/feed/database.py" not in contents()


def test_the_package_and_its_list_are_served_to_everybody(feed: FlaskClient) -> None:
    assert feed.get(f"/quick-start/{WHEEL}").data == node_wheel()
    assert pinned(feed.get("/quick-start/requirements.txt").text) == pinned(node_lock())


def test_the_console_serves_them_too(console: FlaskClient) -> None:
    assert console.get(f"/quick-start/{WHEEL}").data == node_wheel()


def test_the_script_is_given_for_a_good_token_and_that_is_a_step(feed: FlaskClient, world: Session) -> None:
    assert feed.get("/quick-start/node.sh").status_code == 401
    made = joining.make_token(world, COMMAND_LINE, "test")
    world.commit()
    fields = {"Authorization": f"Bearer {made.value}"}
    text = feed.get("/quick-start/node.sh", headers=fields).text
    assert f"DIGEST={sha256(node_wheel()).hexdigest()}\n" in text
    assert f"TOKEN={made.value}\n" in text
    world.expire_all()
    assert [one["step"] for one in made.row.steps] == ["fetched"]
    joining.join(world, made.value, "pier-1")
    world.commit()
    again = feed.get("/quick-start/node.sh", headers=fields).text
    ran = subprocess.run(["sh"], input=again, capture_output=True, text=True)
    assert (ran.returncode, ran.stderr) == (
        1, "This join token was used by pier-1. Each is good for one node: make a new one.\n",
    )  # fmt: skip


def run_script(
    text: str, folder: Path, *options: str, path: str = os.environ["PATH"]
) -> subprocess.CompletedProcess[str]:
    return subprocess.run(
        ["/bin/sh", "-s", "--", *options], input=text, capture_output=True, text=True, cwd=folder, env={"PATH": path}
    )


def test_the_script_tells_its_reader_and_the_page_what_went_wrong(
    world: Session, settings: Settings, tmp_path: Path
) -> None:
    made = joining.make_token(world, COMMAND_LINE, "test")
    world.commit()
    with serving(settings) as address:
        text = script(address, made.value, WHEEL, "0" * 64)
        for options, code, said in (
            (("--fast",), 2, "--fast is no option of this script"),
            (("--port",), 2, "--port needs a value"),
            (("--folder", "/proc/none"), 1, "The folder /proc/none cannot be made here."),
        ):
            ran = run_script(text, tmp_path, *options)
            assert (ran.returncode, said in ran.stderr) == (code, True), ran.stderr
        bare = tmp_path / "bin"
        bare.mkdir()
        for name in ("curl", "dirname", "tail", "printf"):
            found = Path("/usr/bin") / name
            if found.exists():
                (bare / name).symlink_to(found)
        ran = run_script(text.replace("/usr/bin/python3", "/none"), tmp_path, path=str(bare))
        assert "Python 3.11 or newer with its venv module is not here" in ran.stderr
    world.expire_all()
    problems = [one["problem"] for one in made.row.steps]
    assert problems[0] == "The folder /proc/none cannot be made here."
    assert "Python 3.11 or newer" in problems[1]


def test_values_of_the_script_cannot_become_commands() -> None:
    text = script("http://x/$(touch pwned)'; touch pwned #", "tmj_x", WHEEL, "0")
    line = next(line for line in text.splitlines() if line.startswith("FEED="))
    ran = subprocess.run(["sh", "-c", f'{line}\nprintf %s "$FEED"'], capture_output=True, text=True, check=True)
    assert ran.stdout == "http://x/$(touch pwned)'; touch pwned #"


def test_the_other_ways_name_the_same_commands() -> None:
    hand = by_hand("http://127.0.0.1:7406", "tmj_x")
    assert "TAMARACK_JOIN_TOKEN=tmj_x venv/bin/tamarack-node join --feed http://127.0.0.1:7406 --home node" in hand
    assert "RestartPreventExitStatus=78" in service()
    made = container(False, "http://127.0.0.1:7406")
    assert WHEEL in made
    assert "tmj_" not in made
    pinned = by_hand("https://feed.example", "tmj_x", "sha256//abc=")
    assert pinned.startswith("curl -fsSOk --pinnedpubkey sha256//abc= https://feed.example/quick-start/authority.pem\n")
    assert pinned.count("--cacert authority.pem") == 2
    assert "--home node --ca authority.pem" in pinned
