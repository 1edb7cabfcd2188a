// An OpenID client that knows nothing of Tamarack, as one module: what the journeys sign users in with.
export * from "openid-client";
