"""Who sees what: audiences, and a configuration as one viewer sees it."""

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import ValidationError

from helpers import configuration
from tamarack.core.configuration.audience import STRANGER, Viewer, in_words, sees
from tamarack.core.configuration.difference import difference
from tamarack.core.configuration.model import Configuration
from tamarack.core.configuration.plans import Plan
from tamarack.core.configuration.seen import seen_by, why_seen

TERN = Viewer("tern-trips", "partner", frozenset({"season"}))
DESK = Viewer("ticket-office", "internal")
NAMES = ("sailings", "fares", "berths")
AUDIENCES = ("internal", "partners", "organizations", "tern-trips", "ticket-office", "group:season")


@pytest.mark.parametrize(
    ("audience", "stranger", "tern", "desk"),
    [
        ((), True, True, True),
        (("organizations",), False, True, True),
        (("internal",), False, False, True),
        (("partners",), False, True, False),
        (("tern-trips",), False, True, False),
        (("group:season",), False, True, False),
        (("season",), False, False, False),  # an organization's name, not a group's
        (("ticket-office", "group:season"), False, True, True),
    ],
)
def test_an_audience_is_everyone_or_those_it_names(
    audience: tuple[str, ...], stranger: bool, tern: bool, desk: bool
) -> None:
    assert (sees(audience, STRANGER), sees(audience, TERN), sees(audience, DESK)) == (stranger, tern, desk)


@pytest.mark.parametrize("text", ["Tern Trips", "group:", "group:9", "-", "a/b"])
def test_what_is_no_audience_is_named_with_the_mend(text: str) -> None:
    with pytest.raises(ValidationError, match="is not an audience: write an organization's name, group:NAME"):
        Plan(name="skiff", title="Skiff", visible_to=(text,))


def test_an_audience_is_read_as_people_type_it_and_said_in_words() -> None:
    plan = Plan(name="skiff", title="Skiff", visible_to=(" Internal ", "GROUP:season"))
    assert plan.visible_to == ("internal", "group:season")
    assert in_words(plan.visible_to) == "internal organizations, group season"
    assert in_words(()) == "everyone"


def world(audiences: dict[str, tuple[str, ...]]) -> Configuration:
    """Three APIs, two products with two plans each; each thing seen by the audience under its name."""
    operations = [{"call": "get /x", "policies": [{"kind": "open"}]}]
    apis = [
        {"name": name, "title": name.title(), "visible_to": audiences.get(name, ()),
         "versions": [
             {"version": "1", "base_path": f"/{name}", "backend": "b", "operations": operations},
             {"version": "2", "base_path": f"/{name}/2", "backend": "b", "state": "draft"},
             {"version": "0", "base_path": f"/{name}/0", "backend": "b", "state": "deprecated"},
         ]}
        for name in NAMES
    ]  # fmt: skip
    products = [
        {"name": product, "title": product, "visible_to": audiences.get(product, ()), "apis": inside,
         "plans": [
             {"name": plan, "title": plan, "visible_to": audiences.get(f"{product}/{plan}", ()),
              "parts": [f"{inside[-1]}: 5 per second"]}
             for plan in ("skiff", "liner")
         ]}
        for product, inside in (("passage", ["sailings", "fares"]), ("harbour", ["berths"]))
    ]  # fmt: skip
    backends = [{"name": "b", "targets": [{"address": "http://127.0.0.1:9"}]}]
    return Configuration.model_validate({"backends": backends, "apis": apis, "products": products})


THINGS = (*NAMES, "passage", "harbour", "passage/skiff", "passage/liner", "harbour/skiff", "harbour/liner")
audiences = st.dictionaries(st.sampled_from(THINGS), st.lists(st.sampled_from(AUDIENCES), max_size=2).map(tuple))
holdings = st.frozensets(st.sampled_from([("passage", "skiff"), ("passage", "liner"), ("harbour", "liner")]))
viewers = st.builds(
    Viewer,
    st.sampled_from(["", "tern-trips", "ticket-office"]),
    st.sampled_from(["internal", "partner"]),
    st.frozensets(st.just("season")),
    holdings,
)


@given(audiences, viewers)
def test_nothing_hidden_is_shown_or_named(named: dict[str, tuple[str, ...]], viewer: Viewer) -> None:
    whole = world(named)
    seen = seen_by(whole, viewer)
    held = {product for product, _ in viewer.holds}
    covered = {name for product in whole.products if product.name in held for name in product.apis}
    for api in whole.apis:
        expected = sees(named.get(api.name, ()), viewer) or api.name in covered
        assert (seen.api(api.name) is not None) == expected
        if not expected:
            assert all(api.name not in product.apis for product in seen.products)
            assert all(part.api != api.name for p in seen.products for plan in p.plans for part in plan.parts)
    for product in whole.products:
        there = seen.product(product.name)
        assert (there is not None) == (sees(named.get(product.name, ()), viewer) or product.name in held)
        for plan in product.plans if there is not None else ():
            expected = sees(plan.visible_to, viewer) or (product.name, plan.name) in viewer.holds
            assert (there is not None and there.plan(plan.name) is not None) == expected
    for api in seen.apis:
        assert [version.version for version in api.versions] == (["1", "0"] if api.name in covered else ["1"])


@given(audiences, viewers)
def test_a_viewer_sees_no_less_with_subscriptions_than_without(
    named: dict[str, tuple[str, ...]], viewer: Viewer
) -> None:
    whole = world(named)
    bare, full = seen_by(whole, viewer.without_holdings()), seen_by(whole, viewer)
    assert {api.name for api in bare.apis} <= {api.name for api in full.apis}
    assert {p.name for p in bare.products} <= {p.name for p in full.products}


def test_staff_are_told_why() -> None:
    whole = world({"berths": ("internal",)})
    berths = whole.api("berths")
    assert berths is not None
    assert why_seen(berths, whole, DESK) == "is named among those who see it"
    assert why_seen(berths, whole, TERN) == "is not among those who see it"
    holding = Viewer("tern-trips", "partner", frozenset(), frozenset({("harbour", "skiff")}))
    assert why_seen(berths, whole, holding) == "through its subscription to harbour"


def test_a_change_of_audience_and_of_pages_is_said_in_the_review() -> None:
    before, after = configuration(), configuration()
    page = {"name": "first-steps", "title": "First steps", "document": "a" * 64}
    api = after.apis[0].model_validate({**after.apis[0].model_dump(), "visible_to": ["internal"], "pages": [page]})
    after = after.model_copy(update={"apis": (api,)})
    assert [f"{one.subject}: {one.text}" for one in difference(before, after)] == [
        "Sailings: seen by internal organizations instead of everyone",
        "Sailings: page ‘First steps’",
    ]
