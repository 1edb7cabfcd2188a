"""What is installed is what the lock files say, and it is complete: nothing is looked up anew at installation."""

import re
import shutil
import subprocess
from importlib.metadata import distribution
from pathlib import Path

import pytest
from packaging.requirements import Requirement
from packaging.utils import canonicalize_name
from packaging.version import Version

from helpers import until
from tamarack.__main__ import start
from tamarack.gateway.run import REVOKED
from tamarack.start.supervisor import Program, Supervisor
from tamarack.start.up import NODE_IS_OVER

ROOT = Path(__file__).parent.parent
LOCKS = ("requirements.lock", "requirements-dev.lock", "requirements-pip.lock")


def pinned() -> dict[str, set[str]]:
    """Each package of the lock files, and the versions they give it."""
    found: dict[str, set[str]] = {}
    for lock in LOCKS:
        for name, version in re.findall(
            r"^([A-Za-z0-9._-]+)(?:\[[^]]*\])?==([^\s;]+)", (ROOT / lock).read_text(), re.M
        ):
            found.setdefault(canonicalize_name(name), set()).add(version)
    return found


def needed(name: str, extras: tuple[str, ...] = ("",)) -> list[Requirement]:
    """What an installed package asks for on this machine."""
    asked = [Requirement(text) for text in distribution(name).requires or ()]
    return [one for one in asked if one.marker is None or any(one.marker.evaluate({"extra": e}) for e in extras)]


def test_both_locks_agree_on_every_package_they_share() -> None:
    assert {name: versions for name, versions in pinned().items() if len(versions) > 1} == {}


@pytest.mark.parametrize("name", sorted(pinned()))
def test_what_a_locked_package_needs_is_locked_too(name: str) -> None:
    """Installation resolves nothing (`--no-deps`), so a need that no line meets would be missing; but for what is left
    out on purpose, of which nothing is locked."""
    locked = pinned()
    left_out = set(re.findall(r"^[a-z][\w.-]*", (ROOT / "requirements-left-out.txt").read_text(), re.MULTILINE))
    assert left_out.isdisjoint(locked)
    for requirement in needed(name):
        if canonicalize_name(requirement.name) in left_out:
            continue
        versions = locked.get(canonicalize_name(requirement.name), set())
        assert any(requirement.specifier.contains(Version(one), prereleases=True) for one in versions), requirement
        for extra in requirement.extras:
            for inner in needed(requirement.name, (extra,)):
                assert canonicalize_name(inner.name) in locked, inner


def test_installation_takes_the_locks_as_they_stand() -> None:
    line = next(line for line in (ROOT / "bin/common.sh").read_text().splitlines() if "-m pip install" in line)
    assert "--no-deps" in line
    assert "--require-hashes" in line


def test_asking_for_help_installs_nothing_and_names_every_option(tmp_path: Path) -> None:
    copy = tmp_path / "bin"
    shutil.copytree(ROOT / "bin", copy)
    said = subprocess.run(
        [copy / "start", "--help"], capture_output=True, text=True, check=True, env={"PATH": "/nowhere:/bin"}
    )
    assert list(tmp_path.iterdir()) == [copy]
    for option in start.params:
        assert option.opts[0] in said.stdout


def test_an_environment_whose_making_was_interrupted_is_made_anew() -> None:
    text = (ROOT / "bin/common.sh").read_text()
    begun, ended = text.index('touch "$half"'), text.index('rm -f "$half"')
    installed = text.index('install -r "$mine"')
    assert begun < installed < text.index('wait "$one"') < text.index('echo "$want" >"$stamp"') < ended
    assert '[ -f "$half" ] ||' in text[: text.index("-m venv --clear")]


def test_a_program_to_run_once_is_done_when_it_ends_well_and_others_are_started_again(tmp_path: Path) -> None:
    said: list[str] = []
    supervisor = Supervisor(tmp_path, said.append)
    supervisor.add(Program("past", ["echo", "Loaded 12 past calls."], once=True))
    supervisor.add(Program("node", ["sleep", "60"]))
    try:
        until(lambda: supervisor.look_after() or len(supervisor.programs) == 1, "the end of the first")
        assert said == ["Loaded 12 past calls."]
        node = supervisor.programs[0].process
        assert node is not None
        node.kill()
        until(lambda: supervisor.look_after() or len(said) > 1, "its end to be seen")
        assert "node was ended by SIGKILL; starting it again" in said[1]
    finally:
        supervisor.stop()


def test_a_program_that_ended_for_good_is_not_started_again(tmp_path: Path) -> None:
    said: list[str] = []
    supervisor = Supervisor(tmp_path, said.append)
    assert NODE_IS_OVER == REVOKED
    supervisor.add(Program("test-1", ["sh", "-c", "echo It was removed.; exit 78"], over=NODE_IS_OVER))
    try:
        until(lambda: supervisor.look_after() or not supervisor.programs, "its end")
        assert said == ["It was removed."]
        assert not (tmp_path / "run" / "test-1.pid").exists()
    finally:
        supervisor.stop()
