//! Checks of upstreams: looking at one layer after the other, as far as the first that bars the way, and handing what is seen to
//! [`wendor_core::diagnosis`], which says what it means.
//!
//! 1. what can be seen without a request, 2. the name, 3. a connection to each address ([`dial`]), 4. encryption ([`tls`], [`words`]),
//! 5. HTTP and 6. path and dialect, both without the credential first, 7. the credential, which goes to a verified peer alone and never
//!    along a redirection ([`talk`] follows none), 8. the listing ([`look`]), and, if that is asked for, 9. a streamed and 10. a whole
//!    answer and 11. abilities ([`calls`]), which are asked as requests are ([`question`]) and paid for ([`spending`]).
//!
//! Looks wait while an answer runs there that they could end ([`quiet`]). Where the way is barred, each change that would open it is tried
//! ([`trial`]). A preset is tried on a question in the same way ([`rehearsal`]). Dropped midway a check closes its connections and is over; what it had spent by then stands in the ledger.

mod call;
pub mod calls;
pub mod checked;
pub mod dial;
pub mod look;
mod question;
pub mod quiet;
pub mod rehearsal;
pub mod spending;
pub mod talk;
pub mod tls;
mod trial;
mod words;

use std::net::SocketAddr;
use std::sync::Arc;
use std::time::{Duration, Instant};

use calls::Extent;
use chrono::TimeDelta;
use quiet::Quiet;
use talk::{Credentials, Peer};
use tokio::time::timeout_at;
use wendor_core::catalog::upstream::{Address, Auth, Upstream};
use wendor_core::diagnosis::encryption;
use wendor_core::diagnosis::finding::{Finding, FindingKind};
use wendor_core::diagnosis::first_words::{self, Known};
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::diagnosis::listing::{self, Elsewhere};
use wendor_core::diagnosis::reach;
use wendor_core::diagnosis::refusal::{self, Asked};
use wendor_core::diagnosis::remedy::{Change, Remedy};
use wendor_core::diagnosis::report::{Judged, Step, StepReport};
use wendor_core::diagnosis::seen::{CredentialSeen, Heard, Tls};
use wendor_core::diagnosis::settings;
use wendor_core::diagnosis::speech::{self, Found, Lists, Looks, Wanted};
use wendor_core::name::Name;
use wendor_core::secret::Secret;
use wendor_wire::dialect::Dialect;

use crate::app::App;
use crate::hosts::Led;
use crate::identity::{Identity, Showing};

pub use checked::{Checked, Progress, Watcher};

/// A server that answered so short a time ago and says nothing now is busy, most likely.
const LATELY: TimeDelta = TimeDelta::minutes(10);

/// What is checked.
#[derive(Clone, Debug)]
pub struct Subject {
    /// Its name; what is not in the catalogue yet may have none.
    pub name: Option<Name>,
    /// Its settings.
    pub upstream: Upstream,
    /// The dialect, if it is stated; otherwise it is found out.
    pub stated: Option<Dialect>,
    /// Its credential, if there is one.
    pub credential: Option<Secret>,
    /// The same as far as a check looks at it.
    pub seen: CredentialSeen,
    /// What it is shown that wants to know who asks, or why that is not there.
    pub identity: Result<Option<Identity>, String>,
    /// Where looks wait; what is not in the catalogue yet has no answers that they could end.
    pub quiet: Option<Quiet>,
    /// What was pasted around the address.
    pub pasted: Around,
    /// Weights that other upstreams have under the same names.
    pub elsewhere: Vec<Elsewhere>,
}

/// What was pasted around an address, as far as it may be told.
#[derive(Clone, Debug, Default)]
pub struct Around {
    /// Whether a key was.
    pub holds_key: bool,
    /// What the settings were taken out of.
    pub taken_from: Vec<String>,
}

/// The time that a check has.
#[derive(Clone, Copy, Debug)]
pub struct Time {
    /// How much it was given.
    pub given: Duration,
    /// When it is over.
    pub until: tokio::time::Instant,
}

/// What is left of its time to say how it went.
const TO_TELL: Duration = Duration::from_millis(100);

impl Time {
    /// So much, from now on.
    #[must_use]
    pub fn of(given: Duration) -> Self {
        Self { given, until: tokio::time::Instant::now() + given }
    }

    /// How long one look may take: a part of it, so that one that hangs leaves time for the others.
    #[must_use]
    pub fn of_look(self) -> Duration {
        (self.given * 2 / 5).min(self.until.saturating_duration_since(tokio::time::Instant::now()))
    }

    /// Whether it is over.
    #[must_use]
    pub fn is_over(self) -> bool {
        tokio::time::Instant::now() + Duration::from_millis(5) >= self.until
    }
}

fn since(start: Instant) -> u64 {
    u64::try_from(start.elapsed().as_micros()).unwrap_or(u64::MAX)
}

/// Checks `subject` as far as `extent` says. Who watches is told of each step as it begins and as it ends.
pub async fn run(app: &App, subject: &Subject, extent: &Extent<'_>, watcher: Option<Watcher>) -> Checked {
    let mut checked = Checked::watched_by(watcher);
    // Whether it went to the end or stopped on the way, every step is told of.
    let stopped = timeout_at(extent.time.until + TO_TELL, steps(app, subject, extent, &mut checked)).await;
    if stopped.is_err() {
        checked.time_is_up(extent.time);
    }
    trial::order_remedies(app, subject, extent, &mut checked).await;
    checked.close();
    checked
}

/// The steps in order; `None` where the way is barred.
async fn steps(app: &App, subject: &Subject, extent: &Extent<'_>, checked: &mut Checked) -> Option<()> {
    let upstream = &subject.upstream;
    checked.begins(Step::Settings);
    let judged = match &subject.identity {
        Ok(_) => settings::judge(upstream, subject.stated, &subject.seen),
        Err(why) => Judged::found("", settings::identity_missing(why)),
    };
    let judged = judged.beside(settings::taken_from(&subject.pasted.taken_from));
    checked.take(StepReport::of(Step::Settings, upstream.address.as_str(), judged, 0))?;
    let (peer, asks_for_ours) = reached(app, subject, checked).await?;
    let peer = peer.within(extent.time).quietly(subject.quiet.clone());
    let api = spoken(app, subject, &peer, asks_for_ours, checked).await?;
    checked.found = Some(api.clone());
    let listed = admitted(subject, &peer, &api, checked).await?;
    checked.begins(Step::Models);
    let start = Instant::now();
    let inventory = match listed {
        Some(heard) => Some(look::read(&peer, &api, &heard, subject.credential.as_ref(), &upstream.auth).await),
        None => None,
    };
    let judged = judge_models(app, subject, &peer, &api, extent, inventory.as_ref()).await;
    checked.inventory = inventory;
    checked.take(StepReport::of(Step::Models, speech::listing_path(api.dialect), judged, since(start)))?;
    calls::run(app, subject, &peer, &api, extent, checked).await
}

/// Name, connection, encryption. Says beside whether a certificate of ours was asked for.
async fn reached(app: &App, subject: &Subject, checked: &mut Checked) -> Option<(Peer, bool)> {
    let address = &subject.upstream.address;
    checked.begins(Step::Name);
    let start = Instant::now();
    let Led { to: addresses, refused } = app.hosts.look_up(address.host()).await;
    let snapshot = app.now_serving();
    let mut known: Vec<&str> = snapshot.catalogue.upstreams.values().map(|other| other.address.host()).collect();
    known.extend(app.hosts.names());
    known.push("localhost");
    known.retain(|host| !host.eq_ignore_ascii_case(address.host()));
    let judged = match refused {
        Some((refused, why)) => reach::judge_refused(address, refused, why),
        None => reach::judge_name(address, &addresses, &known),
    };
    checked.take(StepReport::of(Step::Name, address.host(), judged, since(start)))?;

    checked.begins(Step::Connection);
    let start = Instant::now();
    let dialled = dial::each(&addresses, address.port()).await;
    let judged = reach::judge_connection(address, &dialled);
    checked.take(StepReport::of(Step::Connection, format!("port {}", address.port()), judged, since(start)))?;
    let to = dial::open_one(&dialled)?;

    checked.begins(Step::Encryption);
    let start = Instant::now();
    let (seen, peer) = encrypted(app, subject, to).await;
    let tried = if address.is_encrypted() { "TLS" } else { "" };
    let judged = encryption::judge(address, &seen, app.clock.now());
    checked.take(StepReport::of(Step::Encryption, tried, judged, since(start)))?;
    let asks_for_ours = matches!(seen, Tls::Stands { asks_for_ours: true, .. });
    Some((peer.with_headers(&subject.upstream.headers), asks_for_ours))
}

async fn encrypted(app: &App, subject: &Subject, to: SocketAddr) -> (Tls, Peer) {
    let upstream = &subject.upstream;
    let peer = Peer::plain(to, &upstream.address);
    if !upstream.address.is_encrypted() {
        return (Tls::NotAskedFor, peer);
    }
    let identity = subject.identity.as_ref().ok().and_then(Option::as_ref);
    let seen = tls::look(app, upstream, identity, to).await;
    let verifier = app.trust.verifier(upstream.certificate.as_ref());
    let config = app.trust.config_showing(verifier, Arc::new(Showing::of(identity)));
    (seen, peer.encrypted(config))
}

/// HTTP, path and dialect, without the credential; with it at the address itself, before anything else is concluded.
async fn spoken(
    app: &App,
    subject: &Subject,
    peer: &Peer,
    asks_for_ours: bool,
    checked: &mut Checked,
) -> Option<Found> {
    let (address, stated) = (&subject.upstream.address, subject.stated);
    let path = speech::listing_path(stated.unwrap_or(Dialect::ChatCompletions));
    checked.begins(Step::Http);
    let start = Instant::now();
    let mut first = peer.get(&address.endpoint(path), Credentials::None).await;
    let took_ms = since(start) / 1_000;
    tls::tell_apart(app, peer, &mut first).await;
    let with_key = Credentials::of(subject.credential.as_ref(), &subject.upstream.auth);
    let leads_to_itself = first.as_ref().is_ok_and(|heard| first_words::leads_to_itself(address, heard));
    if leads_to_itself && subject.credential.is_some() {
        // Some lead only those to a sign-in who show no key. What leads elsewhere does not get it.
        let heard = peer.get(&address.endpoint(path), with_key).await;
        if heard.as_ref().is_ok_and(|heard| !(300..400).contains(&heard.status)) {
            first = heard;
        }
    }
    let lately = has_answered(app, subject);
    let identity = subject.identity.as_ref().ok().and_then(Option::as_ref);
    let known = Known { has_answered: lately.as_deref(), asks_for_ours, shows_ours: identity.is_some(), took_ms };
    let judged = first_words::judge(address, path, &first, known);
    checked.take(StepReport::of(Step::Http, format!("GET {path} without the key"), judged, since(start)))?;

    checked.begins(Step::Path);
    let start = Instant::now();
    let model = subject.upstream.offers.keys().next().cloned().unwrap_or_else(|| "model".to_owned());
    let mut looks = Looks::default();
    looks.add(speech::Place { url: address.endpoint(path) }, first.ok());
    let wanted = Wanted { only_here: false, stated, model: &model };
    let mut api = search(peer, address, wanted, Credentials::None, &mut looks).await;
    if subject.credential.is_some() && api.as_ref().is_none_or(|api| api.address != *address) {
        let wanted = Wanted { only_here: true, ..wanted };
        let there = search(peer, address, wanted, with_key, &mut Looks::default()).await;
        api = there.map(|there| Found { lists: there.lists.for_those_with_a_key(), ..there }).or(api);
    }
    let judged = speech::judge_path(address, stated, api.as_ref(), &looks);
    let tried = format!("{} places, without the key", looks.count());
    checked.take(StepReport::of(Step::Path, tried, judged, since(start)))?;
    api
}

/// Looks at one place after the other until it is known where the API is.
async fn search(
    peer: &Peer,
    address: &Address,
    wanted: Wanted<'_>,
    credentials: Credentials<'_>,
    looks: &mut Looks,
) -> Option<Found> {
    loop {
        match speech::search(address, wanted, looks) {
            Ok(found) => return found,
            Err(place) => {
                let heard = peer.get(&place.url, credentials).await.ok();
                looks.add(place, heard);
            }
        }
    }
}

/// How long ago an upstream answered, in words, where that is not long.
fn has_answered(app: &App, subject: &Subject) -> Option<String> {
    let state = app.fleet.upstream(subject.name.as_ref()?);
    let past = app.clock.now() - state.connections().last_success()?;
    (past < LATELY).then(|| match past.num_seconds() {
        seconds @ 0..=90 => format!("{seconds} s ago"),
        seconds => format!("{} min ago", seconds / 60),
    })
}

/// The credential. Gives the listing, if there is one.
async fn admitted(subject: &Subject, peer: &Peer, found: &Found, checked: &mut Checked) -> Option<Option<Heard>> {
    checked.begins(Step::Key);
    let upstream = &subject.upstream;
    let start = Instant::now();
    let url = found.address.endpoint(speech::listing_path(found.dialect));
    let credentials = Credentials::of(subject.credential.as_ref(), &upstream.auth);
    let heard = match found.lists {
        Lists::No => None,
        Lists::Openly | Lists::Guarded => peer.get(&url, credentials).await.ok(),
    };
    let (listed, judged) = judge_key(subject, peer, found, heard).await;
    let tried = match &subject.credential {
        Some(_) => format!("GET {} with the key", speech::listing_path(found.dialect)),
        None => String::new(),
    };
    checked.take(StepReport::of(Step::Key, tried, judged, since(start)))?;
    Some(listed)
}

async fn judge_key(subject: &Subject, peer: &Peer, found: &Found, heard: Option<Heard>) -> (Option<Heard>, Judged) {
    let has_key = subject.credential.is_some();
    let Some(heard) = heard else {
        return (None, without_listing(subject, peer, found).await);
    };
    if !speech::dialects_of_listing(&heard).is_empty() {
        let came_back = match (has_key, found.lists) {
            (true, Lists::Guarded) => "accepted",
            (true, Lists::Openly | Lists::No) => "not needed for the listing; the first answer tells more",
            (false, _) => "none is needed",
        };
        return match another_dialect(subject, peer, found, &heard).await {
            Some(spoken) => (Some(heard), Judged::found(came_back, speech::other_dialect(found.dialect, spoken))),
            None => (Some(heard), Judged::well(came_back)),
        };
    }
    if matches!(heard.status, 404 | 405) {
        return (None, Judged::well("not known before the first answer: there is no listing"));
    }
    let url = found.address.endpoint(speech::listing_path(found.dialect));
    if let Some(auth) = elsewhere(subject, peer, &url, &heard).await {
        let way = String::from(auth.clone());
        let says = format!("{} refuses the key where it is sent now and accepts it as `{way}`.", peer.host());
        let remedy = Remedy::change(format!("Send it as `{way}`"), Change::Auth { to: auth });
        return (None, Judged::found("refused", Finding::failing(FindingKind::KeyElsewhere, says, vec![remedy])));
    }
    let answer_words = heard.told();
    let finding = refusal::judge(&talk::scrubbed(heard, subject.credential.as_ref()), asked(subject, peer));
    (None, Judged::found(answer_words, finding))
}

/// Where everything wants a key, only someone with it sees which of the dialects that share a listing is there.
async fn another_dialect(subject: &Subject, peer: &Peer, found: &Found, listing: &Heard) -> Option<Dialect> {
    if found.lists != Lists::Guarded {
        return None;
    }
    let model = subject.upstream.offers.keys().next().map_or("model", String::as_str);
    let listed = speech::dialects_of_listing(listing);
    if !listed.contains(&found.dialect) {
        return listed.first().copied();
    }
    let mut spoken = None;
    for dialect in std::iter::once(found.dialect).chain(listed.into_iter().filter(|dialect| *dialect != found.dialect))
    {
        let url = found.address.endpoint(&wendor_wire::dialects::of(dialect).path(model, false));
        let credentials = Credentials::of(subject.credential.as_ref(), &subject.upstream.auth);
        if peer.get(&url, credentials).await.is_ok_and(|heard| heard.status != 404) {
            spoken = Some(dialect);
            break;
        }
    }
    spoken.filter(|spoken| *spoken != found.dialect)
}

/// Where nothing is listed, the endpoint itself may say that it wants a key.
async fn without_listing(subject: &Subject, peer: &Peer, found: &Found) -> Judged {
    if subject.credential.is_some() {
        return Judged::well("not known before the first answer: there is no listing");
    }
    let url = found.address.endpoint(&wendor_wire::dialects::of(found.dialect).path("model", false));
    match peer.get(&url, Credentials::None).await {
        Ok(heard) if matches!(heard.status, 401 | 403) => {
            Judged::found(heard.told(), refusal::judge(&heard, asked(subject, peer)))
        }
        Ok(_) | Err(_) => Judged::well("none is set, and none was asked for so far"),
    }
}

/// Another place in which the key is accepted, if there is one: one that the refusal names goes first. The peer is the verified one.
async fn elsewhere(subject: &Subject, peer: &Peer, url: &str, refused: &Heard) -> Option<Auth> {
    let secret = subject.credential.as_ref()?;
    let mut ways: Vec<Auth> = refusal::named_key_header(refused).into_iter().map(Auth::Header).collect();
    ways.extend([
        Auth::Bearer,
        Auth::Header("api-key".to_owned()),
        Auth::Header("x-api-key".to_owned()),
        Auth::Query("key".to_owned()),
        // The key alone, without a word before it.
        Auth::Header("authorization".to_owned()),
    ]);
    for way in ways.into_iter().filter(|way| *way != subject.upstream.auth) {
        let heard = peer.get(url, Credentials::of(Some(secret), &way)).await;
        if heard.is_ok_and(|heard| !speech::dialects_of_listing(&heard).is_empty()) {
            return Some(way);
        }
    }
    None
}

fn asked<'a>(subject: &Subject, peer: &'a Peer) -> Asked<'a> {
    Asked { has_key: subject.credential.is_some(), headers: peer.header_names(), host: peer.host(), took_ms: 0 }
}

async fn judge_models(
    app: &App,
    subject: &Subject,
    peer: &Peer,
    found: &Found,
    extent: &Extent<'_>,
    inventory: Option<&Inventory>,
) -> Judged {
    let Some(inventory) = inventory else { return Judged::well("not told: the server has no listing") };
    let mut upstream = subject.upstream.clone();
    upstream.dialect = found.dialect;
    let mut judged = listing::judge(&upstream, &inventory.models, &subject.elsewhere);
    let names = inventory.models.iter().map(|model| model.name.as_str()).collect();
    for finding in judged.findings.iter_mut().filter(|finding| finding.kind == FindingKind::ModelUnknown) {
        let missing = upstream
            .offers
            .keys()
            .find(|model| !inventory.models.iter().any(|seen| listing::is_called(&seen.name, model)));
        if let Some(model) = missing
            && calls::answers_to(app, subject, peer, found, extent, model).await
        {
            *finding = listing::any_name(model, &names);
        }
    }
    judged
}
