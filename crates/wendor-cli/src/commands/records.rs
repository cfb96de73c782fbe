//! `wendor spool` and `wendor ledger`: entries on their way into the database, and what is kept of them there.

use wendor_gateway::admin::operations::{AsideLine, Partitions, SpoolLine, SpoolRetried};

use super::now;
use super::usage::asked;
use crate::client::Management;
use crate::failure::Failure;
use crate::grammar::{LedgerCommand, SpoolCommand};
use crate::output::{self, Column, Reader};
use crate::{range, words};

pub(super) async fn spool(command: SpoolCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        SpoolCommand::Show => show(management, reader).await,
        SpoolCommand::Retry => retry(management, reader).await,
    }
}

pub(super) async fn ledger(command: LedgerCommand, management: &Management, reader: Reader) -> Result<(), Failure> {
    match command {
        LedgerCommand::Export(_) if reader == Reader::Program => Err(Failure::NotUnderstood(
            "`wendor ledger export` writes comma-separated values: leave `--json` out".to_owned(),
        )),
        LedgerCommand::Export(args) => {
            let query = asked(range::or_a_week(&args.range, now())?, args.narrow);
            management.print("/ledger/export", &query).await
        }
        LedgerCommand::Partitions => partitions(management, reader).await,
    }
}

async fn show(management: &Management, reader: Reader) -> Result<(), Failure> {
    let spool: SpoolLine = management.get("/spool", &[]).await?;
    if reader == Reader::Program {
        return output::json(&spool);
    }
    output::line(&state(&spool))?;
    aside(spool.set_aside, &spool.aside)
}

fn state(spool: &SpoolLine) -> String {
    let pending = match (spool.pending, spool.set_aside) {
        (0, 0) => "Nothing is pending: the database has every entry.".to_owned(),
        (0, _) => "Nothing waits for the database but what is set aside below.".to_owned(),
        (1, _) => "1 entry waits for the database.".to_owned(),
        (number, _) => format!("{} entries wait for the database.", words::grouped(number)),
    };
    let database =
        if spool.database_reachable { "" } else { " The database is unreachable; requests are still served." };
    let keep = words::disk_size(spool.keep_free_bytes);
    let free = spool.free_bytes.map(words::disk_size);
    let disk = match (spool.writable, free) {
        (true, Some(free)) => format!(" {free} are free on its disk; below {keep} requests are refused."),
        (true, None) => String::new(),
        (false, Some(free)) => {
            format!(
                " Requests are refused: {free} are free on its disk, and {keep} are needed. Make room; they go on by themselves."
            )
        }
        (false, None) => {
            " Requests are refused: its disk is full or not writable. Make room; requests resume by themselves."
                .to_owned()
        }
    };
    format!("{pending}{database} Its files take {}.{disk}", words::disk_size(spool.bytes))
}

async fn retry(management: &Management, reader: Reader) -> Result<(), Failure> {
    let retried: SpoolRetried = management.post("/spool/retry", &serde_json::json!({})).await?;
    if reader == Reader::Program {
        return output::json(&retried);
    }
    let recorded = match retried.recorded {
        0 => "No further entry could be recorded.".to_owned(),
        1 => "1 entry is in the ledger now.".to_owned(),
        number => format!("{} entries are in the ledger now.", words::grouped(number)),
    };
    output::line(&recorded)?;
    aside(retried.set_aside, &retried.aside)
}

/// What is set aside, with the reasons.
fn aside(count: u64, lines: &[AsideLine]) -> Result<(), Failure> {
    if count == 0 {
        return output::line("Nothing is set aside.");
    }
    let what = if count == 1 { "1 thing is".to_owned() } else { format!("{} things are", words::grouped(count)) };
    output::line(&format!("{what} set aside and not in the ledger; `wendor spool retry` tries again:"))?;
    let columns = [
        Column::Text("request"),
        Column::Text("team"),
        Column::Text("arrived"),
        Column::Number("bytes"),
        Column::Text("why"),
        Column::Text("file"),
    ];
    let dash = |text: &Option<String>| text.clone().unwrap_or_else(|| "-".to_owned());
    let row = |line: &AsideLine| {
        vec![
            dash(&line.request),
            dash(&line.team),
            line.at.map_or_else(|| "-".to_owned(), words::instant),
            words::grouped(line.bytes),
            line.why.clone(),
            line.name.clone(),
        ]
    };
    output::table(&columns, lines.iter().map(row).collect(), "")
}

async fn partitions(management: &Management, reader: Reader) -> Result<(), Failure> {
    let partitions: Partitions = management.get("/ledger/partitions", &[]).await?;
    if reader == Reader::Program {
        return output::json(&partitions);
    }
    let columns = [
        Column::Text("table"),
        Column::Text("month"),
        Column::Number("lines, about"),
        Column::Number("size"),
        Column::Text("partition"),
    ];
    let rows = partitions.partitions.iter().map(|partition| {
        vec![
            partition.table.clone(),
            partition.month.map_or_else(|| "any other".to_owned(), |month| month.format("%B %Y").to_string()),
            partition.lines.map_or_else(|| "not counted yet".to_owned(), words::grouped),
            words::disk_size(partition.bytes),
            partition.name.clone(),
        ]
    });
    output::table(&columns, rows.collect(), "There are no partitions yet: the first entry creates one.")?;
    let kept = partitions.kept.iter().map(|kept| match kept.days {
        None => format!("{} for ever", kept.table),
        Some(days) => format!("{} for {days} days", kept.table),
    });
    let settings = partitions.kept.iter().map(|kept| format!("`{}`", kept.setting));
    output::line(&format!(
        "Kept by whole months: {} (settings {}).",
        kept.collect::<Vec<_>>().join(", "),
        settings.collect::<Vec<_>>().join(", ")
    ))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::empty(
        0,
        0,
        true,
        "Nothing is pending: the database has every entry. Its files take 2.0 KiB. 1.0 GiB are free on its disk; below 64.0 MiB requests are refused."
    )]
    #[case::set_aside(
        0,
        2,
        true,
        "Nothing waits for the database but what is set aside below. Its files take 2.0 KiB."
    )]
    #[case::full(
        3,
        0,
        false,
        "3 entries wait for the database. Its files take 2.0 KiB. Requests are refused: 1.0 GiB are free on its disk, and 64.0 MiB are needed."
    )]
    fn the_spool_in_words(#[case] pending: u64, #[case] set_aside: u64, #[case] writable: bool, #[case] words: &str) {
        let spool = SpoolLine {
            pending,
            bytes: 2_048,
            writable,
            free_bytes: Some(1 << 30),
            keep_free_bytes: 64 << 20,
            set_aside,
            aside: Vec::new(),
            database_reachable: true,
        };
        assert!(state(&spool).starts_with(words), "{}", state(&spool));
    }
}
