"""The configuration: everything that is drafted, reviewed, rolled out, and written to files.

One `Configuration` is the whole of it. `check` finds what does not fit together; nothing with a problem
is rolled out.
"""

import re
from collections import Counter
from collections.abc import Mapping
from typing import Annotated, Literal

from pydantic import AfterValidator, BeforeValidator, Field, StringConstraints, field_validator, model_validator

from tamarack.core.configuration.audience import Audience
from tamarack.core.configuration.backend import Backend
from tamarack.core.configuration.plans import Part, Product
from tamarack.core.graphql.names import FIELD
from tamarack.core.identity.secret_facts import SecretFacts, may_go_to
from tamarack.core.identity.secret_names import names_in
from tamarack.core.life_cycle.brown_outs import BrownOut, apart
from tamarack.core.life_cycle.trial import Trial
from tamarack.core.life_cycle.version_naming import VersionNaming
from tamarack.core.limits.window import Window, distinct
from tamarack.core.policies import AnyPolicy, PolicyKind, kind_of
from tamarack.core.policies.written import WrittenPolicy, bind, value_problems
from tamarack.core.sign_in.scopes import Scopes
from tamarack.core.text import call_shape
from tamarack.core.types import Day, EnvironmentName, Frozen, Line, Name, OneLine, Problem, Text, Title
from tamarack.core.written.kind import MOST_KINDS, WrittenKind

METHODS = ("get", "post", "put", "patch", "delete", "head", "options", "trace", "any")
_SEGMENT = re.compile(r"^(\{[A-Za-z_][A-Za-z0-9_.-]*\}|[A-Za-z0-9._~!$&'()*+,;=:@%-]+)$")
_MEDIA = re.compile(r"[A-Za-z0-9!#$&^_.+-]+/[A-Za-z0-9!#$&^_.+-]+(\s*;[ -~]*)?")


def _base_path(value: str) -> str:
    value = value.strip().rstrip("/")
    if not value.startswith("/"):
        raise ValueError(f"{value!r} is not a base path; it starts with / and has at least one part")
    for segment in value[1:].split("/"):
        if not _SEGMENT.match(segment) or "{" in segment or "%" in segment or segment in (".", ".."):
            raise ValueError(
                f"{value!r} is not a base path: {segment!r} cannot stand in it;"
                " use letters, digits, hyphens and dots, and no empty part"
            )
    return value


FIELD_METHOD = "field"
"""What a field of a graph begins with where it is named like an operation: `field Query.vessels`."""


def _call(value: str) -> str:
    method, _, path = value.strip().partition(" ")
    method, path = method.lower(), path.strip()
    if method == FIELD_METHOD:
        if not FIELD.fullmatch(path):
            raise ValueError(f"{path!r} is no field of a graph; write it like Query.vessels, or Vessel.* for a type")
        return f"{method} {path}"
    if method not in METHODS:
        raise ValueError(f"{value!r} does not start with a method ({', '.join(METHODS)})")
    check_template(path)
    return f"{method} {path}"


def check_template(path: str) -> None:
    """Raise ValueError, in words, where a path template cannot be matched (OpenAPI 3.1, 4.8.8)."""
    if not path.startswith("/"):
        raise ValueError(f"the path {path!r} does not start with /")
    segments = path[1:].split("/")
    for place, segment in enumerate(segments):
        last = place == len(segments) - 1
        if segment == "*" and last:
            continue
        if segment == "" and last:
            continue
        plain = re.sub(r"\{[^{}/]+\}", "x", segment)
        if segment in (".", "..") or not plain or not _SEGMENT.match(plain):
            raise ValueError(f"the path {path!r} has a part that cannot be matched: {segment!r}")
    names = re.findall(r"\{([^{}/]+)\}", path)
    twice = next((name for name, many in Counter(names).items() if many > 1), None)
    if twice is not None:
        raise ValueError(f"the path {path!r} names the parameter {twice!r} twice")


def _text(value: object) -> object:
    return str(value) if isinstance(value, int | float) and not isinstance(value, bool) else value


CallName = Annotated[str, AfterValidator(_call)]
"""A method and a path template, like `get /sailings/{id}`: how an operation is named."""

Label = Annotated[str, BeforeValidator(_text), StringConstraints(pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]{0,31}$")]


class TypedAnswer(Frozen):
    """An answer of an operation that someone typed: what tells it from others, and its body."""

    status: int = Field(ge=200, le=599)
    media: Annotated[str, StringConstraints(max_length=200), OneLine] = ""
    name: Annotated[str, StringConstraints(max_length=100), OneLine] = ""
    body: Annotated[str, StringConstraints(max_length=200_000)] = ""

    @field_validator("media")
    @classmethod
    def _media(cls, value: str) -> str:
        if value and not _MEDIA.fullmatch(value):
            raise ValueError(f"{value!r} is not a media type; write it like application/json")
        return value


class Operation(Frozen):
    """One method and path template of a version, with the policies placed on it alone."""

    call: CallName
    summary: Text = ""
    policies: tuple[AnyPolicy, ...] = ()
    answers: tuple[TypedAnswer, ...] = Field(default=(), max_length=60)
    """Answers typed here, for mocks: in place of documented ones, or beside them."""

    @property
    def method(self) -> str:
        return self.call.partition(" ")[0]

    @property
    def path(self) -> str:
        return self.call.partition(" ")[2]

    @property
    def shape(self) -> str:
        """The call without its parameters' names: two of one shape match the same calls."""
        return call_shape(self.call)


State = Literal["draft", "preview", "published", "deprecated", "retired"]


class Version(Frozen):
    """One version of an API: where it is published, what stands behind it, and its policies.

    `document` is the SHA-256 of its OpenAPI document, empty where it has none. A path `/*` at the end of
    an operation stands for everything below it. `deprecated_on`, `sunset_on` and `successor` (another version of
    the API) tell how it ends: on its answers, in the portal, and when it is retired; in its `brown_outs` a deprecated
    version answers 410. `trial` holds while it is a preview.
    """

    version: Label
    state: State = "published"
    deprecated_on: Day = None
    sunset_on: Day = None
    successor: Label | Literal[""] = ""
    brown_outs: tuple[BrownOut, ...] = Field(default=(), max_length=50)
    trial: Trial | None = None
    base_path: Annotated[str, AfterValidator(_base_path)]
    backend: Name | Literal[""] = ""
    """Empty where each operation is answered without one, by mocks or fixed answers."""
    document: str = ""
    policies: tuple[AnyPolicy, ...] = ()
    operations: tuple[Operation, ...] = ()
    fields: tuple[Operation, ...] = Field(default=(), max_length=200)
    """Of a GraphQL API: fields and types with policies of their own, called like `field Query.vessels`. These hold,
    beside all others, for calls whose documents ask for the field."""

    _one_after_the_other = field_validator("brown_outs")(apart)

    @property
    def places(self) -> tuple[Operation, ...]:
        """Everything inside it that may have policies of its own."""
        return (*self.operations, *self.fields)

    @property
    def open_trial(self) -> Trial | None:
        """Who may call it without a subscription at present; None for nobody."""
        return self.trial if self.state == "preview" else None

    @property
    def by_invitation(self) -> bool:
        """Whether it is a preview that only invited organizations may know of."""
        trial = self.open_trial
        return trial is not None and bool(trial.invited)

    def operation(self, call: str) -> Operation | None:
        """The operation so named, or None."""
        return next((operation for operation in self.operations if operation.call == call), None)

    def place(self, call: str) -> Operation | None:
        """An operation, or a field of a graph (`field Query.vessels`), where policies may be placed: a field that has
        none yet is bare, and None is what is neither."""
        if not call.startswith(f"{FIELD_METHOD} "):
            return self.operation(call)
        found = next((one for one in self.fields if one.call == call), None)
        if found is not None:
            return found
        return Operation(call=call) if FIELD.fullmatch(call.partition(" ")[2]) else None


class DocumentationPage(Frozen):
    """A page of documentation in Markdown; `document` is the SHA-256 of its text."""

    name: Name
    title: Title
    document: str


MOST_PAGES = 100


Style = Literal["rest", "chat", "graphql"]


class Api(Frozen):
    """A managed API and its versions, with the pages that its owner wrote, in their order."""

    name: Name
    title: Title
    summary: Text = ""
    owner: Annotated[str, StringConstraints(strip_whitespace=True, max_length=120), OneLine] = ""
    contact: Line = ""
    """Where developers may turn; the portal shows it, and never the owner."""
    style: Style = "rest"
    """How it is called; a chat API publishes a language model's server, and a GraphQL one an endpoint with a schema."""
    naming: VersionNaming | None = None
    """How calls name a version where several share a base path; None where each has its own."""
    visible_to: Audience = ()
    scopes: Scopes = ()
    """What tokens of the sign-in service may be used for, each with its words for a consent page."""
    pages: tuple[DocumentationPage, ...] = Field(default=(), max_length=MOST_PAGES)
    versions: tuple[Version, ...] = ()

    def page(self, name: str) -> DocumentationPage | None:
        """The page so named, or None."""
        return next((page for page in self.pages if page.name == name), None)

    def version(self, label: str) -> Version | None:
        """The version so labelled, or None."""
        return next((version for version in self.versions if version.version == label), None)


class Cap(Frozen):
    """What one environment's gateway carries at most, for all callers together; nothing further in replaces it."""

    environment: EnvironmentName
    limits: tuple[Window, ...] = Field(min_length=1, max_length=6)

    @property
    def name(self) -> str:
        """There is one for each environment."""
        return self.environment

    _no_two_alike = field_validator("limits")(distinct)


class Configuration(Frozen):
    """All of it. `everywhere` holds the policies placed on every API, `caps` what each environment carries at most,
    `kinds` the policy kinds that the team wrote itself."""

    everywhere: tuple[AnyPolicy, ...] = ()
    caps: tuple[Cap, ...] = ()
    kinds: tuple[WrittenKind, ...] = Field(default=(), max_length=MOST_KINDS)
    backends: tuple[Backend, ...] = ()
    apis: tuple[Api, ...] = ()
    products: tuple[Product, ...] = ()

    @model_validator(mode="after")
    def _bound(self) -> "Configuration":
        bind_written(self)
        return self

    def kind(self, name: str) -> WrittenKind | None:
        """The written kind so named, or None."""
        return next((kind for kind in self.kinds if kind.name == name), None)

    def backend(self, name: str) -> Backend | None:
        """The backend so named, or None."""
        return next((backend for backend in self.backends if backend.name == name), None)

    def api(self, name: str) -> Api | None:
        """The API so named, or None."""
        return next((api for api in self.apis if api.name == name), None)

    def product(self, name: str) -> Product | None:
        """The product so named, or None."""
        return next((product for product in self.products if product.name == name), None)

    def cap(self, environment: str) -> Cap | None:
        """What an environment carries at most, or None for no bound."""
        return next((cap for cap in self.caps if cap.environment == environment), None)

    def products_with(self, api: str) -> tuple[Product, ...]:
        """The products that package an API."""
        return tuple(product for product in self.products if api in product.apis)


def bind_written(configuration: Configuration) -> None:
    """Bring policies of written kinds together with what those say; needed anew where a part was put in by itself."""
    bind(every_policy(configuration), {kind.name: kind for kind in configuration.kinds})


Path = tuple[str | int, ...]


def _twice(names: list[str]) -> set[str]:
    return {name for name, many in Counter(names).items() if many > 1}


def _doubled(names: list[str]) -> list[int]:
    """The places of names that stood before."""
    return [place for place, name in enumerate(names) if name in names[:place]]


def _policies(path: Path, policies: tuple[AnyPolicy, ...], level: str, api: str = "") -> list[Problem]:
    found = []
    doubled = _twice([policy.name for policy in policies])
    for place, policy in enumerate(policies):
        if policy.name in doubled:
            message = f"two policies here are named {policy.name!r}; give each its own name"
            found.append(Problem(path=(*path, place, "name"), message=message))
        if kind_of(policy).alone and sum(other.kind == policy.kind for other in policies) > 1:
            message = f"two policies here are of the kind {policy.kind!r}, of which only one can hold; remove one"
            found.append(Problem(path=(*path, place, "kind"), message=message))
        kind = kind_of(policy)
        if level not in kind.levels or (level == "everywhere" and kind.only_inside):
            words = {"everywhere": "everywhere", "api": "on a whole API", "operation": "on an operation"}[level]
            message = f"{kind.title!r} cannot stand {words}; place it on {_levels(kind)}"
            found.append(Problem(path=(*path, place, "kind"), message=message))
        if isinstance(policy, WrittenPolicy):
            found += [Problem(path=(*path, place, *one.path), message=one.message)
                      for one in value_problems(policy, api)]  # fmt: skip
    return found


def _levels(kind: PolicyKind) -> str:
    """Where a kind may stand, in words."""
    levels = [level for level in kind.levels if not (level == "everywhere" and kind.only_inside)]
    named = {"everywhere": "everything", "api": "an API", "operation": "an operation"}
    return " or ".join(named[level] for level in levels)


def _misfits(version: Version, operation: Operation, here: Path, place: int) -> list[Problem]:
    """Policies that cannot hold for an operation's path, on it or on its version."""
    own = {policy.name for policy in operation.policies}
    found = []
    for at, policy in enumerate(operation.policies):
        if wrong := kind_of(policy).misfit(policy, operation.path):
            message = f"‘{policy.name}’ of {operation.call}: {wrong}"
            found.append(Problem(path=(*here, "operations", place, "policies", at), message=message))
    for at, policy in enumerate(version.policies):
        if policy.name not in own and (wrong := kind_of(policy).misfit(policy, operation.path)):
            message = f"‘{policy.name}’, which holds for {operation.call} too: {wrong}; place it on single operations"
            found.append(Problem(path=(*here, "policies", at), message=message))
    return found


def _named(path: str, names: list[str], what: str) -> list[Problem]:
    doubled = _twice(names)
    return [
        Problem(path=(path, place), message=f"two {what} are named {name!r}; each needs a name of its own")
        for place, name in enumerate(names)
        if name in doubled
    ]


def check(configuration: Configuration) -> list[Problem]:
    """Everything in a configuration that does not fit together, each with the path to it."""
    bind_written(configuration)
    found = _policies(("everywhere",), configuration.everywhere, "everywhere")
    found += _named("kinds", [kind.name for kind in configuration.kinds], "kinds")
    found += _private_kinds(configuration)
    found += _named("caps", [cap.environment for cap in configuration.caps], "caps")
    found += _named("backends", [backend.name for backend in configuration.backends], "backends")
    found += _named("apis", [api.name for api in configuration.apis], "APIs")
    found += _named("products", [product.name for product in configuration.products], "products")
    backends = {backend.name for backend in configuration.backends}
    taken: dict[str, tuple[str, str]] = {}
    for a, api in enumerate(configuration.apis):
        labels = _twice([version.version for version in api.versions])
        if api.naming is not None and api.naming.default and api.version(api.naming.default) is None:
            known = ", ".join(version.version for version in api.versions)
            message = f"{api.title} has no version {api.naming.default!r} that calls could be for (it has: {known})"
            found.append(Problem(path=("apis", a, "naming", "default"), message=message))
        for place in _doubled([page.name for page in api.pages]):
            message = f"{api.title} has two pages named {api.pages[place].name!r}; give each its own name"
            found.append(Problem(path=("apis", a, "pages", place, "name"), message=message))
        for v, version in enumerate(api.versions):
            here: Path = ("apis", a, "versions", v)
            called = f"{api.title} {version.version}"
            if version.version in labels:
                message = f"{api.title} has two versions {version.version!r}; give each its own label"
                found.append(Problem(path=(*here, "version"), message=message))
            field, message = ending_problem(api, version)
            if message:
                found.append(Problem(path=(*here, field), message=message))
            if version.backend and version.backend not in backends:
                known = ", ".join(sorted(backends)) or "there is none yet"
                message = f"there is no backend {version.backend!r} (known: {known})"
                found.append(Problem(path=(*here, "backend"), message=message))
            if not version.backend and version.state != "draft":
                found += _unanswered(configuration, version, called, here)
            owner, title = taken.get(version.base_path, ("", ""))
            if title and (owner != api.name or api.naming is None):
                message = f"{version.base_path} is already the base path of {title}"
                found.append(Problem(path=(*here, "base_path"), message=message))
            taken.setdefault(version.base_path, (api.name, called))
            found += _policies((*here, "policies"), version.policies, "api", api.name)
            shapes: dict[str, str] = {}
            for o, operation in enumerate(version.operations):
                shape = operation.shape
                if shape in shapes:
                    message = f"{operation.call!r} and {shapes[shape]!r} match the same calls; remove one"
                    found.append(Problem(path=(*here, "operations", o, "call"), message=message))
                shapes.setdefault(shape, operation.call)
                found += _policies((*here, "operations", o, "policies"), operation.policies, "operation", api.name)
                found += _misfits(version, operation, here, o)
                if operation.method == FIELD_METHOD:
                    message = f"{operation.call!r} is a field, not an operation; put it under fields"
                    found.append(Problem(path=(*here, "operations", o, "call"), message=message))
            found += _graph_fields(api, version, here)
    plans = {f"{product.name}/{plan.name}" for product in configuration.products for plan in product.plans}
    for b, backend in enumerate(configuration.backends):
        for k, key in enumerate(backend.kept_for):
            if key not in plans:
                message = f"there is no plan {key!r} to keep capacity of {backend.name} for"
                found.append(Problem(path=("backends", b, "kept_for", k), message=message))
    apis = {api.name for api in configuration.apis}
    for p, product in enumerate(configuration.products):
        for a, name in enumerate(product.apis):
            if name not in apis:
                message = f"there is no API {name!r} to package"
                found.append(Problem(path=("products", p, "apis", a), message=message))
        doubled = _twice([plan.name for plan in product.plans])
        for n, plan in enumerate(product.plans):
            if plan.name in doubled:
                message = f"{product.title} has two plans named {plan.name!r}; give each its own name"
                found.append(Problem(path=("products", p, "plans", n, "name"), message=message))
            for place, part in enumerate(plan.parts):
                message = part_problem(configuration, product, part)
                if message:
                    found.append(Problem(path=("products", p, "plans", n, "parts", place), message=message))
    return found


def _private_kinds(configuration: Configuration) -> list[Problem]:
    """Kinds that are private to an API that is not there."""
    known = {api.name for api in configuration.apis}
    return [
        Problem(
            path=("kinds", place, "api"), message=f"the kind {kind.name!r} is private to {kind.api!r}, which is no API"
        )
        for place, kind in enumerate(configuration.kinds)
        if kind.api and kind.api not in known
    ]


def ending_problem(api: Api, version: Version) -> tuple[str, str]:
    """What does not fit together of a version's end: the field, and what is wrong; empty texts for nothing."""
    if version.successor == version.version:
        return "successor", f"version {version.version} cannot take its own place; name another version, or none"
    if version.successor and api.version(version.successor) is None:
        known = ", ".join(one.version for one in api.versions if one is not version) or "no other"
        return "successor", f"{api.title} has no version {version.successor!r} (it has: {known})"
    since, until = version.deprecated_on, version.sunset_on
    if since is not None and until is not None and until < since:  # RFC 9745, 4
        return "sunset_on", f"{until} lies before {since}, when it is deprecated; choose a later day"
    return "", ""


def part_problem(configuration: Configuration, product: Product, part: Part) -> str:
    """What is wrong with a plan's part: an API that the product lacks, or an operation that no version has."""
    if part.api not in product.apis:
        known = ", ".join(product.apis) or "none yet"
        return f"the plan sets a limit for {part.api!r}, which {product.title} does not package (it packages: {known})"
    api = configuration.api(part.api)
    if part.operation and api is not None and not any(version.operation(part.operation) for version in api.versions):
        return f"{api.title} has no operation {part.operation!r}; write its method and path as on its page"
    return ""


def secrets_used(configuration: Configuration) -> dict[str, list[str]]:
    """The secrets that a configuration names, each with the places that do, in words."""
    found: dict[str, list[str]] = {}

    def note(place: str, model: object) -> None:
        for name in names_in(model):
            if place not in found.setdefault(name, []):
                found[name].append(place)

    note("everywhere", configuration.everywhere)
    for backend in configuration.backends:
        note(f"backend {backend.name}", backend)
    for api in configuration.apis:
        for version in api.versions:
            note(f"{api.title} {version.version}", version.policies)
            for operation in version.places:
                note(f"{api.title} {version.version}, {operation.call}", operation.policies)
    return found


def least_secrets(configuration: Configuration) -> dict[str, int]:
    """How many bytes secrets have at least, by what the policies that name them use them for."""
    found: dict[str, int] = {}
    for policy in every_policy(configuration):
        least = kind_of(policy).least_secret(policy)
        for name in names_in(policy) if least else ():
            found[name] = max(least, found.get(name, 0))
    return found


def every_policy(configuration: Configuration) -> list[AnyPolicy]:
    """Every policy, wherever it is placed."""
    placed = list(configuration.everywhere)
    for api in configuration.apis:
        for version in api.versions:
            placed += [*version.policies, *(p for operation in version.places for p in operation.policies)]
    return placed


def key_sets_used(configuration: Configuration) -> set[str]:
    """The addresses of key sets that a configuration's policies verify with."""
    return {address for policy in every_policy(configuration) if (address := kind_of(policy).key_set(policy))}


def _unanswered(configuration: Configuration, version: Version, called: str, here: Path) -> list[Problem]:
    """A version without a backend has to answer by itself, whatever it is asked for."""
    outer = (*configuration.everywhere, *version.policies)
    left = [
        one.call
        for one in version.operations
        if not any(kind_of(policy).stands_alone(policy) for policy in (*outer, *one.policies))
    ]
    if version.operations and not left:
        return []
    names = f"{left[0]}{f' and {len(left) - 1} more' if len(left) > 1 else ''}" if left else "it has no operation"
    message = f"{called} has no backend, and nothing answers in its place: {names}; choose a backend, or place a mock"
    return [Problem(path=(*here, "backend"), message=message)]


def _graph_fields(api: Api, version: Version, here: Path) -> list[Problem]:
    """What is wrong with the fields of a graph that have policies of their own."""
    found = []
    twice = _twice([one.call for one in version.fields])
    for f, one in enumerate(version.fields):
        place = (*here, "fields", f)
        if one.method != FIELD_METHOD:
            found.append(Problem(path=(*place, "call"), message=f"{one.call!r} is an operation, not a field"))
            continue
        if api.style != "graphql":
            message = f"{api.title} is no GraphQL API, and has no {one.call}"
            found.append(Problem(path=(*place, "call"), message=message))
        if one.call in twice:
            message = f"{one.call!r} stands there twice; put its policies together"
            found.append(Problem(path=(*place, "call"), message=message))
        found += _policies((*place, "policies"), one.policies, "operation", api.name)
        for p, policy in enumerate(one.policies):
            if not kind_of(policy).on_fields:
                message = f"{kind_of(policy).title} cannot stand on a field; it holds for whole calls"
                found.append(Problem(path=(*place, "policies", p), message=message))
    return found


def check_in(
    configuration: Configuration, environment: str, secrets: Mapping[str, SecretFacts] | None = None
) -> list[Problem]:
    """`check`, and what is missing to run in one environment: targets, and secrets where those set are given.

    A secret is sent only where whoever keeps it lets it go, and is long enough for what it verifies.
    """
    found = check(configuration)
    used = {v.backend for api in configuration.apis for v in api.versions if v.state != "draft"}
    for place, backend in enumerate(configuration.backends):
        if backend.name in used and not backend.targets_in(environment):
            message = f"the backend {backend.name!r} has no target for {environment}; add one"
            found.append(Problem(path=("backends", place, "targets"), message=message))
    for name, places in secrets_used(configuration).items():
        if secrets is not None and name not in secrets:
            message = f"{places[0]}: the secret {name!r} is not set for {environment}; set it under Settings, Secrets"
            found.append(Problem(path=("secrets", name), message=message))
    if secrets is not None:
        found += _misused(configuration, environment, secrets)
    return found


def _misused(configuration: Configuration, environment: str, secrets: Mapping[str, SecretFacts]) -> list[Problem]:
    found = []
    for place, backend in enumerate(configuration.backends):
        for target in backend.targets_in(environment):
            for field, secret, does in (
                ("sign_in_secret", backend.secret_at(target), "sent"),
                ("certificate_secret", backend.certificate_at(target), "shown"),
            ):
                facts = secrets.get(secret) if secret else None
                if facts is not None and not may_go_to(facts.hosts, target.address):
                    words = f"backend {backend.name}: the secret {secret!r} may not be {does} to {target.address}"
                    message = f"{words}; whoever keeps secrets can add the host under Settings, Secrets"
                    found.append(Problem(path=("backends", place, field), message=message))
    for name, least in least_secrets(configuration).items():
        if name in secrets and secrets[name].size < least:
            words = f"the secret {name!r} has {secrets[name].size} bytes"
            message = f"{words}; tokens signed with it ask for {least} (RFC 7518, 3.2)"
            found.append(Problem(path=("secrets", name), message=message))
    return found
