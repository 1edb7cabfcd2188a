"""Every limit of an environment with its layer, and which of them can never bind since another is met first."""

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Literal

from tamarack.core.configuration.effective import EVERYWHERE, Placement, held, in_force, on_fields
from tamarack.core.configuration.model import Api, Configuration, Version
from tamarack.core.configuration.plans import Plan, Product
from tamarack.core.limits.algorithms import SLICES
from tamarack.core.limits.quota import OF_TOKENS, Quota
from tamarack.core.limits.unit import Unit
from tamarack.core.limits.window import Window
from tamarack.core.policies import kind_of
from tamarack.core.policies.meter.call_quota import CallQuota
from tamarack.core.policies.meter.rate_limit import RateLimit
from tamarack.core.policies.meter.token_limit import TokenLimit

Layer = Literal["platform", "everywhere", "API", "operation", "plan", "plan, single API", "quota"]


@dataclass(slots=True)
class LimitRow:
    """One limit: its layer, where it stands, what it lets through and who it counts for."""

    layer: Layer
    id: str
    """What it counts under in the gateway."""
    name: str
    windows: tuple[Window, ...]
    by: str
    where: str
    """Where it stands, in words."""
    quota: Quota | None = None
    unit: Unit = "calls"
    away: str = ""
    placement: Placement = EVERYWHERE
    product: str = ""
    plan: str = ""
    covers: set[tuple[str, str, str]] = field(default_factory=set)
    """The operations it holds for: API, version and call."""
    replaced: int = 0
    """How many operations it would hold for, but for one of its name further in."""
    notes: list[str] = field(default_factory=list)

    @property
    def brief(self) -> str:
        """What it lets through, for a narrow place; empty where windows of calls tell it better."""
        if self.unit == "calls":
            return self.quota.brief if self.quota is not None else ""
        said = [window.brief.replace(" / ", f" {self.unit} / ", 1) for window in self.windows]
        return ", ".join([*said, self.quota.brief] if self.quota is not None else said)

    @property
    def key(self) -> tuple[str, str]:
        """Its layer and what it counts under: the same limit in another configuration."""
        return self.layer, self.id


def most_in(window: Window, seconds: int, aligned: bool) -> int:
    """The most calls that a window lets through in a stretch of some seconds, aligned to the clock or anywhere."""
    if window.algorithm == "bucket":
        return window.burst + seconds * window.limit // window.seconds
    stretches = -(-seconds // window.seconds)
    if window.algorithm == "fixed" and (seconds % window.seconds or not aligned):
        stretches += 1  # a stretch may begin within one of the window's own
    return window.limit * stretches


def looser(outer: Window, inner: Window) -> bool:
    """Whether `outer` can never be reached where `inner` holds: its rate is met before it is."""
    if outer.seconds < inner.seconds or outer.algorithm == "bucket":
        return False
    if outer.algorithm == "sliding":  # a call counts there for one part longer than the window
        return most_in(inner, outer.seconds + -(-outer.seconds // SLICES), aligned=False) <= outer.limit
    return most_in(inner, outer.seconds, aligned=True) <= outer.limit


def met_first(outer: Window, inner: Iterable[Window]) -> Window | None:
    """The window, of those given, that is always met before `outer` is."""
    return next((window for window in inner if looser(outer, window)), None)


def all_limits(configuration: Configuration, environment: str) -> list[LimitRow]:
    """Every limit of an environment, the outermost layer first, with notes on those that can never bind."""
    rows: dict[tuple[str, str], LimitRow] = {}
    carried = [
        (api, version)
        for api in configuration.apis
        for version in api.versions
        if version.state not in ("draft", "retired")
    ]
    cap = configuration.cap(environment)
    if cap is not None:
        row = LimitRow("platform", "@cap", "platform", cap.limits, "everyone", f"all of {environment}")
        row.covers = {(api.name, version.version, one.call) for api, version in carried for one in version.operations}
        rows[row.key] = row
    for api, version in carried:
        _of_version(configuration, api, version, rows)
    for product in configuration.products:
        for plan in product.plans:
            _of_plan(configuration, product, plan, rows)
    found = list(rows.values())
    for row in found:
        row.notes = _notes(configuration, row, found)
    order = list(Layer.__args__)  # type: ignore[attr-defined]
    return sorted(found, key=lambda row: (order.index(row.layer), row.where, row.name))


_LAYERS: dict[str, Layer] = {"everywhere": "everywhere", "api": "API", "operation": "operation"}


def _of_version(
    configuration: Configuration, api: Api, version: Version, rows: dict[tuple[str, str], LimitRow]
) -> None:
    fields = on_fields(api, version)
    for operation in version.operations:
        for one in (*held(configuration, api, version, operation), *fields):
            policy, placement = one.policy, one.placement
            if not isinstance(policy, RateLimit | CallQuota | TokenLimit):
                continue
            layer = _LAYERS[placement.level]
            id = f"{placement.id}/{policy.name}"
            where = {
                "everywhere": "everywhere",
                "API": f"{api.title} {version.version}",
                "operation": f"{api.title} {version.version}, {placement.call}",
            }[layer]
            row = rows.get((layer, id))
            if row is None:
                windows = () if isinstance(policy, CallQuota) else policy.windows
                quota = None if isinstance(policy, RateLimit) else policy.quota
                by = policy.by if isinstance(policy, CallQuota) else f"{policy.by} {policy.by_name}".strip()
                unit: Unit = policy.unit if isinstance(policy, TokenLimit) else "calls"
                row = LimitRow(layer, id, policy.name, windows, by, where, quota, unit, policy.when_away, placement)
                rows[row.key] = row
            if one.replaced_by is None:
                row.covers.add((api.name, version.version, operation.call))
            else:
                row.replaced += 1


def _of_plan(configuration: Configuration, product: Product, plan: Plan, rows: dict[tuple[str, str], LimitRow]) -> None:
    key = f"{product.name}/{plan.name}"
    called = f"{plan.title} of {product.title}"
    made: dict[str, LimitRow] = {}
    if plan.limits:
        made[""] = LimitRow("plan", f"@plan/{key}", plan.name, plan.limits, "subscription", called)
    for part in plan.parts:
        id = f"@plan/{key}/{part.place}"
        made[part.place] = LimitRow(
            "plan, single API", id, plan.name, part.limits, "subscription", f"{called}, {part.place}"
        )
    every: set[tuple[str, str, str]] = set()
    for api in configuration.apis:
        for version in api.versions if api.name in product.apis else ():
            for operation in version.operations:
                place = (api.name, version.version, operation.call)
                every.add(place)
                found = plan.part_for(api.name, operation.call)
                row = made.get(found.place if found is not None else "")
                if row is not None:
                    row.covers.add(place)
    if plan.quota is not None:
        quota = LimitRow("quota", f"@quota/{key}", plan.name, (), "subscription", called, plan.quota)
        quota.covers = every
        made["@quota"] = quota
    if plan.tokens is not None:
        budget = LimitRow("quota", f"{OF_TOKENS}{key}", plan.name, (), "subscription", called, plan.tokens, "tokens")
        budget.covers = {place for place in every if _counts_tokens(configuration, place)}
        made[OF_TOKENS] = budget
    for row in made.values():
        row.product, row.plan = product.name, plan.name
        rows[row.key] = row


def _counts_tokens(configuration: Configuration, place: tuple[str, str, str]) -> bool:
    """Whether calls of an operation are read as calls to a language model, so that a budget of tokens can hold."""
    api = configuration.api(place[0])
    version = api.version(place[1]) if api is not None else None
    if api is None or version is None:
        return False
    rows = held(configuration, api, version, version.operation(place[2]))
    return any(kind_of(row.policy).reads_prompts for row in in_force(rows))


def _notes(configuration: Configuration, row: LimitRow, rows: list[LimitRow]) -> list[str]:
    """Why a limit, or one of its windows, can never bind."""
    if not row.covers:
        why = ": one of its name replaces it everywhere" if row.replaced else ""
        if row.unit != "calls" and row.plan:
            why = ": none of its APIs counts tokens; place a Token count there"
        return [f"holds for no operation{why}"]
    found = []
    for window in row.windows:
        inside = met_first(window, (other for other in row.windows if other is not window))
        if inside is not None:
            found.append(f"can never reach {window}, for {inside} is met first")
            continue
        first = _met_elsewhere(configuration, window, row, rows)
        if first is not None:
            found.append(f"can never reach {window}: {first} is met first")
    return found


def _met_elsewhere(configuration: Configuration, window: Window, row: LimitRow, rows: list[LimitRow]) -> str | None:
    for other in rows:
        # One that counts at least as much together, and for every call that this one counts.
        if other is row or other.unit != row.unit or not other.windows or not row.covers <= other.covers:
            continue
        if other.placement.is_field and other.placement != row.placement:
            continue  # it counts some of those calls alone
        counts_all = other.by == "everyone" or (other.by == "caller" and row.by == "subscription")
        same = other.by == row.by and row.layer not in ("plan", "plan, single API")
        if counts_all or same:
            tighter = met_first(window, other.windows)
            if tighter is not None and not (same and other.covers == row.covers and row.id < other.id):
                return f"{tighter} of ‘{other.name}’ ({other.where})"
    if row.by == "caller":
        return _met_by_every_plan(configuration, window, row, rows)
    return None


def _met_by_every_plan(configuration: Configuration, window: Window, row: LimitRow, rows: list[LimitRow]) -> str | None:
    """Where a limit for each caller stands on one API, a tighter one in each of its plans is met first."""
    apis = {api for api, _, _ in row.covers}
    products = [product for product in configuration.products if apis & set(product.apis)]
    if len(apis) != 1 or len(products) != 1 or not products[0].plans:
        return None  # a caller may hold more than one subscription
    for plan in products[0].plans:
        limiting = [
            other
            for other in rows
            if (other.product, other.plan) == (products[0].name, plan.name)
            and other.unit == row.unit
            and other.windows
            and row.covers <= other.covers
        ]
        if not any(met_first(window, other.windows) for other in limiting):
            return None
    return f"a rate of every plan of {products[0].title}"
