//! `wendor sign-in` and `wendor token`: who asks.

use std::io::{IsTerminal, Read};

use serde_json::json;
use wendor_gateway::admin::tokens::{IssuedToken, TokenLine};

use super::now;
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::{SignInArgs, TokenCommand};
use crate::output::{self, Column, Reader};
use crate::profile::{Profile, base_url};
use crate::{asking, range, words};

pub(super) async fn sign_in(args: SignInArgs, reader: Reader) -> Result<(), Failure> {
    let mut profile = Profile::find()?;
    if let Some(url) = args.url {
        profile.url = base_url("--url", &url)?;
    }
    let url = profile.url.clone();
    let management = Management::new(profile)?;
    let session = match args.name {
        Some(name) => with_password(&name, &management).await?,
        None => with_one_time(&management).await?,
    };
    if session.wrong_before > 0 {
        let times =
            if session.wrong_before == 1 { "once".to_owned() } else { format!("{} times", session.wrong_before) };
        output::note(&format!("A wrong password was given for you {times} before this."));
    }
    let label = format!("command line on {}", std::fs::read_to_string("/etc/hostname").unwrap_or_default().trim());
    let token: IssuedToken = management.post_as(&session.token, "/tokens", &json!({ "label": label.trim() })).await?;
    // The session was for getting the token.
    management.delete_as(&session.token, "/session").await?;
    let path = Profile::keep(&url, &token.token)?;
    match reader {
        Reader::Program => output::json(&json!({ "person": token.person, "token_id": token.id, "kept": path })),
        Reader::Person => output::line(&format!(
            "Signed in to {url} as {}. Token {} is kept in {}.",
            token.person,
            token.id,
            path.display()
        )),
    }
}

async fn with_one_time(management: &Management) -> Result<IssuedToken, Failure> {
    if std::io::stdin().is_terminal() {
        output::note("Paste the one-time sign-in, then Enter and Ctrl-D.");
    }
    let mut text = String::new();
    std::io::stdin()
        .read_to_string(&mut text)
        .map_err(|error| Failure::Own(format!("standard input cannot be read: {error}")))?;
    management.post_unsigned("/sign-in", &json!({ "one_time": text.trim() })).await
}

async fn with_password(name: &str, management: &Management) -> Result<IssuedToken, Failure> {
    let password = asking::hidden(&format!("Password of {name}: "))?;
    let first = json!({ "name": name, "password": password });
    match management.post_unsigned("/sign-in", &first).await {
        Err(Failure::CodeNeeded(_)) => {
            let code = asking::line("Code of your authenticator app: ")?;
            let second = json!({ "name": name, "password": password, "code": code });
            management.post_unsigned("/sign-in", &second).await
        }
        answered => answered,
    }
}

pub(super) async fn tokens(command: TokenCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        TokenCommand::Issue { label, expires, unasked } => {
            let expires_at = expires.as_deref().map(|text| range::expiry(text, now())).transpose()?;
            let body = json!({ "label": label, "expires_at": expires_at, "unasked": unasked });
            let issued: IssuedToken = management.post("/tokens", &body).await?;
            if reader == Reader::Program {
                return output::json(&issued);
            }
            output::line(&issued.token)?;
            output::note(&format!("Token {} of {}, shown this once.", issued.id, issued.person));
            Ok(())
        }
        TokenCommand::List => {
            let tokens: Vec<TokenLine> = management.get("/tokens", &[]).await?;
            match reader {
                Reader::Program => output::json(&tokens),
                Reader::Person => show(&tokens),
            }
        }
        TokenCommand::End { id } => {
            management.delete(&format!("/tokens/{}", part(&id))).await?;
            match reader {
                Reader::Program => output::json(&json!({ "id": id })),
                Reader::Person => output::line(&format!("Token {id} has ended.")),
            }
        }
    }
}

fn show(tokens: &[TokenLine]) -> Result<(), Failure> {
    let columns = [
        Column::Text("token"),
        Column::Text("kind"),
        Column::Text("label"),
        Column::Text("issued"),
        Column::Text("works until"),
    ];
    let rows = tokens.iter().map(|token| {
        let until = match (token.ended_at, token.expires_at) {
            (Some(at), _) => format!("ended {}", words::ago(at, now())),
            (None, Some(at)) => words::instant(at),
            (None, None) => "no expiry".to_owned(),
        };
        let kind = if token.unasked { format!("{}, unasked", token.kind) } else { token.kind.clone() };
        vec![token.id.clone(), kind, token.label.clone(), words::ago(token.issued_at, now()), until]
    });
    output::table(&columns, rows.collect(), "You have no token.")
}
