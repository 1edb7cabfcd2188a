"""What journeys of nodes share."""

import shutil
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest

from journeys.conftest import ROOT, Installation
from journeys.nodes.place import Place

PACKAGES = ROOT / ".venv" / "node-packages"


@pytest.fixture(scope="session")
def demo(begun: Installation) -> Installation:
    """The demo, running: these journeys do not look at its past."""
    return begun


@pytest.fixture
def place() -> Iterator[Place]:
    folder = Path(tempfile.mkdtemp(prefix="tamarack-place-"))
    shutil.copytree(PACKAGES, folder / "packages")
    folder.chmod(0o777)
    made = Place(folder)
    yield made
    made.end()
    shutil.rmtree(folder)
