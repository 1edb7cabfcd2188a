"""Changing one's own password in the portal."""

from tamarack.portal.page import me, render, requires
from tamarack.web.people.own_password import make_password_pages

pages = make_password_pages(me, requires("see", must_change=True), render, "applications.index")
