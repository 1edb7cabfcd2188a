"""The portal's door."""

from tamarack.portal.page import me
from tamarack.store.people.sign_in import sign_in_person
from tamarack.web.people.door import make_door

pages = make_door(sign_in_person, me, "catalogue.index")
