"""What an application still calls though it ends: each deprecated version, and where to go from there."""

from dataclasses import dataclass
from datetime import datetime, timedelta

from tamarack.core.configuration.model import Api, Version
from tamarack.core.life_cycle.ending import ending_of, standing_successor
from tamarack.portal.page import my_organization, offered_live
from tamarack.store.applications.tables import Application
from tamarack.store.traffic import overview as watching
from tamarack.store.traffic.last_calls import last_calls
from tamarack.web.application import db, environments

LOOKS_BACK = timedelta(days=7)


@dataclass(frozen=True, slots=True)
class StillCalled:
    """A deprecated version that an application called lately."""

    api: Api
    version: Version
    successor: Version | None
    ending: str
    calls: int
    last: datetime | None

    @property
    def named(self) -> str:
        """How calls name the version that takes its place, where its base path does not."""
        if self.successor is None or self.api.naming is None:
            return ""
        return self.api.naming.said(self.successor.version)


def still_called(application: Application) -> list[StillCalled]:
    """The deprecated versions that an application called in the live environment in seven days, the busiest first."""
    organization = my_organization().name
    found = []
    for api in offered_live().apis:
        for version in api.versions:
            if version.state != "deprecated":
                continue
            filters = {"environment": environments().live, "organization": organization,
                       "application": application.name, "api": api.name, "version": version.version}  # fmt: skip
            calls = watching.totals(db(), watching.until_now(LOOKS_BACK, filters)).calls
            if calls:
                last = last_calls(db(), environments().live, api.name, version.version).get(
                    (organization, application.name)
                )
                successor = standing_successor(api, version)
                found.append(StillCalled(api, version, successor, ending_of(version), calls, last))
    return sorted(found, key=lambda one: -one.calls)
