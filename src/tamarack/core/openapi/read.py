"""Read an OpenAPI document (2.0, 3.0 or 3.1; JSON or YAML): what it describes, and every problem with its line.

Nothing outside the document is ever fetched: references that lead out of it are reported and left out.
"""

from collections import Counter
from dataclasses import dataclass, field
from typing import Any, Literal

from tamarack.core.configuration.located import Located, NotReadable, Path, read
from tamarack.core.configuration.model import check_template
from tamarack.core.json_pointer import at_pointer
from tamarack.core.openapi.convert import to_openapi_3

METHODS = ("get", "put", "post", "delete", "options", "head", "patch", "trace")
MOST_PROBLEMS = 200
MOST_OPERATIONS = 5_000

Severity = Literal["error", "warning"]


@dataclass(frozen=True, slots=True)
class DocumentProblem:
    """What is wrong, where (line from 1, and path), and what follows.

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
    document: dict[str, Any] = field(default_factory=dict)

    @property
    def usable(self) -> bool:
        """Whether it can be saved."""
        return not any(problem.severity == "error" for problem in self.problems)


def describe(text: str, validated: bool = True) -> Description:
    """Read a document. Never raises for what the text holds: everything wrong is a problem in the result.

    What was read before need not be `validated` against the specification again, which takes most of the time.
    """
    description = Description()
    try:
        located = read(text)
    except NotReadable as error:
        description.problems.append(DocumentProblem("error", error.line, "", f"cannot be read: {error}"))
        return description
    reader = _Reader(located, description, validated)
    reader.run()
    description.problems.sort(key=lambda problem: (problem.severity != "error", problem.line))
    if len(description.problems) > MOST_PROBLEMS:
        more = len(description.problems) - MOST_PROBLEMS
        del description.problems[MOST_PROBLEMS:]
        description.problems.append(DocumentProblem("warning", 0, "", f"and {more} more problems"))
    return description


class _Reader:
    def __init__(self, located: Located, description: Description, validated: bool) -> None:
        self.located = located
        self.validated = validated
        self.description = description
        self.left_out: set[Path] = set()
        """Where a reference was replaced by nothing: what is wrong there has been said."""

    def problem(self, severity: Severity, path: Path, message: str) -> None:
        pointer = "/".join(str(part).replace("~", "~0").replace("/", "~1") for part in path)
        line = self.located.line(path)
        self.description.problems.append(DocumentProblem(severity, line, f"/{pointer}" if path else "", message))

    def run(self) -> None:
        data, d = self.located.data, self.description
        if not isinstance(data, dict):
            self.problem("error", (), "is not an OpenAPI document: it holds no mapping of fields")
            return
        for path, line in self.located.doubled:
            message = f"{path[-1]!r} stands twice here; the later one was read"
            d.problems.append(DocumentProblem("warning", line, "/".join(map(str, path)), message))
        d.dialect = self._dialect(data)
        if not d.dialect:
            return
        data = self._without_outside(data, ())
        if self.validated:
            self._validate(data)
        document = to_openapi_3(data) if d.dialect == "2.0" else data
        d.document = document
        info = _dict(document.get("info"))
        d.title, d.version = str(info.get("title") or ""), str(info.get("version") or "")
        d.summary = str(info.get("summary") or info.get("description") or "").strip().partition("\n")[0][:300]
        servers = document.get("servers")
        servers = servers if isinstance(servers, list) else []
        d.servers = tuple(_server(item) for item in servers if isinstance(item, dict) and item.get("url"))
        components = _dict(document.get("components"))
        d.schemas = len(_dict(components.get("schemas")))
        d.security = tuple(
            f"{name} ({_dict(scheme).get('type', '?')})"
            for name, scheme in _dict(components.get("securitySchemes")).items()
        )
        d.examples = _count_examples(document)
        self._operations(document)

    def _dialect(self, data: dict[str, Any]) -> str:
        stated = data.get("swagger", data.get("openapi"))
        key = "swagger" if "swagger" in data else "openapi"
        dialect = ".".join(str(stated).split(".")[:2])
        if stated is None:
            self.problem("error", (), "does not say which OpenAPI version it follows; add the field `openapi`")
        elif (key, dialect) in (("swagger", "2.0"), ("openapi", "3.0"), ("openapi", "3.1")):
            return dialect
        else:
            self.problem("error", (key,), f"OpenAPI {stated} is not read here; 2.0, 3.0 and 3.1 are")
        return ""

    def _without_outside(self, value: Any, path: Path) -> Any:
        """The same data with references that lead out of the document, or nowhere, replaced by nothing."""
        if isinstance(value, dict):
            reference = value.get("$ref")
            if isinstance(reference, str) and not _is_name(path):
                if not reference.startswith("#"):
                    self.problem("warning", (*path, "$ref"), f"{reference!r} leads out of the document; not followed")
                    self.left_out.add(path)
                    return {}
                if not self._leads_somewhere(reference):
                    self.problem("warning", (*path, "$ref"), f"{reference!r} leads to nothing in the document")
                    self.left_out.add(path)
                    return {}
            return {key: self._without_outside(inner, (*path, key)) for key, inner in value.items()}
        if isinstance(value, list):
            return [self._without_outside(item, (*path, place)) for place, item in enumerate(value)]
        return value

    def _leads_somewhere(self, reference: str) -> bool:
        return at_pointer(self.located.data, reference[1:]) is not None

    def _validate(self, data: dict[str, Any]) -> None:
        # Loaded when the first document is read: it is large, and most programs never read one.
        from openapi_spec_validator import OpenAPIV2SpecValidator, OpenAPIV30SpecValidator, OpenAPIV31SpecValidator

        validator = {
            "2.0": OpenAPIV2SpecValidator,
            "3.0": OpenAPIV30SpecValidator,
            "3.1": OpenAPIV31SpecValidator,
        }[self.description.dialect]
        try:
            for error in validator(data).iter_errors():
                path = tuple(error.absolute_path)
                if path in self.left_out or "was not resolved" in error.message:
                    continue  # a parameter of the path that is not described; said with its line below
                message = error.message if len(error.message) < 240 else error.message[:239] + "…"
                self.problem("warning", path, message)
        except Exception as error:  # the validator stops at documents that are broken in ways it does not expect
            self.problem("warning", (), f"could not be checked to its end: {type(error).__name__}: {error}"[:300])

    def _operations(self, document: dict[str, Any]) -> None:
        paths = document.get("paths")
        if not isinstance(paths, dict) or not paths:
            self.problem("error", ("paths",) if "paths" in document else (), "describes no paths, so nothing to call")
            return
        for path, item in paths.items():
            if path.startswith("x-"):
                continue
            try:
                check_template(path)
            except ValueError as error:
                self.problem("warning", ("paths", path), f"left out: {error}")
                continue
            item = resolve(document, item)
            if not isinstance(item, dict):
                self.problem("warning", ("paths", path), "left out: it holds no operations")
                continue
            common = item.get("parameters")
            for method in METHODS:
                if method in item:
                    self._operation(document, path, method, item[method], common if isinstance(common, list) else [])
        operations = self.description.operations
        if not operations:
            self.problem("error", ("paths",), "no operation could be understood")
        if len(operations) > MOST_OPERATIONS:
            self.problem("error", ("paths",), f"{len(operations)} operations; at most {MOST_OPERATIONS} are taken")
        for id, many in Counter(operation.id for operation in operations if operation.id).items():
            if many > 1:
                self.problem("warning", ("paths",), f"the operationId {id!r} is used {many} times")

    def _operation(self, document: dict[str, Any], path: str, method: str, item: Any, common: list[Any]) -> None:
        if not isinstance(item, dict):
            self.problem("warning", ("paths", path, method), "left out: it is not a mapping of fields")
            return
        own = item.get("parameters")
        parameters = [resolve(document, p) for p in [*common, *(own if isinstance(own, list) else [])]]
        named = {(p.get("in"), p.get("name")) for p in parameters if isinstance(p, dict)}
        for name in _template_names(path):
            if ("path", name) not in named:
                message = f"the path names {{{name}}} but no parameter describes it; taken as text"
                self.problem("warning", ("paths", path, method), message)
        tags = item.get("tags")
        self.description.operations.append(
            Described(
                method=method,
                path=path,
                id=str(item.get("operationId") or ""),
                summary=str(item.get("summary") or item.get("description") or "").strip().partition("\n")[0][:300],
                tags=tuple(str(tag) for tag in tags) if isinstance(tags, list) else (),
                parameters=len(named),
                answers=tuple(str(status) for status in _dict(item.get("responses"))),
                has_body="requestBody" in item,
                deprecated=item.get("deprecated") is True,
            )
        )


def _template_names(path: str) -> list[str]:
    return [part.partition("}")[0] for part in path.split("{")[1:]]


def _is_name(path: Path) -> bool:
    """Whether a `$ref` key at this path is a property's own name, or stands in an example."""
    return bool(path) and (path[-1] == "properties" or "example" in path or "examples" in path)


def _dict(value: Any) -> dict[str, Any]:
    return value if isinstance(value, dict) else {}


def _server(item: dict[str, Any]) -> str:
    url = str(item["url"])
    for name, variable in _dict(item.get("variables")).items():
        url = url.replace("{" + name + "}", str(_dict(variable).get("default", "")))
    return url


def _count_examples(value: Any) -> int:
    if isinstance(value, dict):
        own = sum(1 for key in ("example", "examples") if key in value)
        return own + sum(_count_examples(inner) for inner in value.values())
    return sum(_count_examples(item) for item in value) if isinstance(value, list) else 0


def resolve(document: dict[str, Any], value: Any) -> Any:
    """A value, or what its `$ref` leads to within the document; None where it leads in a circle."""
    for _ in range(20):
        if not isinstance(value, dict) or not isinstance(value.get("$ref"), str):
            return value
        value = at_pointer(document, value["$ref"][1:])
    return None
