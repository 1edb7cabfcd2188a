"""Names that people give: whatever is in them, every page is the page that it was, and no name becomes markup."""

import re

import psycopg
import pytest
from flask.testing import FlaskClient
from sqlmodel import Session, select

from core.traffic.test_traffic import record
from tamarack.core.configuration.model import Configuration
from tamarack.settings import Settings
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications.tables import Application
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.draft import queries as drafting
from tamarack.store.people.staff import Staff
from tamarack.store.people.tables import Organization, Person
from tamarack.store.rollouts import queries as rolling
from tamarack.store.traffic.recording import Batch, take_in
from web.pages import Page
from web.test_odd_input import REAL, paths

HOSTILE = """"'><x-hostile onmouseover=alert(1)>&quot;{{7*7777777}}</title></textarea>"""
ATTRIBUTE = re.compile(r"^[a-zA-Z][a-zA-Z0-9:.-]*$")


def hostile(configuration: Configuration) -> Configuration:
    """The configuration with every name for people made hostile."""
    body = configuration.model_dump(mode="json")
    for api in body["apis"]:
        api |= {"title": HOSTILE, "summary": HOSTILE, "owner": HOSTILE, "contact": HOSTILE}
        for page in api["pages"]:
            page["title"] = HOSTILE
        for version in api["versions"]:
            for operation in version["operations"]:
                operation["summary"] = HOSTILE
    for product in body["products"]:
        product |= {"title": HOSTILE, "summary": HOSTILE}
        for plan in product["plans"]:
            plan |= {"title": HOSTILE, "summary": HOSTILE}
    for backend in body["backends"]:
        backend["summary"] = HOSTILE
    return Configuration.model_validate(body)


@pytest.fixture
def hostile_world(world: Session, settings: Settings) -> dict[str, str]:
    """The world under hostile names, with an application that called; returns what addresses are made with."""
    drafting.replace_all(world, COMMAND_LINE, hostile(drafting.load_configuration(world)), remove_others=True)
    for environment in ("test", "production"):
        rolling.roll_out(world, COMMAND_LINE, environment, HOSTILE)
    for person in [*world.exec(select(Person)), *world.exec(select(Staff))]:
        person.name = HOSTILE
    for organization in world.exec(select(Organization)):
        organization.title = HOSTILE
        made = subscribing.make_application(world, COMMAND_LINE, organization, f"x {HOSTILE}", HOSTILE)
        offered = rolling.running_configuration(world, "production")
        subscribing.subscribe(world, COMMAND_LINE, offered, made, "passage", "skiff", "production", HOSTILE)
    world.commit()
    application = world.exec(select(Application).join(Organization).where(Organization.name == "tern-trips")).one()  # type: ignore[arg-type]
    call = record(
        1_790_000_000_000_000, id="1a21f500000000000000001", api="sailings", version="2", operation="get /sailings",
        method="GET", path=f"/{HOSTILE}", agent=HOSTILE, application=application.name, organization="tern-trips",
        environment="production", end_user=HOSTILE, status=429, reason="over-rate", policy="steady", note=HOSTILE,
    )  # fmt: skip
    with psycopg.connect(settings.database, autocommit=True) as connection:
        take_in(connection, [Batch("hostile", "n", [call])])
    return REAL | {"id": application.id, "organization": "tern-trips"}


def walked(client: FlaskClient, values: dict[str, str], *more: str) -> dict[str, str]:
    """Every page that can be opened, and its text."""
    found = {}
    for path in [*(path for method, path in paths(client, values) if method == "GET" and "health" not in path), *more]:
        answer = client.get(path)
        if answer.status_code == 200 and answer.mimetype == "text/html":
            found[path] = answer.get_data(as_text=True)
        answer.close()
    return found


def faults(pages: dict[str, str]) -> list[str]:
    """What became markup that was a name."""
    found = []
    for path, text in pages.items():
        page = Page(text)
        for tag, attributes in page.elements:
            names = [name for name, _ in attributes]
            wrong = [name for name in names if not ATTRIBUTE.match(name) or name.startswith("on")]
            if tag == "x-hostile" or wrong or len(names) != len(set(names)):
                found.append(f"{path}: <{tag} {' '.join(names)}>")
        if "54444439" in text:
            found.append(f"{path}: a name was taken for a template")
    return found


OPERATION = "operation=get+/sailings"


def test_no_name_becomes_markup_in_the_console(admin: FlaskClient, hostile_world: dict[str, str]) -> None:
    pages = walked(
        admin, hostile_world, f"/apis/sailings/2/?{OPERATION}", f"/apis/sailings/2/bench/?{OPERATION}",
        f"/apis/sailings/2/explain/?{OPERATION}&application={hostile_world['id']}", "/plans/passage/plan?name=skiff",
        "/traffic/calls/1a21f500000000000000001", "/traffic/calls?where=application+is+x", "/finding?q=x-hostile",
        "/apis/sailings/2/policies/edit?level=api&policy=steady", "/traffic/explore/?split=application",
    )  # fmt: skip
    assert len(pages) > 60
    assert sum("x-hostile" in text for text in pages.values()) > 25, "the names are on the pages"
    assert not faults(pages), "\n".join(faults(pages))


def test_no_name_becomes_markup_in_the_portal(lead: FlaskClient, hostile_world: dict[str, str]) -> None:
    pages = walked(
        lead, hostile_world, "/apis/sailings/2/operation?call=get /sailings", "/?search=x-hostile",
        "/reasons/over-rate?api=sailings&version=2&operation=get+/sailings&call=1a21f500000000000000001",
    )  # fmt: skip
    assert len(pages) > 15
    assert sum("x-hostile" in text for text in pages.values()) > 10, "the names are on the pages"
    assert not faults(pages), "\n".join(faults(pages))
