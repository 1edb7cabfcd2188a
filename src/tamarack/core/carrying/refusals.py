"""Every reason the gateway gives for not carrying a call: the one table of them.

A refusal is answered as problem details (RFC 9457). It tells the caller enough to mend the call and
nothing that helps an attacker; `mend` is what staff read when they look the call up, and `developer` what the
caller's developer reads.
"""

from dataclasses import dataclass

from tamarack.core.identity.lookups import FetchKeys, FindToken


@dataclass(frozen=True, slots=True)
class Reason:
    """Why a call was refused: a stable code, the HTTP status, and words for caller and reader."""

    code: str
    status: int
    title: str
    detail: str
    mend: str
    by: str = "caller"
    """Who can put it right: `caller`, `backend` or `platform`."""
    developer: str = ""
    """What the caller's developer can do, where that is not what staff can."""

    @property
    def for_developers(self) -> str:
        """What the caller's developer can do about it."""
        return self.developer or self.mend


_TABLE = (
    Reason(
        "ambiguous-request",
        400,
        "The request can be read in more than one way",
        "The request is not a well-formed HTTP/1.1 message and was not passed on.",
        "Send exactly one Host field, one way of giving the body's length, and no bare line feeds.",
    ),
    Reason(
        "unknown-method",
        501,
        "The method is not known",
        "This gateway does not accept the request's method.",
        "Use GET, HEAD, POST, PUT, PATCH, DELETE or OPTIONS.",
    ),
    Reason(
        "unknown-coding",
        501,
        "The transfer coding is not known",
        "The request's body uses a transfer coding other than chunked.",
        "Send the body with Content-Length, or with Transfer-Encoding: chunked alone.",
    ),
    Reason(
        "target-too-long",
        414,
        "The address is too long",
        "The request's path and query together are too long.",
        "Send a shorter query; large values go in a body.",
    ),
    Reason(
        "slow-request",
        408,
        "The request came too slowly",
        "The request's body did not arrive in time.",
        "Send the body without long pauses, at a steady rate.",
    ),
    Reason(
        "bad-path",
        400,
        "The path is not acceptable",
        "The path contains dot segments, invalid escapes, or characters that must be percent-encoded.",
        "Send the path in its shortest form, without . or .. segments, with other characters encoded as %XX.",
    ),
    Reason(
        "unknown-version",
        400,
        "The version is not known",
        "The call does not name a version of the API that is offered here.",
        "The caller names a version in the field that the API's reference says, or the API gets a default version.",
        developer="Name a version that the API's reference lists, in the field that it says.",
    ),
    Reason(
        "doubled-credential",
        400,
        "More than one credential was sent",
        "The call carried its credential more than once; send it once.",
        "Send the credential in one place only; the call carried it in two, such as a header and the query.",
    ),
    Reason(
        "no-credential",
        401,
        "A credential is needed",
        "This operation needs a credential and the call carried none.",
        "The caller sends its credential in the place that the operation asks for.",
        developer="Send your application's credential in the place that this operation asks for.",
    ),
    Reason(
        "unknown-credential",
        401,
        "The credential is not known",
        "The credential sent with this call is not known here.",
        "Check that the key is complete, was made for this environment, and has not been replaced.",
    ),
    Reason(
        "expired-credential",
        401,
        "The credential has expired",
        "The credential sent with this call has expired.",
        "Make a new credential for the application and use it instead.",
    ),
    Reason(
        "revoked-credential",
        401,
        "The credential was revoked",
        "The credential sent with this call was revoked.",
        "Make a new credential for the application and use it instead.",
    ),
    Reason(
        "bad-token",
        401,
        "The token is not valid",
        "The token sent with this call cannot be read, or its signature is not right.",
        "The caller asks its issuer for a new token; the trace of the call says what was wrong with this one.",
        developer="Get a new token from its issuer, and send it whole.",
    ),
    Reason(
        "early-token",
        401,
        "The token is not valid yet",
        "The token sent with this call is not valid yet.",
        "Compare the caller's and the issuer's clocks, or raise the clock skew of the policy.",
        developer="Compare your clock with the issuer's, and send the token again.",
    ),
    Reason(
        "wrong-issuer",
        401,
        "The token has another issuer",
        "The token sent with this call was not made by the issuer that is trusted here.",
        "Ask the issuer named in the API's reference for a token.",
        developer="Get the token from the issuer that this API trusts.",
    ),
    Reason(
        "wrong-audience",
        401,
        "The token is for someone else",
        "The token sent with this call was made for another audience.",
        "Ask the issuer for a token for this API's audience.",
    ),
    Reason(
        "closed",
        403,
        "This operation is closed",
        "This operation has no way to identify callers, so nobody may call it.",
        "Place a way to identify callers on the API, or open the operation to anyone, and roll out.",
        by="platform",
        developer="Ask the platform team when it will open; your call is not at fault.",
    ),
    Reason(
        "not-subscribed",
        403,
        "No subscription in force",
        "The application has no subscription in force for this API.",
        "Subscribe the application to a plan that contains this API, in the environment that was called.",
    ),
    Reason(
        "subscription-paused",
        403,
        "The subscription is paused",
        "The application's subscription for this API is paused.",
        "Staff can resume the subscription on the application's page under Subscribers.",
        by="platform",
        developer="Ask the platform team why it is paused.",
    ),
    Reason(
        "application-paused",
        403,
        "The application is paused",
        "The application, or its organization, is paused.",
        "Staff can resume it under Subscribers.",
        by="platform",
        developer="Ask the platform team why it is paused.",
    ),
    Reason(
        "unknown-caller",
        403,
        "The token's caller is not registered",
        "The token is valid, but it names a caller that is not registered here.",
        "Add an outside identity with the name in the token to the application's credentials.",
        by="platform",
        developer="Tell the platform team which name your tokens carry, so that they can add it to your application.",
    ),
    Reason(
        "credential-address",
        403,
        "The credential does not work from here",
        "The credential is restricted to other addresses than the one this call came from.",
        "Call from one of the credential's addresses, or change its restriction.",
    ),
    Reason(
        "credential-site",
        403,
        "The credential does not work for this site",
        "The credential is restricted to other sites than the one this call came from.",
        "Call from one of the credential's sites, or change its restriction.",
    ),
    Reason(
        "not-in-group",
        403,
        "Not in an allowed group",
        "The application belongs to none of the groups that may call this.",
        "Staff can put the application, or its organization, in one of the groups that the policy allows.",
        developer="Ask the platform team whether your application may join a group that is let in.",
    ),
    Reason(
        "group-denied",
        403,
        "In a denied group",
        "The application belongs to a group that may not call this.",
        "Staff can take the application, or its organization, out of the group that the policy denies.",
        developer="Ask the platform team whether your application may call this.",
    ),
    Reason(
        "scope-missing",
        403,
        "A scope is missing",
        "The token was not given the scope that this operation needs.",
        "Ask the issuer for a token with the scope that WWW-Authenticate names.",
    ),
    Reason(
        "claim-missing",
        403,
        "The token does not say what is needed",
        "The token lacks a claim that this operation needs.",
        "Compare the token's claims with the policy's requirements; the trace names the one that failed.",
        developer="Get a token that says what this operation asks for.",
    ),
    Reason(
        "address-refused",
        403,
        "Not from this address",
        "Calls from this address are not let in.",
        "Call from an address that is let in; staff see the policy's ranges on the call path.",
        developer="Call from an address that is let in, or ask the platform team to add yours.",
    ),
    Reason(
        "site-refused",
        403,
        "Not from this site",
        "Calls from pages of this site are not let in.",
        "Call from a site that is let in; staff see the policy's sites on the call path.",
        developer="Call from a site that is let in, or ask the platform team to add yours.",
    ),
    Reason(
        "browser-closed",
        403,
        "Closed to this page",
        "No browser access rule lets this page, method or header in.",
        "The browser checker on the API's page names the line that decides.",
        by="platform",
        developer="Ask the API's owner to let in your page's origin, method and header fields.",
    ),
    Reason(
        "unknown-path",
        404,
        "Nothing is published here",
        "No API or operation is published at this path.",
        "Compare the path with the API's base path and operations in the reference.",
    ),
    Reason(
        "wrong-method",
        405,
        "The method is not offered here",
        "This path exists, but not for this method; the Allow field lists those it takes.",
        "Use one of the methods in the Allow field.",
    ),
    Reason(
        "brown-out",
        410,
        "This version is switched off for the moment, on purpose",
        "This version of the API will be retired; before that it is switched off at times that were announced.",
        "Nothing is broken: this was planned. Take the brown-out off the version's description to call it off.",
        by="platform",
        developer="Move to the version that takes its place before this one ends; Retry-After says when it is back.",
    ),
    Reason(
        "retired",
        410,
        "This version is retired",
        "This version of the API is no longer offered.",
        "Move to a newer version of the API; the portal lists them.",
    ),
    Reason(
        "too-large",
        413,
        "The body is too large",
        "The request's body is larger than this operation takes.",
        "Send a smaller body, or ask the API's owner to raise the body size limit.",
    ),
    Reason(
        "over-rate",
        429,
        "Too many calls",
        "A rate limit is used up; Retry-After says when to call again.",
        "Wait for the time in Retry-After, and spread the calls out; the RateLimit field says what is left.",
    ),
    Reason(
        "over-tokens",
        429,
        "Too many tokens",
        "A limit of tokens is used up; Retry-After says when to call again.",
        "Wait for the time in Retry-After, ask for shorter answers, or change to a plan that allows more tokens.",
    ),
    Reason(
        "too-many-tokens",
        400,
        "The call asks for too many tokens",
        "The call alone asks for more tokens than a limit lets through.",
        "Send a shorter prompt, or ask for a shorter answer: by max_tokens, or what takes its place.",
    ),
    Reason(
        "unknown-model",
        404,
        "There is no such model",
        "No model is offered by the name that the call asks for.",
        "Ask for a model of the API's list, or offer it: on the backend's page.",
        developer="Ask for a model of the API's list.",
    ),
    Reason(
        "prompt-refused",
        400,
        "The prompt is refused",
        "The prompt, or a parameter beside it, is not what this API lets through.",
        "The call's story names the rule; change the prompt, or the policy.",
        developer="The detail says what to change: a parameter's bound, the prompt's length, or a rule by its number.",
    ),
    Reason(
        "model-not-open",
        403,
        "The model is not open to this plan",
        "The model that the call asks for is not open to the plan of the call's application.",
        "Ask for another model, or change to a plan that it is open to; the policy says which.",
        developer="Ask for another model of the API's list, or change to a plan that it is open to.",
    ),
    Reason(
        "capacity-kept",
        503,
        "No capacity is left for this plan",
        "What is left of the model's capacity is kept for other plans; Retry-After says when there is more.",
        "Add a target that takes what is over, or keep less of the capacity for other plans.",
        by="platform",
        developer="Call again after the time in Retry-After, or use a plan that capacity is kept for.",
    ),
    Reason(
        "over-plan",
        429,
        "The plan's limit is used up",
        "A limit of the application's plan is used up; Retry-After says when to call again.",
        "Wait for the time in Retry-After, or change to a plan that allows more.",
    ),
    Reason(
        "over-quota",
        429,
        "The quota is used up",
        "The calls of this day, week or month are used up; Retry-After says when the next begins.",
        "Wait for the next period, change to a plan with a larger quota, or ask for more calls.",
    ),
    Reason(
        "head-too-large",
        431,
        "The request's head is too large",
        "The address and header fields together are too large.",
        "Send fewer or shorter header fields.",
    ),
    Reason(
        "backend-away",
        502,
        "The backend cannot be reached",
        "The service behind this API did not take the connection.",
        "Test the connection on the backend's page; the caller is not at fault.",
        by="backend",
        developer="Call again later; your call is not at fault.",
    ),
    Reason(
        "not-kept",
        504,
        "No answer is kept",
        "The call asked for a kept answer or none (Cache-Control: only-if-cached), and none is kept that will do.",
        "Leave out only-if-cached, so that the backend is asked.",
        by="platform",
        developer="Leave out only-if-cached, so that the backend is asked.",
    ),
    Reason(
        "nothing-documented",
        501,
        "There is no answer to give",
        "This operation is answered from its description, which holds no answer for it.",
        "Document an answer of the operation, or type one on its page of answers.",
        by="platform",
        developer="The API's owner has to describe an answer; your call is not at fault.",
    ),
    Reason(
        "bad-body",
        400,
        "The request's body cannot be read",
        "The request's body is not what its Content-Type says, or cannot be brought to what the backend takes.",
        "The call's story says what is wrong with the body; the policy says whether such bodies pass as they are.",
        developer="Send a body that is well-formed for its Content-Type; the detail says what is wrong with this one.",
    ),
    Reason(
        "written-rule",
        403,
        "A rule of this API refuses the call",
        "A rule that the API's owner wrote does not let this call pass.",
        "Look at the written kind that the call's story names: its steps say when it refuses, and with which words.",
        developer="The detail says what the rule asks for; ask the API's owner where it does not.",
    ),
    Reason(
        "misfit-request",
        400,
        "The request does not fit the description",
        "The request is not what this operation's description says.",
        "The answer's errors, and the call's story, name each parameter and each place in the body that does not fit.",
        developer="Mend what the answer's errors list, each by its place; the reference describes the operation.",
    ),
    Reason(
        "misfit-answer",
        502,
        "The answer does not fit the description",
        "The backend's answer is not what this operation's description says, and was held back.",
        "The call's story names each place that does not fit; mend the backend, or the description.",
        by="backend",
        developer="Call again later; your call is not at fault.",
    ),
    Reason(
        "answer-unreadable",
        502,
        "The answer cannot be read",
        "The backend's answer is not what its Content-Type says, or is too large to be changed.",
        "The call's story says what is wrong with the answer; the policy says whether such answers pass as they are.",
        by="backend",
        developer="Call again later; your call is not at fault.",
    ),
    Reason(
        "change-failed",
        500,
        "The call could not be changed as it has to be",
        "A rule of this operation changes what passes, and could not do so for this call.",
        "Look at the policy that the call's story names: its trace says what went wrong.",
        by="platform",
        developer="Call again later; your call is not at fault.",
    ),
    Reason(
        "node-stopped",
        503,
        "This node of the gateway takes no calls",
        "The node was taken out of service for a while; other nodes may carry the call.",
        "Resume the node under Nodes, or have the load balancer ask it whether it is ready (/.tamarack/ready).",
        by="platform",
        developer="Call again; your call is not at fault.",
    ),
    Reason(
        "answer-failed",
        500,
        "The answer could not be made",
        "The text of the answer could not be filled in for this call.",
        "Look at the fixed answer's text: its trace says what went wrong.",
        by="platform",
        developer="Call again later; your call is not at fault.",
    ),
    Reason(
        "breaker-open",
        503,
        "The backend is spared for a while",
        "The service behind this API failed too often, or asked for a pause; it is not asked for a short time.",
        "Look at the backend's page: which target's breaker opened, and why; the caller is not at fault.",
        by="backend",
        developer="Call again after the seconds in Retry-After; your call is not at fault.",
    ),
    Reason(
        "backend-broken",
        502,
        "The backend's answer cannot be used",
        "The service behind this API closed the connection or sent an answer that is not HTTP.",
        "Look at the backend's own log at this time; the caller is not at fault.",
        by="backend",
        developer="Call again later; your call is not at fault.",
    ),
    Reason(
        "backend-busy",
        503,
        "The backend has no room for this call",
        "Too many of this caller's calls to the service are under way; Retry-After says when to call again.",
        "Make fewer calls at once; connections to a target are shared fairly among callers.",
        by="backend",
    ),
    Reason(
        "internal-error",
        500,
        "The gateway failed",
        "Something went wrong in the gateway itself; look the call up by its id.",
        "Report the call id; the node's log has the error with it.",
        by="platform",
        developer="Report the call id to the platform team.",
    ),
    Reason(
        "not-ready",
        503,
        "The gateway has nothing to serve yet",
        "No configuration has been rolled out to this environment.",
        "Roll out to this environment from the console.",
        by="platform",
        developer="Call again later; your call is not at fault.",
    ),
    Reason(
        "bad-graphql",
        400,
        "The document cannot be read",
        "The request holds no GraphQL document that can be run.",
        "Send a JSON object with the document as its query, and operationName where it has several operations.",
    ),
    Reason(
        "no-web-socket",
        400,
        "There are no WebSockets here",
        "No WebSocket is opened here. Send a subscription by POST, with Accept: text/event-stream.",
        "Subscriptions are answered by server-sent events (GraphQL over SSE), which most client libraries know.",
    ),
    Reason(
        "unknown-document",
        400,
        "The document is not known",
        "Only documents that are registered may be run here, and this is none of them.",
        "Register the document in the API's policy, or send one that is registered.",
        developer="Send one of the documents that the API's page lists, by its id or as it stands there.",
    ),
    Reason(
        "unknown-graphql-field",
        400,
        "The schema has no such field",
        "The document asks for what the schema does not have.",
        "Compare the document with the schema; a field may have been renamed or taken away.",
    ),
    Reason(
        "over-graphql-limit",
        400,
        "The document asks for too much",
        "The document is larger, deeper or costlier than is let through here.",
        "Ask for less at once: fewer levels, shorter lists, fewer fields. The answer says which limit it was.",
    ),
    Reason(
        "closed-field",
        403,
        "A field is not open to this caller",
        "The document asks for a field that is not open to this caller.",
        "Leave the named fields out, or give the caller a plan, a group or a scope that they are open to.",
        developer="Leave the named fields out, or subscribe to a plan that they are open to.",
    ),
    Reason(
        "introspection-closed",
        403,
        "The schema is not told here",
        "Callers may not ask for the schema here.",
        "Take the schema from the portal, or open introspection in the policy of the API's limits.",
        developer="Take the schema from the API's page in the portal.",
    ),
    Reason(
        "bad-parameter",
        400,
        "A parameter is missing or not of its kind",
        "A parameter of the call is missing, or is not what it has to be.",
        "Compare the call with the operation's description; the answer names the parameter.",
    ),
    Reason(
        "nothing-found",
        404,
        "There is nothing by these parameters",
        "The graph has nothing by the parameters of this call.",
        "Look at the parameters; the same document, sent to the graph itself, gives null.",
        developer="Look at the parameters of your call.",
    ),
    Reason(
        "graph-failed",
        502,
        "The graph could not answer",
        "The graph answered with errors and without what was asked for.",
        "Send the operation's document to the graph itself, with the same variables, and read its errors.",
        by="backend",
        developer="Call again later; the answer repeats what the graph said.",
    ),
    Reason(
        "over-capacity",
        503,
        "The platform is at its limit",
        "The gateway is carrying as many calls as it may; Retry-After says when to call again.",
        "Raise the platform's cap under Limits, or find out who calls so much; this caller may not be at fault.",
        by="platform",
        developer="Call again after the time in Retry-After; your own calls may not be at fault.",
    ),
    Reason(
        "not-metered",
        503,
        "Calls cannot be counted now",
        "A limit of this operation cannot be counted at the moment; Retry-After says when to call again.",
        "Check that the shared counters are running; the policy refuses calls while they are away.",
        by="platform",
        developer="Call again after the time in Retry-After; your call is not at fault.",
    ),
    Reason(
        "secret-missing",
        503,
        "The gateway cannot sign in to the backend",
        "A secret that this API's backend needs is not set.",
        "Set the secret that the backend's page names, under Settings; the caller is not at fault.",
        by="platform",
        developer="Tell the platform team; your call is not at fault.",
    ),
    Reason(
        "token-unseen",
        503,
        "The token cannot be looked up",
        "The gateway cannot look this token up at the moment. Call again shortly.",
        "The node cannot ask the database what an opaque token stands for; tokens that it has seen go on. See that the"
        " database answers.",
        by="platform",
        developer="Call again shortly; your call is not at fault.",
    ),
    Reason(
        "backend-slow",
        504,
        "The backend took too long",
        "The service behind this API did not answer in time.",
        "Look at the backend's load, or raise its read timeout on the backend's page.",
        by="backend",
        developer="Call again later, or ask for less at once.",
    ),
)

REASONS: dict[str, Reason] = {reason.code: reason for reason in sorted(_TABLE, key=lambda reason: reason.status)}


@dataclass(frozen=True, slots=True)
class Refusal:
    """A refusal on one call: the reason, and the fields the answer carries because of it.

    `policy` names the policy that decided, for the trace; `note` is for staff and never sent.
    """

    reason: Reason
    headers: tuple[tuple[bytes, bytes], ...] = ()
    policy: str = ""
    note: str = ""
    detail: str = ""
    """What the caller is told in place of the reason's own words."""
    status: int = 0
    """In place of the reason's own, where a policy chooses it."""
    places: tuple[tuple[int, int], ...] = ()
    """Lines and columns of a document that are at fault, both from 1."""
    members: bytes = b""
    """More members of the problem, as JSON that is put behind the others: `, "errors": […]`."""
    yields: bool = False
    """Set by a way to identify where the credential may be another way's: that one decides, if it knows it."""
    need: FetchKeys | FindToken | None = None
    """What would have to be looked up to decide otherwise."""
