//! `wendor secret`: what the service's secret protects, and moving it to another one.

use serde_json::json;
use wendor_gateway::admin::secrets::{SecretLine, SecretRotated, UnderSecret};

use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::SecretCommand;
use crate::output::{self, Reader};
use crate::words;

pub(super) async fn run(command: SecretCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        SecretCommand::Show => show(management, reader).await,
        SecretCommand::Rotate => rotate(management, reader).await,
    }
}

async fn show(management: &Management, reader: Reader) -> Result<(), Failure> {
    let secret: SecretLine = management.get("/secret", &[]).await?;
    if reader == Reader::Program {
        return output::json(&secret);
    }
    let Some(mark) = &secret.mark else {
        return output::line("The service has no secret, so it keeps no credential. Set WENDOR_SECRET where it runs.");
    };
    let before = if secret.has_before { "; the one before is there too" } else { "" };
    output::line(&format!("The secret {mark} is in force{before}."))?;
    for under in &secret.kept {
        let number = kept(under);
        output::line(&match &under.mark {
            Some(other) if other == mark => format!("{number} under it."),
            Some(other) => format!("{number} under {other}: `wendor secret rotate` moves them."),
            None => format!("{number} of the first form, which the service moves at its start."),
        })?;
    }
    if secret.kept.is_empty() { output::line("No credential is kept.") } else { Ok(()) }
}

/// Asks on until none is left; what was moved stays moved if it is broken off.
async fn rotate(management: &Management, reader: Reader) -> Result<(), Failure> {
    loop {
        let came: SecretRotated = management.post("/secret/rotate", &json!({})).await?;
        if came.left > 0 {
            output::note(&format!(
                "{} under {}, {} left.",
                credentials(came.done),
                came.mark,
                words::grouped(came.left)
            ));
            continue;
        }
        if reader == Reader::Program {
            return output::json(&came);
        }
        let unreadable = match came.unreadable {
            0 => " WENDOR_SECRET_BEFORE is not needed any more.".to_owned(),
            number => format!(
                " {} opened by neither secret: set them again (`wendor upstream credential NAME`).",
                credentials(number)
            ),
        };
        return output::line(&format!("{} under the secret {}.{unreadable}", credentials(came.done), came.mark));
    }
}

fn kept(under: &UnderSecret) -> String {
    match (under.credentials, under.codes) {
        (_, 0) => credentials(under.credentials),
        (0, codes) => format!("Codes of {} are", people(codes)),
        (number, codes) => {
            let credentials =
                if number == 1 { "1 credential".to_owned() } else { format!("{} credentials", words::grouped(number)) };
            format!("{credentials} and codes of {} are", people(codes))
        }
    }
}

fn people(number: u64) -> String {
    if number == 1 { "1 person".to_owned() } else { format!("{} people", words::grouped(number)) }
}

fn credentials(number: u64) -> String {
    match number {
        1 => "1 credential is".to_owned(),
        number => format!("{} credentials are", words::grouped(number)),
    }
}
