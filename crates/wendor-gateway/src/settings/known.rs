//! Every setting with its default, in the order in which they are told. `docs/operating.md` is held to it.

/// One setting as it is told about.
#[derive(Clone, Copy, Debug)]
pub struct Known {
    /// Its name in the file; `--name` as a flag, `WENDOR_NAME` in the environment.
    pub name: &'static str,
    /// Its default; empty when it has none.
    pub default: &'static str,
    /// What it is, in a line.
    pub about: &'static str,
}

/// Every setting, in the order in which they are told.
pub const KNOWN: [Known; 44] = [
    Known {
        name: "listen",
        default: "127.0.0.1:7420",
        about: "address and port that the service listens on, for apps; for everybody while `manage_listen` is not set",
    },
    Known {
        name: "manage_listen",
        default: "",
        about: "address and port for the console, the management API and metrics; then `listen` is for apps alone",
    },
    Known {
        name: "certificate",
        default: "",
        about: "PEM file of the certificate of `listen` and those above it; read again when it changes",
    },
    Known {
        name: "certificate_key",
        default: "",
        about: "PEM file of the certificate's key; read again when it changes",
    },
    Known {
        name: "manage_certificate",
        default: "",
        about: "PEM file of the certificate of `manage_listen`; that of `listen` when absent",
    },
    Known { name: "manage_certificate_key", default: "", about: "PEM file of its key" },
    Known {
        name: "public_url",
        default: "",
        about: "address under which apps reach the service from outside, such as https://models.example",
    },
    Known {
        name: "manage_url",
        default: "",
        about: "the same of console and management API; `public_url` when `manage_listen` is not set",
    },
    Known {
        name: "trusted_proxies",
        default: "",
        about: "ranges of proxies in front of the service, whose word counts on where a call comes from and whether that way is encrypted",
    },
    Known { name: "database_url", default: "", about: "PostgreSQL, as postgres://user@host:port/database" },
    Known {
        name: "migrate_url",
        default: "",
        about: "PostgreSQL as a role that owns the tables: changes the schema at the start, and lets the role of `database_url` serve",
    },
    Known {
        name: "database_plain",
        default: "refused",
        about: "whether the way to a database on another machine may be unencrypted: `allowed` or `refused`",
    },
    Known {
        name: "key_in_query",
        default: "allowed",
        about: "whether apps may send their key as `?key=`, which stands in logs of proxies: `allowed` or `refused`",
    },
    Known { name: "spool", default: "wendor-spool", about: "folder of the spool; one service each" },
    Known {
        name: "spool_sync",
        default: "always",
        about: "when an entry is durable: `always` before its answer ends, `batch:TIME` so long after, or `never`",
    },
    Known { name: "spool_segment", default: "16MiB", about: "size of the spool's files; one is kept free in advance" },
    Known {
        name: "spool_keep_free",
        default: "64MiB",
        about: "requests are refused while less than this is free on the spool's disk",
    },
    Known {
        name: "spool_adopt_after",
        default: "10m",
        about: "an instance beside ours that is gone for so long has its spool drained by us",
    },
    Known { name: "keep_ledger", default: "forever", about: "how long lines of the ledger are kept, by whole months" },
    Known { name: "keep_details", default: "90d", about: "how long plans and attempts are kept, by whole months" },
    Known {
        name: "keep_rollups",
        default: "forever",
        about: "how long hourly sums, and the sums of days made of them, are kept, by whole months",
    },
    Known { name: "workers", default: "2", about: "threads that serve requests" },
    Known {
        name: "connections",
        default: "20000",
        about: "connections that may be open at once; more wait until one is closed",
    },
    Known { name: "head_time", default: "10s", about: "how long the head of a request may take to come" },
    Known { name: "take_time", default: "60s", about: "how long an app may leave what has come of its answer" },
    Known {
        name: "head_after",
        default: "10s",
        about: "after how long a streamed answer that nobody gives yet begins with its head and heartbeats; errors come in the stream then",
    },
    Known { name: "body_limit", default: "20MiB", about: "largest request body" },
    Known { name: "bodies_limit", default: "512MiB", about: "largest sum of the bodies of all requests under way" },
    Known {
        name: "body_rate",
        default: "1KiB",
        about: "bytes a second that a body has to come with, looked at every 5 s; 0 waits for any",
    },
    Known {
        name: "stop_notice",
        default: "3s",
        about: "how long /readyz says after SIGTERM that the service stops, before it takes no new connections",
    },
    Known { name: "grace", default: "30s", about: "how long open streams may go on after that" },
    Known {
        name: "serve_stale",
        default: "24h",
        about: "how long known keys are served while the database cannot be asked for changes",
    },
    Known {
        name: "probe_every",
        default: "10s",
        about: "how often connections to upstreams are tried that rest or that nobody asks",
    },
    Known { name: "look_every", default: "30s", about: "how often webhooks are sent what needs attention" },
    Known {
        name: "secret",
        default: "",
        about: "what kept credentials of upstreams are encrypted with, 32 characters or more",
    },
    Known {
        name: "secret_before",
        default: "",
        about: "the secret before, until `wendor secret rotate` has moved all kept credentials to the one in force",
    },
    Known {
        name: "credentials",
        default: "",
        about: "folder of files that credentials of upstreams may be in; none may when absent",
    },
    Known {
        name: "token_life",
        default: "90d",
        about: "how long tokens for programs may last, and do unless they say less",
    },
    Known {
        name: "authorities",
        default: "",
        about: "PEM file of further authorities whose certificates upstreams may have",
    },
    Known {
        name: "hosts",
        default: "",
        about: "file of names and addresses that goes before the system's resolver, as /etc/hosts",
    },
    Known {
        name: "reach",
        default: "",
        about: "ranges that upstreams may be at although they are refused otherwise: link-local ones and those of metadata services",
    },
    Known { name: "check_tokens", default: "200000", about: "tokens that checks of upstreams may take a day" },
    Known { name: "inventory_every", default: "5m", about: "how often the models of upstreams are listed" },
    Known { name: "log", default: "info", about: "what is logged: error, warn, info, debug" },
];
