//! Checks of upstreams: looking at one layer after the other, as far as the first that bars the way, and handing what is seen to
//! [`wendor_core::diagnosis`], which says what it means.
//!
//! 1. what can be seen without asking, 2. the name, 3. a connection to each address ([`dial`]), 4. encryption ([`tls`]),
//! 5. HTTP and 6. path and dialect, both without the credential, 7. the credential, which goes to a verified peer alone and never
//!    along a redirection ([`talk`] follows none), 8. the listing ([`look`]), and, if that is asked for, 9. a streamed and 10. a whole
//!    answer and 11. abilities ([`calls`]), which are paid for ([`spending`]).
//!
//! Dropped midway a check closes its connections and is over; what it had spent by then stands in the ledger.

pub mod calls;
pub mod dial;
pub mod look;
pub mod spending;
pub mod talk;
pub mod tls;

use std::collections::BTreeMap;
use std::net::SocketAddr;
use std::time::Instant;

use wendor_core::catalog::upstream::{Auth, Dialect, Upstream};
use wendor_core::diagnosis::finding::{Finding, FindingKind};
use wendor_core::diagnosis::inventory::Inventory;
use wendor_core::diagnosis::listing::{self, Elsewhere};
use wendor_core::diagnosis::proof::{Outcome, Proof};
use wendor_core::diagnosis::reach;
use wendor_core::diagnosis::refusal::{self, Asked};
use wendor_core::diagnosis::remedy::{Change, Remedy};
use wendor_core::diagnosis::report::{Judged, Report, Step, StepReport, StepState};
use wendor_core::diagnosis::seen::{CredentialSeen, Heard, Tls};
use wendor_core::diagnosis::settings;
use wendor_core::diagnosis::speech::{self, Found, Lists, Looks, Wanted};
use wendor_core::name::Name;
use wendor_core::secret::Secret;

use crate::app::App;
use crate::hosts::Led;
use calls::Extent;
use talk::{Credentials, Peer};

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
    /// Weights that other upstreams have under the same names.
    pub elsewhere: Vec<Elsewhere>,
}

/// What a check came to.
#[derive(Debug, Default)]
pub struct Checked {
    /// Every step.
    pub report: Report,
    /// Where the API is, and in which dialect.
    pub found: Option<Found>,
    /// What is served there.
    pub inventory: Option<Inventory>,
    /// What came of each proof, with the model.
    pub proofs: BTreeMap<Proof, Outcome>,
    /// The model that was asked.
    pub model: Option<String>,
}

fn since(start: Instant) -> u64 {
    u64::try_from(start.elapsed().as_micros()).unwrap_or(u64::MAX)
}

/// Checks `subject` as far as `extent` says.
pub async fn run(app: &App, subject: &Subject, extent: &Extent<'_>) -> Checked {
    let mut checked = Checked::default();
    // Whether it went to the end or stopped on the way, every step is told of.
    let _stopped = steps(app, subject, extent, &mut checked).await;
    checked.report.close();
    checked
}

/// The steps in order; `None` where the way is barred.
async fn steps(app: &App, subject: &Subject, extent: &Extent<'_>, checked: &mut Checked) -> Option<()> {
    let report = &mut checked.report;
    let upstream = &subject.upstream;
    let judged = settings::judge(upstream, subject.stated, &subject.seen);
    go_on(report.take(StepReport::of(Step::Settings, upstream.address.as_str(), judged, 0)))?;
    let peer = reached(app, subject, report).await?;
    let found = spoken(subject, &peer, report).await?;
    checked.found = Some(found.clone());
    let listed = admitted(subject, &peer, &found, &mut checked.report).await?;
    let inventory = match listed {
        Some(heard) => Some(look::read(&peer, &found, &heard, subject.credential.as_ref(), &upstream.auth).await),
        None => None,
    };
    let judged = judge_models(subject, &found, inventory.as_ref());
    checked.inventory = inventory;
    go_on(checked.report.take(StepReport::of(Step::Models, speech::listing_path(found.dialect), judged, 0)))?;
    calls::run(app, (subject, &peer, &found), extent, checked).await
}

fn go_on(goes_on: bool) -> Option<()> {
    goes_on.then_some(())
}

/// Name, connection, encryption.
async fn reached(app: &App, subject: &Subject, report: &mut Report) -> Option<Peer> {
    let address = &subject.upstream.address;
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
    go_on(report.take(StepReport::of(Step::Name, address.host(), judged, since(start))))?;

    let start = Instant::now();
    let dialled = dial::each(&addresses, address.port()).await;
    let judged = reach::judge_connection(address, &dialled);
    go_on(report.take(StepReport::of(Step::Connection, format!("port {}", address.port()), judged, since(start))))?;
    let to = dial::open_one(&dialled)?;

    let start = Instant::now();
    let (seen, peer) = encrypted(app, subject, to).await;
    let tried = if address.is_encrypted() { "TLS" } else { "" };
    let judged = reach::judge_encryption(address, &seen, app.clock.now());
    go_on(report.take(StepReport::of(Step::Encryption, tried, judged, since(start))))?;
    Some(peer.with_headers(&subject.upstream.headers))
}

async fn encrypted(app: &App, subject: &Subject, to: SocketAddr) -> (Tls, Peer) {
    let upstream = &subject.upstream;
    let peer = Peer::plain(to, &upstream.address);
    if !upstream.address.is_encrypted() {
        return (Tls::NotAskedFor, peer);
    }
    let seen = tls::look(app, upstream, to).await;
    let config = app.trust.config(app.trust.verifier(upstream.certificate.as_ref()));
    (seen, peer.encrypted(config))
}

/// HTTP, path and dialect, without the credential.
async fn spoken(subject: &Subject, peer: &Peer, report: &mut Report) -> Option<Found> {
    let address = &subject.upstream.address;
    let stated = subject.stated;
    let path = speech::listing_path(stated.unwrap_or(Dialect::ChatCompletions));
    let start = Instant::now();
    let mut first = peer.get(&address.endpoint(path), Credentials::None).await;
    tls::tell_apart(peer, &mut first).await;
    let judged = speech::judge_http(address, path, &first);
    go_on(report.take(StepReport::of(Step::Http, format!("GET {path} without the key"), judged, since(start))))?;

    let start = Instant::now();
    let mut looks = Looks::default();
    looks.add(speech::Place { url: address.endpoint(path) }, first.ok());
    let model = subject.upstream.offers.keys().next().cloned().unwrap_or_else(|| "model".to_owned());
    let wanted = Wanted { stated, model: &model };
    let found = loop {
        match speech::search(address, wanted, &looks) {
            Ok(found) => break found,
            Err(place) => {
                let heard = peer.get(&place.url, Credentials::None).await.ok();
                looks.add(place, heard);
            }
        }
    };
    let judged = speech::judge_path(address, stated, found.as_ref(), &looks);
    let tried = format!("{} places, without the key", looks.count());
    go_on(report.take(StepReport::of(Step::Path, tried, judged, since(start))))?;
    found
}

/// The credential. Gives the listing, if there is one.
async fn admitted(subject: &Subject, peer: &Peer, found: &Found, report: &mut Report) -> Option<Option<Heard>> {
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
    go_on(report.take(StepReport::of(Step::Key, tried, judged, since(start))))?;
    Some(listed)
}

async fn judge_key(subject: &Subject, peer: &Peer, found: &Found, heard: Option<Heard>) -> (Option<Heard>, Judged) {
    let has_key = subject.credential.is_some();
    let Some(heard) = heard else {
        return (None, without_listing(subject, peer, found).await);
    };
    if !speech::dialects_of_listing(&heard).is_empty() {
        let told = match (has_key, found.lists) {
            (true, Lists::Guarded) => "accepted",
            (true, Lists::Openly | Lists::No) => "not needed for the listing; the first answer tells more",
            (false, _) => "none is needed",
        };
        return match another_dialect(subject, peer, found, &heard).await {
            Some(spoken) => (Some(heard), Judged::found(told, speech::other_dialect(found.dialect, spoken))),
            None => (Some(heard), Judged::well(told)),
        };
    }
    if matches!(heard.status, 404 | 405) {
        return (None, Judged::well("not known before the first answer: there is no listing"));
    }
    if let Some(auth) = elsewhere(subject, peer, &found.address.endpoint(speech::listing_path(found.dialect))).await {
        let way = String::from(auth.clone());
        let says = format!("{} refuses the key where it is sent now and accepts it as `{way}`.", peer.host());
        let remedy = Remedy::change(format!("Send it as `{way}`"), Change::Auth { to: auth });
        return (None, Judged::found("refused", Finding::failing(FindingKind::KeyElsewhere, says, vec![remedy])));
    }
    let told = heard.told();
    let finding = refusal::judge(&talk::scrubbed(heard, subject.credential.as_ref()), asked(subject, peer));
    (None, Judged::found(told, finding))
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
        let url = found.address.endpoint(&wendor_core::wire::codec::of(dialect).path(model, false));
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
    let url = found.address.endpoint(&wendor_core::wire::codec::of(found.dialect).path("model", false));
    match peer.get(&url, Credentials::None).await {
        Ok(heard) if matches!(heard.status, 401 | 403) => {
            Judged::found(heard.told(), refusal::judge(&heard, asked(subject, peer)))
        }
        Ok(_) | Err(_) => Judged::well("none is set, and none was asked for so far"),
    }
}

/// Another place in which the key is accepted, if there is one. The peer is the verified one.
async fn elsewhere(subject: &Subject, peer: &Peer, url: &str) -> Option<Auth> {
    let secret = subject.credential.as_ref()?;
    let ways = [
        Auth::Bearer,
        Auth::Header("api-key".to_owned()),
        Auth::Header("x-api-key".to_owned()),
        Auth::Query("key".to_owned()),
    ];
    for way in ways.into_iter().filter(|way| *way != subject.upstream.auth) {
        let heard = peer.get(url, Credentials::of(Some(secret), &way)).await;
        if heard.is_ok_and(|heard| !speech::dialects_of_listing(&heard).is_empty()) {
            return Some(way);
        }
    }
    None
}

fn asked<'a>(subject: &Subject, peer: &'a Peer) -> Asked<'a> {
    Asked { has_key: subject.credential.is_some(), headers: peer.header_names(), host: peer.host() }
}

fn judge_models(subject: &Subject, found: &Found, inventory: Option<&Inventory>) -> Judged {
    let Some(inventory) = inventory else { return Judged::well("not told: the server has no listing") };
    let mut upstream = subject.upstream.clone();
    upstream.dialect = found.dialect;
    listing::judge(&upstream, &inventory.models, &subject.elsewhere)
}

/// A step that costs something and was not asked for.
pub(crate) fn not_asked(report: &mut Report, steps: &[Step], why: &str) {
    for step in steps {
        report.take(StepReport::untaken(*step, StepState::NotAsked, why));
    }
}
