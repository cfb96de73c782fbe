//! Codes by which an app is told why it gets no answer, or no whole one: each with what it means and what to do. Answers, counts, the
//! pages that explain them and the client's exits are made from these.

use crate::worded;

macro_rules! codes {
    ($($code:ident = $word:literal: $meaning:literal, $remedy:literal;)+) => {
        worded! {
            /// Why an app gets no answer.
            #[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
            pub enum RefusalCode { $(#[doc = $meaning] $code = $word),+ }
        }

        impl RefusalCode {
            /// A sentence, as the error page shows it.
            #[must_use]
            pub const fn meaning(self) -> &'static str {
                match self { $(Self::$code => $meaning),+ }
            }

            /// What to do.
            #[must_use]
            pub const fn remedy(self) -> &'static str {
                match self { $(Self::$code => $remedy),+ }
            }
        }
    };
}

codes! {
    ForeignPage = "foreign_page": "A web page asks from a browser, of a site that the route does not list.",
        "Ask from a program, or have the site listed in the route's `origins`. A key in a page can be read by everyone who opens it.";
    NoKey = "no_key": "The request came without a key.",
        "Send the key as `Authorization: Bearer wdr-..`.";
    TwoKeys = "two_keys": "Two different keys came with the request.",
        "Send one; look for a default header of the client library.";
    KeyInQuery = "key_in_query": "The key came in the query, which this service does not take, since addresses stand in logs.",
        "Send the key as `Authorization: Bearer wdr-..`.";
    NotAKey = "not_a_key": "What came as a key has another form than keys of this service.",
        "Copy the whole key, from `wdr-` on.";
    MistypedKey = "mistyped_key": "The key is mistyped or cut: its last part does not fit the rest.",
        "Copy it again in full.";
    UnknownKey = "unknown_key": "Nobody issued this key here.",
        "Check that it belongs to this installation.";
    RevokedKey = "revoked_key": "The key was revoked.",
        "Ask your team's lead for another.";
    ExpiredKey = "expired_key": "The key has expired.",
        "Ask your team's lead for another.";
    TeamGone = "team_gone": "The team that the key belongs to is not in the catalogue any more.",
        "Ask whoever runs this service.";
    BadHeader = "bad_header": "One of Wendor's own headers cannot be read: `wendor-run`, `wendor-step`, `wendor-labels`, `wendor-lane`, `wendor-deadlines`, `wendor-variables`, `wendor-preset`.",
        "The message says which, and how it has to look.";
    BodyTooLarge = "body_too_large": "The body is larger than this service takes.",
        "Send less, for instance smaller images, or ask for a higher limit.";
    BodyBroken = "body_broken": "The body broke off before its end.",
        "Send the request again; if it goes on, look at proxies in between.";
    BodyTooSlow = "body_too_slow": "The body was not complete in time, or came too slowly.",
        "Send the request again.";
    StreamsFull = "streams_full": "As many requests of your team, or of this key, are under way as may be at once.",
        "Come back when one has ended; the message says the limit.";
    TooManyConnections = "too_many_connections": "Your team has so many connections that others would find none.",
        "Use those that are open, or close some.";
    TooManyBodies = "too_many_bodies": "Too many large requests are under way at the moment.",
        "Try again in a second.";
    InvalidJson = "invalid_json": "The body is not one JSON object.",
        "The message names line and column.";
    NestedTooDeep = "nested_too_deep": "The body nests too many lists and objects.",
        "Flatten it; schemas of tools need a few dozen levels.";
    MissingMember = "missing_member": "A member that must be there is missing.",
        "The message names it.";
    RepeatedMember = "repeated_member": "A member stands in the body twice, so that two readers could read two different ones.",
        "Send it once.";
    InvalidType = "invalid_type": "A member has another type than the dialect says.",
        "The message names it and what it must be.";
    InvalidValue = "invalid_value": "A member has a value that the dialect does not have.",
        "The message names it and what it must be.";
    AddressNotAllowed = "address_not_allowed": "The request names something by address that the model's server may not be told to fetch.",
        "Send its bytes, or an https: address of a public host; what an offer takes is said in the catalogue (`addresses`).";
    ImageNotFetched = "image_not_fetched": "An image that is named by address could not be fetched.",
        "The message says which and why; send its bytes, or mend the address.";
    ImageKind = "image_kind": "An image is of a kind that the offer does not take, or its bytes are of another kind than is said.",
        "Convert the image, or say what it is.";
    SecretInBody = "secret_in_body": "The body holds a live key or token of this installation, or the credential of a model's server. Nothing was sent.",
        "Remove it from the request. If somebody else may have seen it, have it revoked.";
    RouteNotFound = "route_not_found": "No route of that name may be used with this key.",
        "Put a name into `model` that the message or `GET /v1/models` lists, or ask for access.";
    RouteRetired = "route_retired": "The route has retired, or is not served under this name any more.",
        "Put the name that the message says into `model`.";
    PathNotFound = "path_not_found": "There is nothing at this path.",
        "The message names the nearest path that there is. The base address ends before `/v1`, or with it: both do.";
    WrongMethod = "wrong_method": "The path is there, but is asked with another method.",
        "The message names the right one.";
    UnsupportedParameter = "unsupported_parameter": "No offer of the route can take a field of the request.",
        "The message names field and offer. Leave the field out, or use a route whose offers can.";
    AbilityMissing = "ability_missing": "No offer of the route can do what the request needs, such as tools or images.",
        "Use another route; the message says which ability is missing where.";
    EndpointNotOffered = "endpoint_not_offered": "This endpoint goes only to offers that speak the app's dialect, and the route has none.",
        "Use a route that has, or another endpoint.";
    ContextLengthExceeded = "context_length_exceeded": "Prompt and answer do not fit the context window of any offer of the route.",
        "Send fewer or shorter turns, or ask for fewer tokens.";
    OverQuota = "over_quota": "A quota of the team has no room.",
        "The message says which, how much is used, and when there is room again.";
    NoSpool = "no_spool": "The service cannot record the request at the moment, so it does not serve it.",
        "Try again in a moment; whoever runs the service looks at the disk of its spool.";
    AllOffersFailed = "all_offers_failed": "No offer of the route answered.",
        "The message says what each failed of. Trying again at once seldom helps; whoever is on call sees the same under Upstreams.";
    InternalFault = "internal_fault": "An internal error of Wendor.",
        "Nothing is wrong with the key. Whoever runs the service finds the place of the fault in its log, by the time of the request, and reports it.";
    AnswerNotTaken = "answer_not_taken": "The app did not read the answer in time.",
        "Read the stream as it comes: what an app does not read is given up after the service's `take_time`, or with the time of the whole request.";
    Stopped = "stopped": "The service stops, and the time for what is under way is over.",
        "Send the request again in a moment: another instance, or the one that replaces it, answers.";
    OutOfDate = "out_of_date": "The service could not ask its database for changes for too long.",
        "Send the request again later. Whoever runs the service brings the database back; `/readyz` tells how old its state is.";
    AnswerBrokeOff = "answer_broke_off": "The answer had begun and broke off.",
        "What came before is incomplete. Send the request again.";
}
