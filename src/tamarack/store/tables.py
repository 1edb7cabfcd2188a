"""Every table, so that one import makes them all known."""

from sqlmodel import SQLModel

from tamarack.store.alerts import tables as alert
from tamarack.store.announcements import tables as announcement
from tamarack.store.applications import share_table as share
from tamarack.store.applications import tables as application
from tamarack.store.audit import tables as audit
from tamarack.store.boards import tables as exploration
from tamarack.store.documents import tables as document
from tamarack.store.draft import tables as draft
from tamarack.store.environments import tables as environment
from tamarack.store.export import tables as export
from tamarack.store.graph_use import tables as graph_field_use
from tamarack.store.handed_over import tables as handed_over
from tamarack.store.joining import tables as join
from tamarack.store.keys import key_set_table as key_set
from tamarack.store.keys import signing_table as signing_key
from tamarack.store.life_cycle import tables as life_cycle
from tamarack.store.mail import tables as mail
from tamarack.store.misfits import tables as misfit
from tamarack.store.nodes import tables as node
from tamarack.store.people import attempts as sign_in_attempt
from tamarack.store.people import sessions as signed_in
from tamarack.store.people import staff
from tamarack.store.people import tables as organization
from tamarack.store.portal import branding, picture
from tamarack.store.portal import notice_table as notice
from tamarack.store.portal import search_table as catalogue_entry
from tamarack.store.prompts import tables as logged_prompt
from tamarack.store.quotas import tables as quota
from tamarack.store.rollouts import tables as rollout
from tamarack.store.saved_calls import tables as saved_call
from tamarack.store.secrets import tables as secret
from tamarack.store.sign_in import tables as directory
from tamarack.store.statements import tables as statement
from tamarack.store.traffic import set_aside
from tamarack.store.traffic import tables as traffic
from tamarack.store.traffic import trace_table as trace

METADATA = SQLModel.metadata

__all__ = [
    "METADATA",
    "alert",
    "announcement",
    "application",
    "audit",
    "branding",
    "catalogue_entry",
    "directory",
    "document",
    "draft",
    "environment",
    "exploration",
    "export",
    "graph_field_use",
    "handed_over",
    "join",
    "key_set",
    "life_cycle",
    "logged_prompt",
    "mail",
    "misfit",
    "node",
    "notice",
    "organization",
    "picture",
    "quota",
    "rollout",
    "saved_call",
    "secret",
    "set_aside",
    "share",
    "sign_in_attempt",
    "signed_in",
    "signing_key",
    "staff",
    "statement",
    "trace",
    "traffic",
]
