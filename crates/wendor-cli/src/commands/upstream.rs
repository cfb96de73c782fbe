//! `wendor upstream add|offer|credential`: bringing a server in, offering more of it, giving it another key.

use serde_json::json;
use wendor_core::catalog::edit::pointer;
use wendor_gateway::admin::check_report::{CheckReport, ModelLine};
use wendor_gateway::admin::checking::CheckAsk;
use wendor_gateway::admin::connecting::{CredentialKept, UpstreamAddition};
use wendor_gateway::admin::draft::{OfferDraft, UpstreamDraft};
use wendor_gateway::admin::revise::CatalogueApplied;

use super::{change, check, drain, models, overview, things};
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::connect::{UpstreamAddArgs, UpstreamCommand};
use crate::output::{self, Reader};
use crate::words;

/// Remedies that are applied one after the other before it is given up.
const MOST_MENDS: usize = 4;

pub(super) async fn run(command: UpstreamCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        UpstreamCommand::List => overview::upstreams(management, reader).await,
        UpstreamCommand::Add(args) => add(*args, management, reader).await.map(|_| ()),
        UpstreamCommand::Check(args) => check::run(*args, management, reader).await,
        UpstreamCommand::Edit(args) => things::upstream(*args, management, reader).await,
        UpstreamCommand::Rename { name, to, how } => {
            things::rename(management, "upstreams", &name, &to, &how, reader).await
        }
        UpstreamCommand::Remove { name, how } => {
            things::remove(management, &pointer(&["upstreams", &name]), &how, reader).await
        }
        UpstreamCommand::Models { name, refresh } => models::run(name, refresh, management, reader).await,
        UpstreamCommand::Drain { name, wait } => drain::drain(&name, wait, management, reader).await,
        UpstreamCommand::Resume { name } => drain::resume(&name, management, reader).await,
        UpstreamCommand::Offer { name, models, yes } => offer(&name, models, yes, management, reader).await,
        UpstreamCommand::Credential { name, overlap } => credential(&name, &overlap, management, reader).await,
    }
}

/// Adds an upstream. Gives its name and the models that it offers.
///
/// # Errors
/// When it does not answer, or is not wanted after all.
pub(super) async fn add(
    args: UpstreamAddArgs,
    management: &Management,
    reader: Reader,
) -> Result<(String, Vec<String>), Failure> {
    let mut draft = check::draft(&args.address, &args.server)?;
    draft.place = args.place.clone();
    draft.streams = args.streams;
    let mending = Mending {
        mends: args.mend,
        to_host: args.server.to_host.as_deref(),
        timeout_ms: check::timeout_of(&args.server),
    };
    let report = checked(&mut draft, &mending, management, reader).await?;
    let name = args.name.clone().unwrap_or_else(|| report.name.clone());
    let offers = offers(&report, args.models.as_deref())?;
    let settings = check::going_on(&draft, UpstreamDraft { offers, ..report.settings.clone() }, report.holds_key);
    let models = settings.offers.iter().map(|offer| offer.model.clone()).collect();
    // Taken apart here, since a credential's value is never written out again by the type.
    let mut body = serde_json::to_value(UpstreamAddition { name: name.clone(), settings, look: true })
        .map_err(|error| Failure::Own(error.to_string()))?;
    if let Some(value) = draft.credential.as_ref().and_then(|credential| credential.value.as_ref()) {
        body["settings"]["credential"] = json!({ "value": value });
    }
    let change: CatalogueApplied = management.post("/upstreams", &body).await?;
    if reader == Reader::Person {
        let lines: Vec<String> = change.changes.iter().map(change::told_change).collect();
        output::print(&lines.concat())?;
    }
    if !args.yes {
        change::confirm("Write this?")?;
    }
    body["look"] = json!(false);
    let applied: CatalogueApplied = management.post("/upstreams", &body).await?;
    match reader {
        Reader::Program => output::json(&applied)?,
        Reader::Person => output::line(&format!("Revision {} is in force: added {name}.", applied.revision))?,
    }
    Ok((name, models))
}

/// What is done with what stands in the way.
struct Mending<'a> {
    /// Whether the first remedy of each obstacle is applied.
    mends: bool,
    /// The host that may be given the credential.
    to_host: Option<&'a str>,
    timeout_ms: Option<u64>,
}

/// Checks a draft until nothing bars the way, applying remedies if that is wished.
async fn checked(
    draft: &mut UpstreamDraft,
    mending: &Mending<'_>,
    management: &Management,
    reader: Reader,
) -> Result<CheckReport, Failure> {
    let Mending { mends, to_host, timeout_ms } = *mending;
    for _ in 0..=MOST_MENDS {
        let ask = CheckAsk { draft: Some(draft.clone()), timeout_ms, ..CheckAsk::default() };
        let report = check::watched(&ask, management, reader).await?;
        let failing = report.steps.iter().find(|step| step.state == "failing");
        let Some(failing) = failing else { return Ok(report) };
        let mut remedies =
            failing.findings.iter().flat_map(|finding| finding.remedies.iter().map(move |remedy| (finding, remedy)));
        let remedy = remedies.find_map(|(finding, remedy)| Some((&finding.kind, &remedy.says, remedy.then.clone()?)));
        let has_remedy = remedy.is_some();
        match remedy.filter(|_| mends) {
            Some((kind, says, then)) => {
                check::consented(draft, &then, kind, report.holds_key, to_host)?;
                output::note(&format!("{says}. Checked so:"));
                *draft = check::going_on(draft, then, report.holds_key);
            }
            None => {
                let hint = if has_remedy { " Add --mend to apply the first remedy." } else { "" };
                return Err(Failure::UpstreamsFailed(format!(
                    "Nothing was written: the check fails at {}.{hint}",
                    failing.step
                )));
            }
        }
    }
    Err(Failure::UpstreamsFailed("Nothing was written: every remedy led to the next one.".to_owned()))
}

/// The offers to be made, with what was learnt of their models.
fn offers(report: &CheckReport, wanted: Option<&[String]>) -> Result<Vec<OfferDraft>, Failure> {
    let Some(wanted) = wanted else {
        return Ok(report.models.iter().map(learnt).collect());
    };
    let one = |name: &String| {
        let seen = report.models.iter().find(|model| model.name == *name);
        // A server without a listing cannot say whether it has the model.
        match seen {
            Some(seen) => Ok(learnt(seen)),
            None if report.models.is_empty() => Ok(OfferDraft { model: name.clone(), ..OfferDraft::default() }),
            None => {
                let names = report.models.iter().map(|model| model.name.as_str());
                let near = wendor_wire::nearest::nearest(name, names.clone()).map_or_else(
                    || format!("It lists {}.", names.collect::<Vec<_>>().join(", ")),
                    |near| format!("Nearest: {near}."),
                );
                Err(Failure::NoSuch(format!("The server has no model called {name}. {near}")))
            }
        }
    };
    wanted.iter().map(one).collect()
}

fn learnt(model: &ModelLine) -> OfferDraft {
    OfferDraft {
        model: model.name.clone(),
        context_window: model.context_window,
        output_cap: model.output_cap,
        abilities: model.abilities.clone(),
        about: model.about.clone(),
        ..OfferDraft::default()
    }
}

async fn offer(
    name: &str,
    models: Vec<String>,
    yes: bool,
    management: &Management,
    reader: Reader,
) -> Result<(), Failure> {
    let path = format!("/upstreams/{}/offers", part(name));
    let change: CatalogueApplied = management.post(&path, &json!({ "models": models, "look": true })).await?;
    if reader == Reader::Person {
        let lines: Vec<String> = change.changes.iter().map(change::told_change).collect();
        output::print(&lines.concat())?;
    }
    if !yes {
        change::confirm("Write this?")?;
    }
    let applied: CatalogueApplied = management.post(&path, &json!({ "models": models })).await?;
    match reader {
        Reader::Program => output::json(&applied),
        Reader::Person => output::line(&format!("Revision {} is in force.", applied.revision)),
    }
}

async fn credential(name: &str, overlap: &str, management: &Management, reader: Reader) -> Result<(), Failure> {
    let time = humantime::parse_duration(overlap)
        .map_err(|_| Failure::NotUnderstood(format!("Invalid time `{overlap}`: write 30m, 1h or similar.")))?;
    let value = check::read_secret("Paste the key, then Enter and Ctrl-D.")?;
    let body = json!({ "value": value, "overlap_seconds": time.as_secs() });
    let kept: CredentialKept = management.post(&format!("/upstreams/{}/credential", part(name)), &body).await?;
    if reader == Reader::Program {
        return output::json(&kept);
    }
    let before = kept.previous_until.map_or_else(String::new, |until| {
        format!(" The one before is used where it is refused until {} UTC.", words::instant(until))
    });
    output::line(&format!("Kept as {}, encrypted; revision {} uses it.{before}", kept.id, kept.revision))
}
