//! Presets of routes: what a route adds to the requests that ask it.

use std::path::PathBuf;

use clap::{Args, Subcommand};

use super::changing::ChangeArgs;

/// What can be done with the preset of a route.
#[derive(Debug, Subcommand)]
pub enum PresetCommand {
    /// What the route adds to requests.
    #[command(after_help = "Example: wendor route preset show night-sailings")]
    Show {
        /// The route.
        route: String,
    },
    /// Set parts of it; an empty text takes a part away. With --try it is asked a question first, and nothing is changed.
    #[command(
        after_help = "Example: wendor route preset set night-sailings --instructions \"Answer for {{harbour}}.\" --variable \"harbour=North Pier\" --try \"When is the last boat?\""
    )]
    Set(Box<PresetSetArgs>),
    /// Ask an offer of the route a question with the preset as it is.
    #[command(
        after_help = "Example: wendor route preset try night-sailings \"When is the last boat?\" --variable \"harbour=North Pier\""
    )]
    Try {
        /// The route.
        route: String,
        /// What is asked.
        question: String,
        #[command(flatten)]
        trial: TrialArgs,
        /// A variable with its value; may be given several times.
        #[arg(long, value_name = "NAME=VALUE")]
        variable: Vec<String>,
    },
    /// The revisions in which it changed, the latest first.
    #[command(after_help = "Example: wendor route preset versions night-sailings")]
    Versions {
        /// The route.
        route: String,
    },
    /// Put the preset of a revision in force again; the rest of the catalogue stays.
    #[command(after_help = "Example: wendor route preset restore night-sailings 41")]
    Restore {
        /// The route.
        route: String,
        /// The revision, as `versions` lists it.
        revision: i64,
        #[command(flatten)]
        how: ChangeArgs,
    },
    /// Take it away: the route adds nothing any more.
    #[command(after_help = "Example: wendor route preset remove night-sailings --dry-run")]
    Remove {
        /// The route.
        route: String,
        #[command(flatten)]
        how: ChangeArgs,
    },
}

/// Where a preset is tried.
#[derive(Clone, Debug, Args)]
pub struct TrialArgs {
    /// The offer that is asked; the first of the route when absent.
    #[arg(long, value_name = "OFFER")]
    pub offer: Option<String>,
    /// The team that pays; your own when absent.
    #[arg(long, value_name = "NAME")]
    pub team: Option<String>,
}

/// Parts of a preset.
#[derive(Debug, Args)]
pub struct PresetSetArgs {
    /// The route.
    pub route: String,
    /// Standing instructions; `{{name}}` stands for a variable.
    #[arg(long, value_name = "TEXT", conflicts_with = "instructions_from")]
    pub instructions: Option<String>,
    /// A file with the instructions, `-` for standard input.
    #[arg(long, value_name = "FILE")]
    pub instructions_from: Option<PathBuf>,
    /// A variable with its usual value, or `NAME` alone: each request has to give one. May be given several times.
    #[arg(long, value_name = "NAME[=VALUE]")]
    pub variable: Vec<String>,
    /// A question and the answer that shows how to answer; may be given several times, and then these are all.
    #[arg(long, num_args = 2, value_names = ["QUESTION", "ANSWER"])]
    pub example: Vec<String>,
    /// From 0 to 2.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub temperature: Option<String>,
    /// From 0 to 1.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub top_p: Option<String>,
    /// For answers that can be repeated: a whole number.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub seed: Option<String>,
    /// From -2 to 2.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub presence_penalty: Option<String>,
    /// From -2 to 2.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub frequency_penalty: Option<String>,
    /// The most output tokens of one choice.
    #[arg(long, value_name = "NUMBER", allow_negative_numbers = true)]
    pub output_limit: Option<String>,
    /// A text at which the answer ends; may be given several times, and then these are all.
    #[arg(long, value_name = "TEXT")]
    pub stop: Vec<String>,
    /// What requests cannot change: its parts by name; empty for none.
    #[arg(long, value_name = "PARTS", value_delimiter = ',')]
    pub fixed: Option<Vec<String>>,
    /// Ask this question with the preset as it would be, and change nothing.
    #[arg(long = "try", value_name = "QUESTION")]
    pub question: Option<String>,
    #[command(flatten)]
    pub trial: TrialArgs,
    #[command(flatten)]
    pub how: ChangeArgs,
}
