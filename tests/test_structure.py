"""The tree is a table of contents: no circle of imports in the core and the store, and no room with too much in it."""

import pkgutil
import re
from importlib import import_module
from pathlib import Path

import grimp
import pytest

from tamarack.core.errors import CoreError
from tamarack.store.errors import StoreError

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


FAMILIES = {"core": CoreError, "store": StoreError}


@pytest.mark.parametrize("package", FAMILIES)
def test_every_error_of_a_package_is_of_its_family(package: str) -> None:
    family = FAMILIES[package]
    strangers = set()
    for found in pkgutil.walk_packages(import_module(f"tamarack.{package}").__path__, f"tamarack.{package}."):
        if ".migrations" in found.name:
            continue
        for made in vars(import_module(found.name)).values():
            if isinstance(made, type) and issubclass(made, Exception) and made.__module__ == found.name:
                strangers |= {made} if not issubclass(made, family) else set()
    assert strangers == set()


BLOCK = re.compile(r"<(?:article|aside|div|dl|dt|fieldset|figure|footer|form|h[1-6]|header|li|main|nav|ol|p|section|select|table|"
                   r"tbody|td|tfoot|th|thead|tr|ul)\b")  # fmt: skip
TEMPLATES = sorted((ROOT / "src/tamarack").rglob("*.html"))


@pytest.mark.parametrize("path", TEMPLATES, ids=lambda path: f"{path.parent.parent.name}-{path.stem}")
def test_a_template_opens_one_block_a_line_and_no_line_is_long(path: Path) -> None:
    for number, line in enumerate(path.read_text().splitlines(), 1):
        assert len(line) <= 140, f"{path.name}, line {number}: {len(line)} characters"
        assert len(BLOCK.findall(line)) <= 1, f"{path.name}, line {number}: {line.strip()}"
    # An attribute that is joined from texts is escaped with its own quotes, and breaks: it is written as one.
    assert not re.search(r"""=\\?["']["']\s*~|~\s*["'][^"']*=\\?"'""", path.read_text()), path.name


@pytest.mark.parametrize("section", ["console", "portal"])
def test_every_template_that_is_named_exists_and_every_one_is_named(section: str) -> None:
    """Templates stand beside their pages, so moving one must not leave a page without it."""
    base, web = ROOT / "src/tamarack" / section, ROOT / "src/tamarack/web"
    there = {str(path.relative_to(base / "templates")) for path in (base / "templates").rglob("*.html")}
    for folder in base.glob("*/templates"):
        there |= {f"{folder.parent.name}/{path.relative_to(folder)}" for path in folder.rglob("*.html")}
    shared = {str(path.relative_to(web / "templates")) for path in (web / "templates").rglob("*.html")}
    sources = [*base.rglob("*.py"), *base.rglob("*.html"), *web.rglob("*.py"), *web.rglob("*.html")]
    text = "\n".join(path.read_text() for path in sources)
    named = set(re.findall(r"[\"']([\w/]+\.html)[\"']", "\n".join(p.read_text() for p in sources if base in p.parents)))
    assert named - there - shared == set()
    assert [name for name in there if name not in text and not _made_up(name, text)] == []


def _made_up(name: str, text: str) -> bool:
    """Whether a template's name is put together where it is used, like `traffic/alerts/{template}.html`."""
    folder, _, file = name.rpartition("/")
    return f"{folder}/{{" in text and f'"{file.removesuffix(".html")}"' in text
