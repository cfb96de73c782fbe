//! `wendor sign-in` and `wendor token`: who asks.

use std::io::{IsTerminal, Read};

use serde_json::json;
use wendor_gateway::admin::session::{IssuedToken, TokenLine};

use super::now;
use crate::client::{Management, part};
use crate::failure::Failure;
use crate::grammar::{SignInArgs, TokenCommand};
use crate::output::{self, Column, Reader};
use crate::profile::Profile;
use crate::{range, words};

pub(super) async fn sign_in(args: SignInArgs, reader: Reader) -> Result<(), Failure> {
    let mut profile = Profile::find()?;
    if let Some(url) = args.url {
        url.trim_end_matches('/').clone_into(&mut profile.url);
    }
    if std::io::stdin().is_terminal() {
        output::note("Paste the one-time sign-in, then Enter and Ctrl-D.");
    }
    let mut text = String::new();
    std::io::stdin()
        .read_to_string(&mut text)
        .map_err(|error| Failure::Own(format!("standard input cannot be read: {error}")))?;
    let url = profile.url.clone();
    let management = Management::new(profile)?;
    let session: IssuedToken = management.post_unsigned("/sign-in", &json!({ "one_time": text.trim() })).await?;
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

pub(super) async fn tokens(command: TokenCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        TokenCommand::Issue { label, expires } => {
            let expires_at = expires.as_deref().map(|text| range::expiry(text, now())).transpose()?;
            let issued: IssuedToken =
                management.post("/tokens", &json!({ "label": label, "expires_at": expires_at })).await?;
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
            (None, None) => "for ever".to_owned(),
        };
        vec![token.id.clone(), token.kind.clone(), token.label.clone(), words::ago(token.issued_at, now()), until]
    });
    output::table(&columns, rows.collect(), "You have no token.")
}
