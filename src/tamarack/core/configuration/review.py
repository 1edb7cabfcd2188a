"""Risks in a configuration, found before it is rolled out."""

from dataclasses import dataclass
from urllib.parse import urlsplit

from tamarack.core.configuration.effective import closed, held, in_force, is_open
from tamarack.core.configuration.explain import explain_ways
from tamarack.core.configuration.layers import all_limits
from tamarack.core.configuration.model import Api, Configuration, Operation, Version
from tamarack.core.http.origins import ANY
from tamarack.core.http.reach import Reach, is_address
from tamarack.core.policies import AnyPolicy, kind_of
from tamarack.core.policies.guard.browser_access import BrowserAccess
from tamarack.core.policies.identify.api_key import ApiKey
from tamarack.core.policies.identify.client_secret import ClientSecret
from tamarack.core.policies.identify.signed_key import SignedKey
from tamarack.core.policies.identify.token import JwtPolicy
from tamarack.core.policies.permit.groups import Groups
from tamarack.core.stages import Stage
from tamarack.core.text import in_words


@dataclass(frozen=True, slots=True)
class Risk:
    """Something that runs but that someone should have meant: where, and what it leads to."""

    subject: str
    text: str
    api: str = ""


def risks(configuration: Configuration) -> list[Risk]:
    """Every risk: operations open to anyone, closed ones, limits that can never be reached."""
    found = []
    for api in configuration.apis:
        for version in api.versions:
            if version.state in ("draft", "retired"):
                continue
            found += _openness(configuration, api, version)
            found += _impassable(configuration, api, version)
            found += _browsers(configuration, api, version)
            found += _of_kinds(configuration, api, version)
    found += _unreachable(configuration)
    offered = {name for product in configuration.products for name in product.apis}
    for api in configuration.apis:
        if api.name not in offered and any(v.state == "published" for v in api.versions):
            found.append(Risk(api.title, "is in no product, so nobody can subscribe to it", api.name))
    return found


@dataclass(frozen=True, slots=True)
class NewlyOffered:
    """A version that starts to take calls, and how it is protected, in sentences."""

    api: Api
    version: Version
    protection: list[str]


def newly_offered(before: Configuration, after: Configuration) -> list[NewlyOffered]:
    """The versions that take calls after a change and did not before."""
    served = {(api.name, one.version) for api in before.apis for one in api.versions if one.state != "draft"}
    return [
        NewlyOffered(api, version, _protection(after, api, version))
        for api in after.apis
        for version in api.versions
        if version.state not in ("draft", "retired") and (api.name, version.version) not in served
    ]


def _protection(configuration: Configuration, api: Api, version: Version) -> list[str]:
    """Who may call a version: how callers are known, operation by operation where they differ, and how much."""
    rows = {one.call: held(configuration, api, version, one) for one in version.operations}
    said: dict[str, list[Operation]] = {}
    for operation in version.operations:
        if is_open(rows[operation.call]):
            words = "Anyone may call, without a credential."
        elif closed(version, rows[operation.call]):
            words = "Nobody may call: nothing says how a caller is identified."
        else:
            words = " ".join(one.text for one in explain_ways(configuration, api, version, operation))
            if version.open_trial is not None:
                words = f"{words} {version.open_trial.said}".strip()
        said.setdefault(words, []).append(operation)
    if len(said) == 1:
        found = list(said)
    else:
        found = [f"{_listed(operations)}: {words}" for words, operations in said.items()]
    free = [one for one in version.operations if not _metered(configuration, api, version, one)]
    if free and len(free) == len(version.operations):
        found.append("No rate limit holds on any of its operations, beside what plans set.")
    elif free:
        found.append(f"No rate limit holds on {_listed(free)}, beside what plans set.")
    return found


def _listed(operations: list[Operation]) -> str:
    names = ", ".join(f"`{one.call}`" for one in operations[:3])
    return names if len(operations) <= 3 else f"{names} and {len(operations) - 3} more operations"


def closed_targets(configuration: Configuration, environment: str, reach: Reach) -> list[Risk]:
    """Targets that lie in closed networks, where they are named by their address; names are looked up by nodes."""
    found = []
    for backend in configuration.backends:
        for target in backend.targets_in(environment):
            parts = urlsplit(target.address)
            host, port = parts.hostname or "", parts.port or (443 if parts.scheme == "https" else 80)
            if is_address(host) and not reach.allows(host, port):
                opens = f"[{host}]:{port}" if ":" in host else f"{host}:{port}"
                words = f"target {target.address} lies in a closed network, so nodes do not connect to it"
                found.append(Risk(f"Backend {backend.name}", f"{words}; TAMARACK_REACHABLE={opens} opens it"))
    return found


def _openness(configuration: Configuration, api: Api, version: Version) -> list[Risk]:
    called = f"{api.title} {version.version}"
    open_ones: list[Operation] = []
    closed_ones: list[Operation] = []
    for operation in version.operations:
        rows = held(configuration, api, version, operation)
        if is_open(rows):
            open_ones.append(operation)
        elif closed(version, rows):
            closed_ones.append(operation)
    found = []
    if version.open_trial is not None and not version.open_trial.invited:
        found.append(Risk(called, version.open_trial.said, api.name))
    if open_ones:
        names = _named(open_ones, version)
        found.append(Risk(called, f"{names} open to anyone, without a credential", api.name))
        unmetered = [operation for operation in open_ones if not _metered(configuration, api, version, operation)]
        if unmetered:
            found.append(Risk(called, f"{_named(unmetered, version)} open to anyone and has no rate limit", api.name))
    if closed_ones:
        text = f"{_named(closed_ones, version)} closed: nothing says how a caller is identified, so all are refused"
        found.append(Risk(called, text, api.name))
    return found


def _impassable(configuration: Configuration, api: Api, version: Version) -> list[Risk]:
    """Rules that nobody can meet: they ask for a token or a group where no caller can have one."""
    found: dict[str, list[Operation]] = {}
    for operation in version.operations:
        rows = in_force(held(configuration, api, version, operation))
        tokens = any(kind_of(row.policy).credential == "outside-identity" for row in rows)
        for row in rows:
            if kind_of(row.policy).reads_token and not tokens:
                found.setdefault(f"‘{row.policy.name}’ asks for a token, and no JWT identifies callers", []).append(
                    operation
                )
            if isinstance(row.policy, Groups) and row.policy.allow and is_open(rows):
                text = f"‘{row.policy.name}’ asks for a group, and open operations know no caller"
                found.setdefault(text, []).append(operation)
    called = f"{api.title} {version.version}"
    return [
        Risk(called, f"{_named(operations, version)} closed to all: {text}", api.name)
        for text, operations in found.items()
    ]


def _browsers(configuration: Configuration, api: Api, version: Version) -> list[Risk]:
    """Browser access that lets every page in, or that pages cannot use for want of the key's header."""
    wide: list[Operation] = []
    keyless: dict[str, list[Operation]] = {}
    for operation in version.operations:
        rows = in_force(held(configuration, api, version, operation))
        rule = next((row.policy for row in rows if isinstance(row.policy, BrowserAccess)), None)
        if rule is None:
            continue
        if ANY in rule.origins:
            wide.append(operation)
        ways = [row.policy for row in rows if row.stage is Stage.IDENTIFY]
        headers = [_header_of(way) for way in ways]
        if headers and all(header and header not in rule.headers for header in headers):
            keyless.setdefault(str(headers[0]), []).append(operation)
    called = f"{api.title} {version.version}"
    found = [Risk(called, f"{_named(wide, version)} open to pages of any origin", api.name)] if wide else []
    for header, operations in keyless.items():
        text = f"{_named(operations, version)} open to pages that may not send {header}, so they cannot show who calls"
        found.append(Risk(called, text, api.name))
    return found


def _of_kinds(configuration: Configuration, api: Api, version: Version) -> list[Risk]:
    """What the policies' own kinds warn of."""
    found: dict[str, list[Operation]] = {}
    for operation in version.operations:
        for row in in_force(held(configuration, api, version, operation)):
            kind = kind_of(row.policy)
            undescribed = ("has no description to go by, so it checks nothing",)
            for words in (*kind.risks(row.policy), *(undescribed if kind.describes and not version.document else ())):
                found.setdefault(f"‘{row.policy.name}’ {words}", []).append(operation)
    called = f"{api.title} {version.version}"
    every = len(version.operations)
    return [
        Risk(called, words if len(operations) == every else f"{_calls(operations)}: {words}", api.name)
        for words, operations in found.items()
    ]


def _calls(operations: list[Operation]) -> str:
    if len(operations) > 2:
        return f"{operations[0].call} and {len(operations) - 1} more operations"
    return in_words([one.call for one in operations])


def _header_of(way: AnyPolicy) -> str:
    """The header that a page would have to send to be known; empty where it needs none."""
    if isinstance(way, ApiKey):
        return "" if way.query else way.header
    if isinstance(way, JwtPolicy):
        return "" if way.cookie else way.header
    if isinstance(way, ClientSecret):
        return "" if way.id_query or way.id_form else way.id_header or "authorization"
    return way.header if isinstance(way, SignedKey) else ""


def _metered(configuration: Configuration, api: Api, version: Version, operation: Operation) -> bool:
    return any(kind_of(row.policy).limits_rate for row in in_force(held(configuration, api, version, operation)))


def _named(operations: list[Operation], version: Version) -> str:
    if len(operations) == len(version.operations) and len(operations) > 1:
        return "every operation is"
    if len(operations) > 3:
        return f"{operations[0].call} and {len(operations) - 1} more operations are"
    names = ", ".join(operation.call for operation in operations)
    return f"{names} {'is' if len(operations) == 1 else 'are'}"


def _unreachable(configuration: Configuration) -> list[Risk]:
    """Limits that can never bind, in whichever environment."""
    found: dict[tuple[str, str], Risk] = {}
    for environment in [cap.environment for cap in configuration.caps] or [""]:  # they differ in their caps alone
        for row in all_limits(configuration, environment):
            for note in row.notes:
                called = "the quota" if row.quota is not None else f"‘{row.name}’"
                found.setdefault((row.id, note), Risk(row.where, f"{called} {note}", row.placement.api))
    return list(found.values())
