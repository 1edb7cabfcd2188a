"""The tree is a table of contents: no circle of imports in the core and the store, and no room with too much in it."""

from pathlib import Path

import grimp
import pytest

ROOT = Path(__file__).parent.parent
MOST_FILES = 16
"""Files of one level of a folder, without its `__init__`; migrations and demo files are lists by nature."""
LISTS = ("store/migrations/versions", "demo/configuration", "web/static")


def circles(package: str) -> list[set[str]]:
    """The modules of a package that import each other in a circle, however far around."""
    graph = grimp.build_graph("tamarack")
    modules = {name for name in graph.modules if name.startswith(f"{package}.")}
    reached: dict[str, set[str]] = {}
    for start in modules:
        seen: set[str] = set()
        waiting = [start]
        while waiting:
            for name in graph.find_modules_directly_imported_by(waiting.pop()) & modules:
                if name not in seen:
                    seen.add(name)
                    waiting.append(name)
        reached[start] = seen
    return [{name, other} for name in modules for other in reached[name] if name < other and name in reached[other]]


@pytest.mark.parametrize("package", ["tamarack.core", "tamarack.store"])
def test_no_circle_of_imports(package: str) -> None:
    assert circles(package) == []


def test_no_folder_holds_more_than_can_be_read_at_a_glance() -> None:
    crowded = {}
    for folder in [ROOT / "src/tamarack", *(ROOT / "src/tamarack").rglob("*"), *(ROOT / "tests").rglob("*")]:
        if not folder.is_dir() or "__pycache__" in folder.parts or any(part in str(folder) for part in LISTS):
            continue
        files = [path for path in folder.iterdir() if path.is_file() and path.name != "__init__.py"]
        if len(files) > MOST_FILES:
            crowded[str(folder.relative_to(ROOT))] = len(files)
    assert crowded == {}


def test_every_package_says_what_is_in_it() -> None:
    for path in (ROOT / "src/tamarack").rglob("__init__.py"):
        if "migrations" not in path.parts:
            assert path.read_text().startswith('"""'), path
