"""Environments in configurations: where they are named, what is left without one, and one version brought along."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from tamarack.core.configuration.backend import Backend, Target
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Cap, Configuration, check
from tamarack.core.environments.bringing import NotThere, versions_to_bring, with_version
from tamarack.core.environments.named_in import only_served, unknown_environments, without_environment
from tamarack.core.limits.window import Window
from tamarack.core.written.kind import WrittenKind
from tamarack.demo.seed import shipped_configuration

WHOLE = shipped_configuration(7400).configuration
VERSIONS = [(api.name, version.version) for api in WHOLE.apis for version in api.versions]
NAMES = ("test", "staging", "production")

targets = st.lists(
    st.builds(
        Target,
        address=st.integers(1, 9).map(lambda port: f"http://10.0.0.1:{port}"),
        environments=st.lists(st.sampled_from(NAMES), unique=True, max_size=3).map(tuple),
    ),
    min_size=1,
    max_size=4,
)
backends = st.lists(targets, max_size=3).map(
    lambda many: tuple(Backend(name=f"b{place}", targets=tuple(one)) for place, one in enumerate(many))
)
caps = st.lists(st.sampled_from(NAMES), unique=True).map(
    lambda names: tuple(Cap(environment=name, limits=(Window.model_validate("5 per second"),)) for name in names)
)
configurations = st.builds(Configuration, backends=backends, caps=caps)


@given(configurations, st.sampled_from(NAMES))
def test_without_an_environment_nothing_names_it_and_the_others_have_what_they_had(
    configuration: Configuration, name: str
) -> None:
    left = without_environment(configuration, name)
    others = [one for one in NAMES if one != name]
    assert unknown_environments(left, others) == []
    alone = only_served(configuration, name)
    for before, after in zip(configuration.backends, left.backends, strict=True):
        assert (after.targets == ()) == (before.name in alone)
        for other in others:
            assert [one.address for one in after.targets_in(other)] == [one.address for one in before.targets_in(other)]
    assert {cap.environment for cap in left.caps} == {cap.environment for cap in configuration.caps} - {name}


@given(configurations)
def test_an_unknown_environment_is_told_where_it_is_named(configuration: Configuration) -> None:
    found = unknown_environments(configuration, ("test", "production"))
    named = [cap.environment for cap in configuration.caps]
    named += [name for one in configuration.backends for target in one.targets for name in target.environments]
    assert len(found) == named.count("staging")
    assert all("'staging' is no environment; there are test and production" in one.message for one in found)


@given(st.sampled_from(VERSIONS), st.sets(st.sampled_from([api.name for api in WHOLE.apis])))
def test_one_version_comes_with_what_it_needs_and_nothing_else_changes(
    version: tuple[str, str], there: set[str]
) -> None:
    name, label = version
    target = Configuration(
        kinds=WHOLE.kinds if there else (),
        backends=tuple(
            one for one in WHOLE.backends
            if any(one.name in {v.backend for v in api.versions} for api in WHOLE.apis if api.name in there)
        ),
        apis=tuple(api for api in WHOLE.apis if api.name in there),
    )  # fmt: skip
    brought = with_version(WHOLE, target, f"{name}/{label}")
    api = brought.api(name)
    assert api is not None
    assert api.version(label) == WHOLE.api(name).version(label)  # type: ignore[union-attr]
    assert [problem.message for problem in check(brought) if name in problem.path] == []
    assert {change.api for change in difference(target, brought)} <= {name, ""}
    assert [one for one in brought.apis if one.name != name] == [one for one in target.apis if one.name != name]
    assert set(target.backends) <= set(brought.backends)
    assert with_version(WHOLE, brought, f"{name}/{label}") == brought


def test_what_the_target_has_of_a_backend_stays_as_it_is_there() -> None:
    ours = WHOLE.model_copy(
        update={"backends": tuple(one.model_copy(update={"summary": "ours"}) for one in WHOLE.backends)}
    )
    brought = with_version(WHOLE, ours, "sailings/2")
    assert {one.summary for one in brought.backends} == {"ours"}


def test_a_written_kind_comes_along_where_a_version_uses_one() -> None:
    api = WHOLE.apis[0]
    kind = WrittenKind.model_validate(
        {"name": "tide", "title": "Tide", "levels": ["api"], "request": "set header X-Tide = 'high'"}
    )
    policies = ({"kind": "written:tide", "name": "tide"}, *api.versions[0].model_dump(mode="json")["policies"])
    version = api.versions[0].model_dump(mode="json") | {"policies": policies}
    source = Configuration.model_validate(
        {"kinds": [kind.model_dump(mode="json")], "backends": [one.model_dump(mode="json") for one in WHOLE.backends],
         "apis": [api.model_dump(mode="json") | {"versions": [version]}]}
    )  # fmt: skip
    brought = with_version(source, Configuration(), f"{api.name}/{version['version']}")
    assert [one.name for one in brought.kinds] == ["tide"]


def test_the_versions_that_differ_can_be_brought() -> None:
    assert versions_to_bring(WHOLE, WHOLE) == []
    assert [(api.name, version.version) for api, version in versions_to_bring(WHOLE, Configuration())] == VERSIONS


@pytest.mark.parametrize("named", ["", "sailings", "sailings/9", "nothing/1"])
def test_a_version_that_is_not_there_cannot_be_brought(named: str) -> None:
    with pytest.raises(NotThere, match="no version"):
        with_version(WHOLE, Configuration(), named)
