"""The console's side of the portal: lists, the queue, acting on behalf, what is seen, notices, look, pages."""

import io
import re

import pytest
from flask.testing import FlaskClient
from PIL import Image
from sqlmodel import Session, col, select

from tamarack.console.overview import pages as front
from tamarack.core.configuration.review import risks
from tamarack.core.portal.branding import Look
from tamarack.store.announcements.tables import Announcement
from tamarack.store.applications import changes as subscribing
from tamarack.store.applications import queries as subscribers
from tamarack.store.applications.share_table import ApplicationShare
from tamarack.store.applications.tables import Application, Subscription
from tamarack.store.audit.log import COMMAND_LINE
from tamarack.store.audit.tables import AuditEntry
from tamarack.store.draft import queries as drafting
from tamarack.store.joining.tables import JoinRequest
from tamarack.store.mail.tables import Mail
from tamarack.store.people.tables import Organization, Person
from tamarack.store.portal.branding import Branding, look_of
from tamarack.store.rollouts import queries as rolling
from tamarack.store.rollouts.tables import FeedItem

PORTAL = "m.tern@tern-trips.example"


@pytest.fixture
def asked(world: Session) -> Subscription:
    """An access request of Tern Trips for the plan Liner."""
    owner = subscribers.organization_named(world, "tern-trips")
    assert owner is not None
    made = subscribing.make_application(world, COMMAND_LINE, owner, "Night Planner")
    offered = rolling.running_configuration(world, "production")
    one = subscribing.subscribe(
        world, COMMAND_LINE, offered, made, "passage", "liner", "production", "we sell passages"
    )
    world.commit()
    return one


def newest_mail(session: Session, to: str) -> Mail:
    session.expire_all()
    return session.exec(select(Mail).where(Mail.to == to).order_by(col(Mail.id).desc())).all()[0]


def post(admin: FlaskClient, path: str, **data: str) -> str:
    return admin.post(path, data=data, follow_redirects=True).text


def test_a_request_is_approved_on_another_plan_and_the_organization_is_told(
    admin: FlaskClient, world: Session, asked: Subscription
) -> None:
    queue = admin.get("/subscribers/requests/").text
    assert "we sell passages" in queue
    assert "Night Planner" in queue
    said = post(admin, f"/subscribers/requests/{asked.id}", act="approve", plan="cutter")
    assert "Night Planner is on cutter of passage" in said
    world.expire_all()
    assert (asked.state, asked.plan) == ("active", "cutter")
    item = world.get(FeedItem, ("subscription", asked.id))
    assert item is not None
    assert (item.body or {})["state"] == "active"
    assert "on the plan Cutter instead of Liner" in newest_mail(world, PORTAL).text
    assert "This request is no longer open" in post(admin, f"/subscribers/requests/{asked.id}", act="approve")


def test_a_plan_that_is_asked_for_is_declined_with_a_reason_only(
    admin: FlaskClient, world: Session, asked: Subscription
) -> None:
    where = f"/subscribers/requests/{asked.id}"
    post(admin, where, act="approve", plan="skiff")
    offered = rolling.running_configuration(world, "production")
    world.refresh(asked)
    subscribing.change_plan(world, COMMAND_LINE, offered, asked, "liner", approved=False, message="sold out by noon")
    world.commit()
    assert "sold out by noon" in newest_mail(world, "i.marsh@skerry.example").text
    assert "sold out by noon" in admin.get("/subscribers/requests/").text
    assert "Say why" in post(admin, where, act="decline", reason=" ")
    assert "was declined" in post(admin, where, act="decline", reason="Cutter will do")
    world.expire_all()
    assert (asked.state, asked.plan, asked.next_plan) == ("active", "skiff", "")
    assert "Cutter will do" in newest_mail(world, PORTAL).text
    assert "not offered here" in post(admin, where, act="approve", plan="yacht")


@pytest.mark.parametrize(
    ("path", "shown", "hidden"),
    [
        ("/subscribers/?search=gale", "Tern Trips", "Ticket Office"),
        ("/subscribers/?kind=internal", "Ticket Office", "Tern Trips"),
        ("/subscribers/?state=paused", "No organization matches", "Tern Trips"),
        ("/subscribers/people?role=member", "Jon Gale", "Mette Tern"),
        ("/subscribers/people?search=tern-trips.example", "Mette Tern", "Ailsa Quay"),
        ("/subscribers/applications?search=night", "Night Planner", "No application"),
        ("/subscribers/applications?state=paused", "No application matches", "Night Planner"),
        ("/subscribers/subscriptions?state=pending&plan=liner", "Night Planner", "No subscription"),
        ("/subscribers/subscriptions?environment=test", "No subscription matches", "Night Planner"),
        ("/subscribers/subscriptions?state=waiting&product=passage", "Night Planner", "No subscription"),
        ("/subscribers/requests/?search=planner", "Night Planner", "No request"),
        ("/subscribers/requests/?environment=test", "No request matches", "Night Planner"),
    ],
)
def test_lists_are_searched_and_filtered(
    admin: FlaskClient, asked: Subscription, path: str, shown: str, hidden: str
) -> None:
    page = admin.get(path).text
    body = page.split("</nav>", 2)[2]
    assert shown in body
    assert hidden not in body


def test_long_lists_are_paged(admin: FlaskClient, world: Session) -> None:
    for number in range(60):
        world.add(Organization(name=f"quay-{number:02}", title=f"Quay {number:02}"))
    world.commit()
    assert "Quay 44" not in admin.get("/subscribers/?search=quay").text.split("</form>", 2)[-1]
    page = admin.get("/subscribers/?search=quay&page=3").text
    assert "Quay 59" in page
    assert "51–61" in page  # with the organization of Ailsa Quay


def test_staff_act_on_behalf(admin: FlaskClient, world: Session) -> None:
    said = post(admin, "/subscribers/tern-trips/applications", title="Pier Board", description="in the hall")
    assert "Pier Board is registered for Tern Trips" in said
    made = world.exec(select(Application)).one()
    where = f"/subscribers/applications/{made.id}"
    member = world.exec(select(Person).where(Person.email == "j.gale@tern-trips.example")).one()
    assert "who looks after Pier Board" in post(admin, f"{where}/share", people=member.id)
    assert world.exec(select(ApplicationShare)).one().person_id == member.id
    assert "The description is saved" in post(admin, f"{where}/description", title="Pier Boards", description="in two")
    said = post(admin, f"{where}/subscriptions", plan="harbour/liner", environment="production")
    assert "Pier Boards is subscribed to liner of harbour" in said  # a plan that partners do not see, approved by doing
    assert world.exec(select(Subscription)).one().state == "active"
    assert "already has a subscription" in post(
        admin, f"{where}/subscriptions", plan="harbour/skiff", environment="production"
    )
    assert "is missing; give it 1 to 80" in post(admin, "/subscribers/tern-trips/applications", title="")
    assert {"make application", "share application", "describe application", "subscribe"} <= {
        entry.action for entry in world.exec(select(AuditEntry).where(AuditEntry.actor == "i.marsh@skerry.example"))
    }


def test_what_an_organization_sees_is_shown_with_why(admin: FlaskClient, world: Session, asked: Subscription) -> None:
    page = admin.get("/subscribers/tern-trips/sees").text
    assert "all who are signed in" in page
    assert "internal organizations" in page
    assert page.count(">no<") == 1  # the harbour's plan for internal organizations
    inside = admin.get("/subscribers/harbour-control/sees").text
    assert ">no<" not in inside
    assert admin.get("/subscribers/nobody/sees").status_code == 404


def test_who_sees_it_is_set_in_the_draft_and_names_are_checked(admin: FlaskClient, world: Session) -> None:
    found = drafting.load_configuration(world).api("sailings")
    assert found is not None
    version = found.versions[1]
    form = {"title": "Sailings", "summary": "s", "owner": "", "base_path": version.base_path,
            "backend": version.backend, "state": version.state}  # fmt: skip
    where = "/apis/sailings/2/description"
    wrong = admin.post(where, data=form | {"visible_to": "internal\ntern-tripz"})
    assert wrong.status_code == 422
    assert "there is no organization &#39;tern-tripz&#39;; those there are: harbour-control" in wrong.text
    assert 'value="tern-tripz" checked' in wrong.text
    assert "is not an audience" in admin.post(where, data=form | {"visible_to": "Tern Trips!"}).text
    assert admin.post(where, data=form | {"visible_to": "internal, tern-trips"}).status_code == 303
    product = {"title": "Passage", "summary": "", "apis": ["sailings"], "visible_to": "group:season"}
    assert admin.post("/plans/passage", data=product).status_code == 303
    world.expire_all()
    draft = drafting.load_configuration(world)
    api, package = draft.api("sailings"), draft.product("passage")
    assert api is not None
    assert package is not None
    assert (api.visible_to, package.visible_to) == (("internal", "tern-trips"), ("group:season",))
    review = admin.get("/review").text
    assert "seen by internal organizations, tern-trips instead of everyone" in review


def test_an_announcement_is_seen_first_then_told_by_portal_and_mail(
    admin: FlaskClient, world: Session, asked: Subscription
) -> None:
    where = "/subscribers/notices/"
    form = {"about": "sailings/2", "title": "Winter times", "text": "From **Monday** on. <script>alert(1)</script>",
            "readers": "everyone", "mail": "yes"}  # fmt: skip
    preview = post(admin, where, **form, act="preview")
    assert "<strong>Monday</strong>" in preview
    assert "1 person</b>" in preview
    assert "<script>alert" not in preview
    assert world.exec(select(Announcement)).first() is None
    assert "mail to 1 is on its way" in post(admin, where, **form)
    mail = newest_mail(world, PORTAL)
    assert mail.subject == "Sailings: Winter times"
    assert "From **Monday** on." in mail.text
    everybody = post(admin, where, about="", title="Holidays", text="We are back on 7 January.", mail="yes",
                     readers="everyone")  # fmt: skip
    assert f"mail to {len(world.exec(select(Person)).all())} is" in everybody
    kept = world.exec(select(Announcement).where(Announcement.title == "Holidays")).one()
    assert "is withdrawn" in post(admin, f"{where}{kept.id}/withdraw")
    assert admin.post(f"{where}{kept.id}/withdraw").status_code == 404


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"title": ""}, "The title is missing"),
        ({"text": " "}, "Write what there is to say"),
        ({"about": "boats"}, "No API &#39;boats&#39; runs"),
        ({"about": "sailings/9"}, "has no version &#39;9&#39;"),
        ({"about": "", "readers": "subscribers"}, "choose the API too"),
    ],
)
def test_an_announcement_that_cannot_be_keeps_what_was_typed(
    admin: FlaskClient, world: Session, changes: dict[str, str], words: str
) -> None:
    form = {"about": "sailings", "title": "Winter times", "text": "typed at length", "readers": "everyone"}
    answer = admin.post("/subscribers/notices/", data=form | changes)
    assert (answer.status_code, words in answer.text) == (422, True)
    if "text" not in changes:
        assert "typed at length" in answer.text
    assert world.exec(select(Announcement)).first() is None


def test_what_was_typed_comes_back_where_it_could_not_be_done(
    admin: FlaskClient, world: Session, asked: Subscription
) -> None:
    """Also in forms that answer with another page; secrets are never carried."""
    page = post(admin, "/subscribers/tern-trips/applications", title="Night Planner", description="typed at length")
    assert 'value="typed at length"' in page
    assert 'value="typed at length"' not in admin.get("/subscribers/tern-trips").text  # once
    page = post(admin, f"/subscribers/requests/{asked.id}", act="approve", plan="yacht", reason="half a reason")
    assert 'value="half a reason"' in page
    page = post(admin, "/subscribers/tern-trips/groups", groups="season, Not A Group!")
    assert "season, Not A Group!" in page
    person = world.exec(select(Person).where(Person.email == PORTAL)).one()
    post(admin, f"/subscribers/people/{person.id}", password="short")
    with admin.session_transaction() as kept:
        assert "short" not in str(dict(kept))


def look(**changes: object) -> dict[str, object]:
    plain = Look()
    form: dict[str, object] = {"name": "Skerry Sound Ferries", "front_title": "Build", "front_text": "**Boats**",
                               "links": "Terms https://www.skerry.example/terms"}  # fmt: skip
    for theme in ("light", "dark"):
        form |= {f"{theme}.{part}": getattr(getattr(plain, theme), part) for part in ("ground", "ink", "accent")}
    return form | changes


def test_the_portal_takes_the_look_that_it_is_given(admin: FlaskClient, portal: FlaskClient, world: Session) -> None:
    out = io.BytesIO()
    Image.new("RGBA", (900, 300), "#0f5f73").save(out, "PNG")
    sent = look(**{"light.accent": "#0f5f73", "logo": (io.BytesIO(out.getvalue()), "logo.png")})
    assert admin.post("/settings/portal/", data=sent).status_code == 303
    page = portal.get("/").text
    for words in ("Skerry Sound Ferries", "<strong>Boats</strong>", "https://www.skerry.example/terms", "/logo.png"):
        assert words in page
    assert "--gold: #0f5f73" in portal.get("/look.css").text
    assert Image.open(io.BytesIO(portal.get("/logo.png").data)).size == (288, 96)
    assert " style=" not in page
    assert admin.post("/settings/portal/", data=look(no_logo="yes")).status_code == 303
    assert portal.get("/logo.png").status_code == 404
    assert [e.subject for e in world.exec(select(AuditEntry).where(AuditEntry.action == "change the portal's look"))]


@pytest.mark.parametrize(
    ("changes", "words"),
    [
        ({"light.accent": "#f0c65a"}, "the accent needs 4.5 to 1"),
        ({"dark.ink": "#333333"}, "text needs 4.5 to 1"),
        ({"light.ground": "#808080"}, "neither light nor dark enough"),
        ({"light.ink": "navy"}, "is not a colour"),
        ({"links": "javascript:alert(1)"}, "is not a link"),
        ({"name": ""}, "String should have"),
        ({"logo": (io.BytesIO(b"<svg/>"), "logo.svg")}, "logo.svg is not a picture"),
    ],
)
def test_a_look_that_cannot_be_read_is_not_kept(
    admin: FlaskClient, world: Session, changes: dict[str, object], words: str
) -> None:
    answer = admin.post("/settings/portal/", data=look(**changes))
    assert answer.status_code == 422
    assert words.lower() in answer.text.lower()
    assert "**Boats**" in answer.text
    assert world.get(Branding, 1) is None


def test_seeing_a_look_first_keeps_nothing(admin: FlaskClient, world: Session) -> None:
    page = admin.post("/settings/portal/", data=look(act="preview", **{"light.accent": "#0f5f73"}))
    assert (page.status_code, "#0f5f73" in page.text) == (200, True)
    assert look_of(world) == Look()


def test_a_page_is_written_moved_and_taken_out_in_the_draft(admin: FlaskClient, world: Session) -> None:
    where = "/apis/sailings/2/documentation/"
    seen = post(admin, where, title="Tides", name="tides", text="**Spring** tide", act="preview")
    assert "<strong>Spring</strong>" in seen
    assert "Developers read it after the next rollout" in post(
        admin, where, title="Tides", name="tides", text="**Spring** tide"
    )
    pages = [page.name for page in _sailings(world).pages]
    assert pages == ["first-steps", "from-1-to-2", "tides"]
    post(admin, where, old_name="tides", act="earlier")
    assert [page.name for page in _sailings(world).pages] == ["first-steps", "tides", "from-1-to-2"]
    assert "Undo" in post(admin, where, old_name="tides", title="High tides", name="high-tides", text="anew")
    assert "page ‘High tides’" in admin.get("/review").text
    post(admin, where, old_name="high-tides", act="remove")
    assert [page.name for page in _sailings(world).pages] == ["first-steps", "from-1-to-2"]


def _sailings(session: Session):  # type: ignore[no-untyped-def]
    session.expire_all()
    found = drafting.load_configuration(session).api("sailings")
    assert found is not None
    return found


@pytest.mark.parametrize(
    ("form", "words"),
    [
        ({"title": "", "name": "tides", "text": "kept text"}, "String should have"),
        ({"title": "Tides", "name": "High Tides", "text": "kept text"}, "lower-case letters"),
        ({"title": "Tides", "name": "first-steps", "text": "kept text"}, "choose another name"),
        ({"title": "kept text", "name": "tides", "text": " "}, "is empty"),
    ],
)
def test_a_page_that_cannot_be_keeps_what_was_typed(
    admin: FlaskClient, world: Session, form: dict[str, str], words: str
) -> None:
    answer = admin.post("/apis/sailings/2/documentation/", data=form)
    assert answer.status_code == 422
    assert words.lower() in answer.text.lower()
    assert "kept text" in answer.text
    assert len(_sailings(world).pages) == 2


def test_the_files_of_a_draft_hold_its_pages(admin: FlaskClient) -> None:
    archive = admin.get("/settings/export").data
    import zipfile

    with zipfile.ZipFile(io.BytesIO(archive)) as files:
        assert "Three calls that most applications make" in files.read("pages/sailings/first-steps.md").decode()
        assert re.search(r"document: pages/sailings/first-steps.md", files.read("apis/sailings.yaml").decode())


def test_the_front_page_counts_requests_and_says_how_many_risks_it_leaves_out(
    admin: FlaskClient, world: Session, monkeypatch: pytest.MonkeyPatch
) -> None:
    assert "of developers to answer" not in admin.get("/").text
    asks = JoinRequest(
        email="p@puffin.example", name="P", password_hash="", organization="Puffin Works", state="waiting"
    )
    world.add(asks)
    world.commit()
    assert "1 request</a> of developers to answer" in admin.get("/").text
    many = len(risks(drafting.load_configuration(world)))
    monkeypatch.setattr(front, "MOST_RISKS", 0)
    assert f"{many} more</a> in the review" in admin.get("/").text
