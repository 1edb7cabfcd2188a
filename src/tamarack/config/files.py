"""The configuration as YAML files.

A folder holds `tamarack.yaml` (the format's number, what is placed everywhere, caps), `backends.yaml`,
`products.yaml`, a file per API under `apis/` and per written kind under `kinds/`, the OpenAPI documents under
`documents/`, and the pages of documentation as Markdown under `pages/`. Any one YAML file with the same fields can be
read too. In files the `document` of a version or a page is a path; in the configuration it is the SHA-256 of the text.
Reading what was written gives the same configuration.
"""

import hashlib
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Any

from pydantic import ValidationError

from tamarack.core.configuration.model import Configuration, check
from tamarack.core.documents.decoding import decode
from tamarack.core.documents.located import Located, NotReadable, read
from tamarack.core.documents.yaml_text import to_yaml
from tamarack.core.types import Problem, problems_of

FORMAT = 1
FIRST = "tamarack.yaml"
"""The file that every exported folder holds."""
_LISTS = ("everywhere", "caps", "kinds", "backends", "apis", "products")
MOST_DOCUMENT_BYTES = 8_000_000


@dataclass(frozen=True, slots=True)
class FileProblem:
    """What is wrong in a file: its path, the line (from 1), the place in it, and words."""

    file: str
    line: int
    place: str
    message: str

    def __str__(self) -> str:
        place = f" {self.place}:" if self.place else ""
        return f"{self.file}:{self.line}:{place} {self.message}"


class NotApplicable(Exception):
    """Files that cannot be applied as they are."""

    def __init__(self, problems: list[FileProblem]) -> None:
        super().__init__("\n".join(map(str, problems)))
        self.problems = problems


@dataclass(slots=True)
class Loaded:
    """A configuration read from files, and the OpenAPI documents and pages it refers to, by SHA-256."""

    configuration: Configuration
    documents: dict[str, str] = field(default_factory=dict)
    pages: dict[str, str] = field(default_factory=dict)
    origin: dict[str, str] = field(default_factory=dict, compare=False)
    """The path of each, as shown to people."""


def write(configuration: Configuration, documents: Mapping[str, str]) -> dict[str, str]:
    """The files that say what a configuration says, by their path within the folder.

    `documents` holds the texts by SHA-256; one that is missing leaves its version without a document.
    """
    data = configuration.model_dump(mode="json", exclude_defaults=True)
    first = {"tamarack": FORMAT, "everywhere": data.get("everywhere", [])}
    if configuration.caps:
        first["caps"] = data["caps"]
    files = {FIRST: to_yaml(first)}
    for kind in data.get("kinds", []):
        files[f"kinds/{kind['name']}.yaml"] = to_yaml({"kinds": [kind]})
    if configuration.backends:
        files["backends.yaml"] = to_yaml({"backends": data["backends"]})
    for api, dumped in zip(configuration.apis, data.get("apis", []), strict=True):
        for page, written in zip(api.pages, dumped.get("pages", []), strict=True):
            path = f"pages/{api.name}/{page.name}.md"
            files[path] = documents.get(page.document, "")
            written["document"] = path
        for version, written in zip(api.versions, dumped.get("versions", []), strict=True):
            text = documents.get(version.document)
            if not text:
                written.pop("document", None)
                continue
            ending = "json" if text.lstrip().startswith("{") else "yaml"
            path = f"documents/{api.name}-{version.version}.{ending}"
            files[path] = text
            written["document"] = path
        files[f"apis/{api.name}.yaml"] = to_yaml({"apis": [dumped]})
    if configuration.products:
        files["products.yaml"] = to_yaml({"products": data["products"]})
    return files


def load(path: Path, whole: bool = True) -> Loaded:
    """Read a file or a folder. Raises `NotApplicable` with every problem found.

    What is not `whole` may refer to what it does not hold, like an API to a backend of the draft.
    """
    if path.is_dir():
        names = sorted(p for p in path.rglob("*.y*ml") if "documents" not in p.relative_to(path).parts)
        root = path
    else:
        names, root = [path], path.parent
        if (root.parent / FIRST).is_file():  # one of the files of an exported folder: paths count from there
            root = root.parent
    if not names or not path.exists():
        raise NotApplicable([FileProblem(str(path), 0, "", "there is no such file, or no YAML file in the folder")])
    problems: list[FileProblem] = []
    texts = Loaded(Configuration())
    data: dict[str, list[Any]] = {name: [] for name in _LISTS}
    origin: dict[tuple[str, int], tuple[str, int, Located]] = {}
    for name in names:
        shown = str(name)
        try:
            located = read(decode(name.read_bytes()))
        except NotReadable as error:
            problems.append(FileProblem(shown, error.line, "", str(error)))
            continue
        except OSError as error:
            problems.append(FileProblem(shown, 0, "", f"cannot be read: {error}"))
            continue
        problems += _take(shown, located, data, origin)
        for place, api in enumerate(data["apis"]):
            if origin["apis", place][0] == shown:
                problems += _documents(shown, root, located, origin["apis", place][1], api, texts)
    if problems:
        raise NotApplicable(problems)
    try:
        configuration = Configuration.model_validate(data)
        found = check(configuration) if whole else []
    except ValidationError as error:
        found = problems_of(error)
    if found:
        raise NotApplicable([_located(problem, origin, str(path)) for problem in found])
    return replace(texts, configuration=configuration)


def _take(
    shown: str, located: Located, whole: dict[str, list[Any]], origin: dict[tuple[str, int], tuple[str, int, Located]]
) -> list[FileProblem]:
    data = located.data
    if not isinstance(data, dict):
        return [FileProblem(shown, 1, "", "holds no mapping of fields")]
    problems = [
        FileProblem(shown, line, ".".join(map(str, path)), "stands twice; remove one") for path, line in located.doubled
    ]
    for key, value in data.items():
        line = located.line((key,))
        if key == "tamarack":
            if value != FORMAT:
                problems.append(FileProblem(shown, line, key, f"format {value!r} is not read here; {FORMAT} is"))
        elif key not in _LISTS:
            known = ", ".join(("tamarack", *_LISTS))
            problems.append(FileProblem(shown, line, key, f"is not a field here (known: {known})"))
        elif value is not None and not isinstance(value, list):
            problems.append(FileProblem(shown, line, key, "must be a list"))
        else:
            for place, item in enumerate(value or []):
                origin[key, len(whole[key])] = (shown, place, located)
                whole[key].append(item)
    return problems


def _documents(shown: str, root: Path, located: Located, place: int, api: Any, texts: Loaded) -> list[FileProblem]:
    """Put the SHA-256 of each document and page in the place of its path."""
    problems = []
    holders = []
    for key in ("versions", "pages"):
        listed = api.get(key) if isinstance(api, dict) else None
        holders += [(key, number, one) for number, one in enumerate(listed if isinstance(listed, list) else [])]
    for key, number, holder in holders:
        name = holder.get("document") if isinstance(holder, dict) else None
        if not isinstance(name, str) or not name:
            continue
        line = located.line(("apis", place, key, number, "document"))
        target = (root / name).resolve()
        if root.resolve() not in target.parents:
            problems.append(FileProblem(shown, line, "document", f"{name!r} lies outside the folder"))
            continue
        try:
            text = decode(target.read_bytes())
        except (OSError, NotReadable) as error:
            problems.append(FileProblem(shown, line, "document", f"{name!r} cannot be read: {error}"))
            continue
        if len(text) > MOST_DOCUMENT_BYTES:
            problems.append(FileProblem(shown, line, "document", f"{name!r} is larger than 8 MB"))
            continue
        sha256 = hashlib.sha256(text.encode()).hexdigest()
        (texts.documents if key == "versions" else texts.pages)[sha256] = text
        texts.origin[sha256] = str(target)
        holder["document"] = sha256
    return problems


def _located(problem: Problem, origin: dict[tuple[str, int], tuple[str, int, Located]], fallback: str) -> FileProblem:
    path = problem.path
    if len(path) >= 2 and isinstance(path[1], int) and (str(path[0]), path[1]) in origin:
        shown, place, located = origin[str(path[0]), path[1]]
        inner = (path[0], place, *path[2:])
        return FileProblem(shown, located.line_skipping(inner), ".".join(map(str, inner)), problem.message)
    return FileProblem(fallback, 0, problem.field, problem.message)
