"""Read an OpenAPI document (2.0, 3.0 or 3.1; JSON or YAML): what it describes, and every problem with its line.

Nothing outside the document is ever fetched: references that lead out of it are reported and left out.
"""

from collections import Counter
from collections.abc import Callable
from dataclasses import asdict, dataclass, field, replace
from typing import Any, Literal

from pydantic import ValidationError

from tamarack.core.configuration.model import Operation, check_template
from tamarack.core.documents.located import Located, NotReadable, Path, read
from tamarack.core.openapi.convert import to_openapi_3
from tamarack.core.openapi.plain import dict_of
from tamarack.core.openapi.references import Settled, path_item, pointer_of, resolve
from tamarack.core.openapi.structure import misfits
from tamarack.core.text import one_line
from tamarack.core.types import problems_of

METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
MOST_PROBLEMS = 200
MOST_OPERATIONS = 5_000
LONGEST_SUMMARY = 300

Severity = Literal["error", "warning"]

Step = Callable[[str], None]
"""Told what is being done now, as a long document is read."""


@dataclass(frozen=True, slots=True)
class DocumentProblem:
    """What is wrong, where (line from 1, and JSON Pointer), and what follows.

    An error keeps the document from being saved; with a warning the rest is saved.
    """

    severity: Severity
    line: int
    path: str
    message: str


@dataclass(frozen=True, slots=True)
class Described:
    """An operation that the document describes."""

    method: str
    path: str
    id: str = ""
    summary: str = ""
    tags: tuple[str, ...] = ()
    parameters: int = 0
    answers: tuple[str, ...] = ()
    has_body: bool = False
    deprecated: bool = False

    @property
    def call(self) -> str:
        return f"{self.method} {self.path}"


@dataclass(slots=True)
class Description:
    """What a document was understood to say. `document` is brought to 3.x, {} where it could not be read."""

    dialect: str = ""
    title: str = ""
    version: str = ""
    summary: str = ""
    servers: tuple[str, ...] = ()
    operations: list[Described] = field(default_factory=list)
    schemas: int = 0
    examples: int = 0
    security: tuple[str, ...] = ()
    problems: list[DocumentProblem] = field(default_factory=list)
    more_problems: int = 0
    """How many were found beyond those that are kept."""
    document: dict[str, Any] = field(default_factory=dict)

    @property
    def usable(self) -> bool:
        """Whether it can be saved."""
        return not any(problem.severity == "error" for problem in self.problems)

    def told(self) -> dict[str, Any]:
        """All of it as plain data; the document itself, which may be large, is not copied."""
        return asdict(replace(self, document={})) | {"document": self.document}


def describe(text: str, step: Step = lambda now: None) -> Description:
    """Read a document. Never raises for what the text holds: everything wrong is a problem in the result."""
    description = Description()
    step("reading the text")
    try:
        located = read(text)
    except NotReadable as error:
        description.problems.append(DocumentProblem("error", error.line, "", f"cannot be read: {error}"))
        return description
    _Reader(located, description, step).run()
    description.problems.sort(key=lambda problem: (problem.severity != "error", problem.line))
    description.more_problems = max(0, len(description.problems) - MOST_PROBLEMS)
    del description.problems[MOST_PROBLEMS:]
    return description


class _Reader:
    def __init__(self, located: Located, description: Description, step: Step) -> None:
        self.located = located
        self.description = description
        self.step = step

    def problem(self, severity: Severity, path: Path, message: str) -> None:
        line = self.located.line(path)
        self.description.problems.append(DocumentProblem(severity, line, pointer_of(path), message))

    def run(self) -> None:
        data, d = self.located.data, self.description
        if not isinstance(data, dict):
            self.problem("error", (), "is not an OpenAPI document: it holds no mapping of fields")
            return
        for path, line in self.located.doubled:
            message = f"{path[-1]!r} stands twice here; the later one was read"
            d.problems.append(DocumentProblem("warning", line, pointer_of(path), message))
        for path in self.located.unkept:
            self.problem("warning", path, "a text holds NUL or half a character, which no page can show; replaced")
        d.dialect = self._dialect(data)
        if not d.dialect:
            return
        self.step("following references")
        settled = Settled(data, d.dialect, lambda path, words: self.problem("warning", path, words))
        self.step("checking it against the specification")
        # As it was written, so that places are the author's; of a reference that was left out all is said.
        for path, words in misfits(data, d.dialect):
            unmatched = path[:1] == ("paths",) and len(path) == 2  # a path that is no template: said below
            if not unmatched and not any(path[: len(empty)] == empty for empty in settled.emptied):
                self.problem("warning", path, words)
        self.step("understanding its operations")
        document = to_openapi_3(settled.data) if d.dialect == "2.0" else settled.data
        d.document = document
        info = dict_of(document.get("info"))
        d.title, d.version = _line(info.get("title")), _line(info.get("version"))
        d.summary = _first_line(info.get("summary") or info.get("description"))
        servers = document.get("servers")
        servers = servers if isinstance(servers, list) else []
        d.servers = tuple(_server(item) for item in servers if isinstance(item, dict) and item.get("url"))
        components = dict_of(document.get("components"))
        d.schemas = len(dict_of(components.get("schemas")))
        d.security = tuple(
            f"{_line(name)} ({_line(dict_of(scheme).get('type', '?'))})"
            for name, scheme in dict_of(components.get("securitySchemes")).items()
        )
        d.examples = _count_examples(document)
        self._operations(document, settled.emptied)

    def _dialect(self, data: dict[str, Any]) -> str:
        stated = data.get("swagger", data.get("openapi"))
        key = "swagger" if "swagger" in data else "openapi"
        dialect = ".".join(str(stated).split(".")[:2])
        if stated is None:
            self.problem("error", (), "does not say which OpenAPI version it follows; add the field `openapi`")
        elif (key, dialect) in (("swagger", "2.0"), ("openapi", "3.0"), ("openapi", "3.1")):
            return dialect
        else:
            self.problem("error", (key,), f"OpenAPI {_line(stated)} is not read here; 2.0, 3.0 and 3.1 are")
        return ""

    def _operations(self, document: dict[str, Any], emptied: set[Path]) -> None:
        paths = document.get("paths")
        if not isinstance(paths, dict) or not paths:
            where = ("paths",) if "paths" in self.located.data else ()
            self.problem("error", where, "describes no paths, so nothing to call")
            return
        shapes: dict[str, str] = {}
        for path, written in paths.items():
            if path.startswith("x-"):
                continue
            if ("paths", path) in emptied:
                self.problem("warning", ("paths", path), "left out: its operations are not in this document")
            item = path_item(document, written)
            try:
                check_template(path)
            except ValueError as error:
                self.problem("warning", ("paths", path), f"left out: {error}")
                continue
            if not isinstance(written, dict):
                self.problem("warning", ("paths", path), "left out: it holds no operations")
                continue
            common = item.get("parameters")
            for method in METHODS:
                if method in item:
                    found = self._operation(document, path, method, item[method], common)
                    if found is not None:
                        self._take(found, shapes)
        operations = self.description.operations
        if not operations:
            self.problem("error", ("paths",), "no operation could be understood")
        if len(operations) > MOST_OPERATIONS:
            self.problem("error", ("paths",), f"{len(operations)} operations; at most {MOST_OPERATIONS} are taken")
        for id, many in Counter(operation.id for operation in operations if operation.id).items():
            if many > 1:
                last = next(one for one in reversed(operations) if one.id == id)
                here = ("paths", last.path, last.method, "operationId")
                self.problem("warning", here, f"the operationId {id!r} is used {many} times; each needs its own")

    def _take(self, found: Described, shapes: dict[str, str]) -> None:
        """Take an operation where the configuration takes it; else say why not."""
        here = ("paths", found.path, found.method)
        try:
            operation = Operation(call=found.call, summary=found.summary)
        except ValidationError as error:
            self.problem("warning", here, f"left out: {problems_of(error)[0].message}")
            return
        if operation.shape in shapes:
            other = shapes[operation.shape]
            words = f"left out: it matches the same calls as {other!r}; they differ only in the names of parameters"
            self.problem("warning", here, words)
            return
        shapes[operation.shape] = found.call
        self.description.operations.append(found)

    def _operation(self, document: dict[str, Any], path: str, method: str, item: Any, common: Any) -> Described | None:
        if not isinstance(item, dict):
            self.problem("warning", ("paths", path, method), "left out: it is not a mapping of fields")
            return None
        listed = [one for many in (common, item.get("parameters")) if isinstance(many, list) for one in many]
        parameters = [resolve(document, one) for one in listed]
        named = {(str(p.get("in")), str(p.get("name"))) for p in parameters if isinstance(p, dict)}
        for name in _template_names(path):
            if ("path", name) not in named:
                message = f"the path names {{{name}}} but no parameter describes it; taken as text"
                self.problem("warning", ("paths", path, method), message)
        tags = item.get("tags")
        return Described(
            method=method,
            path=path,
            id=_line(item.get("operationId")),
            summary=_first_line(item.get("summary") or item.get("description")),
            tags=tuple(_line(tag) for tag in tags) if isinstance(tags, list) else (),
            parameters=len(named),
            answers=tuple(_line(status) for status in dict_of(item.get("responses")) if not status.startswith("x-")),
            has_body="requestBody" in item,
            deprecated=item.get("deprecated") is True,
        )


def _template_names(path: str) -> list[str]:
    return [part.partition("}")[0] for part in path.split("{")[1:]]


def _line(value: Any) -> str:
    """A value of the document as one line of text."""
    return one_line(" ".join(str(value).split())) if isinstance(value, str | int | float) else ""


def _first_line(value: Any) -> str:
    return _line(str(value or "").strip().partition("\n")[0])[:LONGEST_SUMMARY]


def _server(item: dict[str, Any]) -> str:
    url = _line(item["url"])
    for name, variable in dict_of(item.get("variables")).items():
        url = url.replace("{" + name + "}", _line(dict_of(variable).get("default", "")))
    return url


def _count_examples(value: Any) -> int:
    if isinstance(value, dict):
        own = sum(1 for key in ("example", "examples") if key in value)
        return own + sum(_count_examples(inner) for inner in value.values())
    return sum(_count_examples(item) for item in value) if isinstance(value, list) else 0
