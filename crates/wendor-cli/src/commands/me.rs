//! `wendor me`: who one is here, password, authenticator app.

use serde_json::json;
use wendor_gateway::admin::codes::{CodesSetup, RecoveryCodes};
use wendor_gateway::admin::session::Me;

use crate::asking;
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::MeCommand;
use crate::output::{self, Reader};
use crate::words;

pub(super) async fn run(command: MeCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        MeCommand::Show => show(management, reader).await,
        MeCommand::Password => password(management, reader).await,
        MeCommand::SetUpCodes => set_up_codes(management, reader).await,
        MeCommand::RemoveCodes => {
            management.delete("/me/codes").await?;
            done(&json!({ "codes": false }), "Codes are no longer asked for when you sign in.", reader)
        }
    }
}

fn done(told: &serde_json::Value, words: &str, reader: Reader) -> Result<(), Failure> {
    match reader {
        Reader::Program => output::json(told),
        Reader::Person => output::line(words),
    }
}

async fn show(management: &Management, reader: Reader) -> Result<(), Failure> {
    let me: Me = management.get("/me", &[]).await?;
    if reader == Reader::Program {
        return output::json(&me);
    }
    let team = me.team.map_or_else(String::new, |team| format!(" of {team}"));
    output::line(&format!("You are {}, {}{team}.", me.name, me.role))?;
    output::line(match (me.has_password, me.codes_since) {
        (false, _) => "You have no password: you sign in with one-time sign-ins alone. `wendor me password` sets one.",
        (true, None) => "You sign in with your password. `wendor me set-up-codes` adds codes of an authenticator app.",
        (true, Some(_)) => "You sign in with your password and a code of your authenticator app.",
    })?;
    if let Some(since) = me.codes_since {
        let left = words::grouped(u64::try_from(me.recovery_codes).unwrap_or(0));
        output::line(&format!("The app is set up since {}; {left} recovery codes are left.", words::instant(since)))?;
    }
    if me.lacks_codes {
        output::line("An authenticator app is asked for of your role: set yours up before anything else.")?;
    }
    Ok(())
}

async fn password(management: &Management, reader: Reader) -> Result<(), Failure> {
    let me: Me = management.get("/me", &[]).await?;
    let new = asking::twice("New password: ")?;
    let old = if me.has_password { Some(asking::hidden("The password before: ")?) } else { None };
    management.post_unanswered("/me/password", &json!({ "password": new, "old": old })).await?;
    done(&json!({ "password": true }), "Your password is set. Your other sessions and tokens have ended.", reader)
}

async fn set_up_codes(management: &Management, reader: Reader) -> Result<(), Failure> {
    let setup: CodesSetup = management.post("/me/codes", &json!({})).await?;
    output::note(&picture(&setup.picture));
    output::note(&format!("Scan this with an authenticator app, or type the secret into it: {}", setup.secret));
    let code = asking::line("The code that it shows now: ")?;
    let recovery: RecoveryCodes = management.post("/me/codes/first", &json!({ "code": code })).await?;
    if reader == Reader::Program {
        return output::json(&recovery);
    }
    output::line(
        "From now on a code is asked for when you sign in. If you lose the app, each of these works once instead:",
    )?;
    recovery.codes.iter().try_for_each(|code| output::line(&format!("  {code}")))?;
    output::note("Keep them where the app is not; they are not shown again.");
    Ok(())
}

/// A square in half lines, light fields drawn, with a margin: it is read on a dark ground and on a light one.
fn picture(rows: &[String]) -> String {
    let width = rows.first().map_or(0, String::len);
    let blank = "0".repeat(width);
    let margin = std::iter::repeat_n(&blank, 2);
    let rows: Vec<&String> = margin.clone().chain(rows).chain(margin).collect();
    let line = |pair: &[&String]| -> String {
        let below = pair.get(1).copied().unwrap_or(&blank);
        let pairs = format!("00{}00", pair[0]).bytes().zip(format!("00{below}00").bytes()).collect::<Vec<_>>();
        let field = |(above, below): &(u8, u8)| match (above, below) {
            (b'0', b'0') => '\u{2588}',
            (b'0', _) => '\u{2580}',
            (_, b'0') => '\u{2584}',
            (_, _) => ' ',
        };
        pairs.iter().map(field).collect()
    };
    rows.chunks(2).map(line).collect::<Vec<_>>().join("\n")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_square_is_drawn_in_half_lines_with_a_light_margin() {
        let rows = ["10".to_owned(), "01".to_owned()];
        assert_eq!(
            picture(&rows),
            "\u{2588}\u{2588}\u{2588}\u{2588}\u{2588}\u{2588}\n\u{2588}\u{2588}\u{2584}\u{2580}\u{2588}\u{2588}\n\u{2588}\u{2588}\u{2588}\u{2588}\u{2588}\u{2588}"
        );
    }
}
