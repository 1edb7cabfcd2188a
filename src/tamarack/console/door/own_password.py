"""Changing one's own password in the console."""

from tamarack.console.page import me, render, requires
from tamarack.web.people.own_password import make_password_pages

pages = make_password_pages(me, requires("see", must_change=True), render, "overview.front")
