//! One server with one mistake, and the upstream that is told of it.

use std::net::{SocketAddr, TcpListener, TcpStream};

use rustls::ServerConfig;
use wendor_core::diagnosis::finding::FindingKind;
use wendor_standins::manners::Manners;
use wendor_standins::server::{Profile, StandIn};
use wendor_wire::dialect::Dialect;

use super::certificates::Authority;

/// The model that the servers serve.
pub const MODEL: &str = "dunlin-7b";

/// A model that another upstream has too.
pub const SHARED: &str = "knot-13b";

/// The key that servers demand, and where the service finds it and its mistaken forms.
pub const KEY: &str = "s3cret-of-the-pier";
pub const VARIABLES: [(&str, &str); 4] = [
    ("WENDOR_UPSTREAM_PIER", KEY),
    ("WENDOR_UPSTREAM_PIER_WITH_SCHEME", "Bearer s3cret-of-the-pier"),
    ("WENDOR_UPSTREAM_PIER_IN_TWO_LINES", "s3cret-of-\nthe-pier"),
    ("WENDOR_UPSTREAM_PIER_EXAMPLE", "<your key here>"),
];

/// Dialects that a mistake is tried in, where any two would do.
pub const TWO: &[Dialect] = &[Dialect::ChatCompletions, Dialect::Messages];
/// The same with a local server among them.
pub const LOCAL: &[Dialect] = &[Dialect::LocalChat, Dialect::GenerateContent];
/// All of them.
pub const EVERY: &[Dialect] = &Dialect::ALL;

/// A server that is set up wrongly, and what must be said of it.
pub struct Mistake {
    /// What it is, as practitioners say it.
    pub name: &'static str,
    /// What the check is to call it.
    pub finding: FindingKind,
    /// In which dialects it is tried.
    pub dialects: &'static [Dialect],
    /// How it is made.
    pub make: fn(&Plans<'_>, Setup) -> Setup,
    /// What mends it, as data: the setting, and the value that it needs.
    pub mend: Option<(&'static str, Option<&'static str>)>,
    /// Whether it shows only to someone who asks questions of a hosted model or proves abilities.
    pub prove: bool,
}

/// What servers with mistakes are made from.
pub struct Plans<'a> {
    /// The authority that the service believes.
    pub authority: &'a Authority,
    /// One that it does not know.
    pub unknown: &'a Authority,
    /// Another server, of a name and a dialect that is not the usual one.
    pub number: u16,
}

/// A server and the upstream for it.
pub struct Setup {
    /// The server.
    pub profile: Profile,
    /// Its encryption.
    pub tls: Option<ServerConfig>,
    /// The address, with `HERE` for its host and port and `PORT` for its port.
    pub address: String,
    /// The dialect that is stated.
    pub stated: Dialect,
    /// `own` or `hosted`.
    pub hosting: &'static str,
    /// Further lines of the upstream's table.
    pub lines: String,
    /// What is offered, as lines of the table.
    pub offer: (String, String),
    /// Whether anything listens.
    pub listens: bool,
    /// Whether it takes no more connections.
    pub is_full: bool,
}

impl Setup {
    /// A server without a mistake.
    pub fn well(dialect: Dialect) -> Self {
        Self {
            profile: Profile { dialect, answer_tokens: (24, 24), ..Profile::quick("pier", &[MODEL]) },
            tls: None,
            address: "http://HERE".to_owned(),
            stated: dialect,
            hosting: "own",
            lines: String::new(),
            offer: (MODEL.to_owned(), String::new()),
            listens: true,
            is_full: false,
        }
    }

    /// With that address.
    pub fn at(mut self, address: &str) -> Self {
        self.address = address.to_owned();
        self
    }

    /// With these manners.
    pub fn with(mut self, change: impl FnOnce(&mut Manners)) -> Self {
        change(&mut self.profile.manners);
        self
    }

    /// Speaks TLS with this configuration, under this host name.
    pub fn encrypted(mut self, tls: ServerConfig, host: &str) -> Self {
        self.tls = Some(tls);
        self.address = format!("https://{host}:PORT");
        self
    }

    /// A server that demands the key, and an upstream that finds it in `variable`.
    pub fn keyed(mut self, variable: &str) -> Self {
        self.profile.credential = Some(KEY.to_owned());
        self.lines.push_str(&format!("credential = {{ env = \"{variable}\" }}\n"));
        self
    }

    /// With a further line of the upstream's table.
    pub fn line(mut self, line: &str) -> Self {
        self.lines.push_str(line);
        self.lines.push('\n');
        self
    }

    /// Offering that model, with these lines.
    pub fn offering(mut self, model: &str, lines: &str) -> Self {
        self.offer = (model.to_owned(), lines.to_owned());
        self
    }
}

/// What keeps a setup alive.
#[derive(Default)]
pub struct Alive {
    /// Kept running until the case is over; nothing where nothing listens.
    pub server: Option<StandIn>,
    _full: Vec<TcpStream>,
    _listener: Option<TcpListener>,
}

/// Starts a setup. Gives the upstream's table.
pub async fn start(name: &str, setup: Setup) -> (String, Alive) {
    let mut alive = Alive::default();
    let address: SocketAddr = if setup.is_full {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let socket = socket2::SockRef::from(&listener);
        socket.listen(1).unwrap();
        let address = listener.local_addr().unwrap();
        // Fills the queue, after which the system swallows what comes.
        for _ in 0..64 {
            match TcpStream::connect_timeout(&address, std::time::Duration::from_millis(200)) {
                Ok(stream) => alive._full.push(stream),
                Err(_) => break,
            }
        }
        alive._listener = Some(listener);
        address
    } else if setup.listens {
        let server = match setup.tls {
            Some(tls) => StandIn::start_encrypted(setup.profile, tls).await.unwrap(),
            None => StandIn::start(setup.profile).await.unwrap(),
        };
        let address = server.address();
        alive.server = Some(server);
        address
    } else {
        // A port that was free a moment ago and that nobody else asks for.
        TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap()
    };
    let url = setup.address.replace("HERE", &address.to_string()).replace("PORT", &address.port().to_string());
    let (model, offer) = setup.offer;
    let table = format!(
        "[upstreams.{name}]\naddress = \"{url}\"\ndialect = \"{}\"\nhosting = \"{}\"\n{}\n[upstreams.{name}.offers.\"{model}\"]\n{offer}\n",
        setup.stated, setup.hosting, setup.lines
    );
    (table, alive)
}
