"""What the documentation promises to list, it lists."""

import re
from pathlib import Path

import pytest

from tamarack.core.policies import KINDS
from tamarack.core.traffic.explore import MEASURES
from tamarack.core.traffic.fields import CALL_FIELDS
from tamarack.settings import Settings

ROOT = Path(__file__).parents[1]


@pytest.mark.parametrize("name", Settings.model_fields)
def test_every_setting_is_documented_with_its_meaning(name: str) -> None:
    text = (ROOT / "docs/settings.md").read_text()
    field = Settings.model_fields[name]
    assert f"`TAMARACK_{name.upper()}`" in text
    assert field.description
    assert field.description in text


@pytest.mark.parametrize("kind", KINDS)
def test_every_policy_kind_is_documented_with_its_fields(kind: str) -> None:
    line = next(line for line in (ROOT / "docs/policies.md").read_text().splitlines() if line.startswith(f"| `{kind}`"))
    assert all(f"`{field}`" in line for field in KINDS[kind].model.model_fields if field not in ("kind", "name", "off"))


def test_the_kinds_that_may_stand_on_a_field_of_a_graph_are_named() -> None:
    said = (ROOT / "docs/policies.md").read_text().partition("stand on a field")[2].partition("They hold")[0]
    assert set(re.findall(r"`([a-z-]+)`", said)) - {"fields", "policies"} == {
        name for name, kind in KINDS.items() if kind.on_fields
    }


def test_the_readme_links_every_screenshot() -> None:
    readme = (ROOT / "README.md").read_text()
    shots = list((ROOT / "docs/screenshots").glob("*.png"))
    assert shots
    assert [shot.name for shot in shots if shot.name not in readme] == []


@pytest.mark.parametrize("name", CALL_FIELDS)
def test_every_field_of_calls_is_documented_with_its_standard_name(name: str) -> None:
    line = next(
        line for line in (ROOT / "docs/traffic.md").read_text().splitlines() if line.startswith(f"| `{name}` |")
    )
    field = CALL_FIELDS[name]
    assert field.title in line
    assert not field.otel or f"`{field.otel}`" in line
    assert line.endswith("| yes |" if field.rolled else "| no |")


@pytest.mark.parametrize("name", MEASURES)
def test_every_measure_is_documented(name: str) -> None:
    assert f"| `{name}` | {MEASURES[name].title} |" in (ROOT / "docs/traffic.md").read_text()
