//! The `nepheline` command. It parses the arguments, calls the library, prints, and maps the outcome to an
//! exit code: 0 for success, 1 for a failure, 2 for wrong arguments.

mod answer;
mod compare;
mod console;
mod database;
mod draft;
mod load;
mod query;
mod question;
mod screen;
mod survey;
mod tour;

use std::io::{self, Write as _};
use std::process::ExitCode;

use clap::{CommandFactory as _, Parser, Subcommand};

use screen::Screen;

/// Typed, composable SQL queries that you can read before they run.
#[derive(Debug, Parser)]
#[command(name = "nepheline", version)]
struct Arguments {
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    /// Ask the demo data one question after another, with the Rust, the SQL, the binds and the rows.
    Tour(tour::TourOptions),

    /// Show the tables of a database: columns, keys, references and rows; or some of them in depth.
    Survey(survey::SurveyOptions),

    /// Ask a question of a table, by the names of its columns and relations: filters, orders, groups, totals.
    Query(Box<query::QueryOptions>),

    /// Ask questions line by line, with completion; or, through a pipe, one after the other.
    Console(console::ConsoleOptions),

    /// Load the rows of a CSV file into a table, which it can create: all rows, or none.
    Load(load::LoadOptions),

    /// Write Rust for the tables of a database, or bring Rust that was written before up to date.
    Draft(draft::DraftOptions),

    /// Tell where the structs of Rust files and a database differ, without compiling them.
    Compare(compare::CompareOptions),

    /// Print a script that completes the command in a shell.
    Completions {
        /// The shell.
        shell: clap_complete::Shell,
    },

    /// Print the manual page.
    Man,
}

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let outcome = match &arguments.command {
        Command::Tour(options) => tour::run(options, &mut Screen::stdout()),
        Command::Survey(options) => survey::run(options, &mut Screen::stdout()),
        Command::Query(options) => query::run(options, &mut Screen::stdout()),
        Command::Console(options) => console::run(options),
        Command::Load(options) => load::run(options, &mut Screen::stdout()),
        Command::Draft(options) => return ended(draft::run(options, &mut Screen::stdout())),
        Command::Compare(options) => return ended(compare::run(options, &mut Screen::stdout())),
        Command::Completions { shell } => completions(*shell),
        Command::Man => manual(),
    };
    ended(outcome.map(|()| ExitCode::SUCCESS))
}

fn ended(outcome: anyhow::Result<ExitCode>) -> ExitCode {
    match outcome {
        Ok(code) => code,
        // The reader of the output has closed it.
        Err(err) if is_closed_pipe(&err) => ExitCode::SUCCESS,
        Err(err) => {
            anstream::eprintln!("nepheline: {}", told(&err));
            ExitCode::FAILURE
        }
    }
}

fn completions(shell: clap_complete::Shell) -> anyhow::Result<()> {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Arguments::command(), "nepheline", &mut script);
    Ok(io::stdout().write_all(&script)?)
}

fn manual() -> anyhow::Result<()> {
    let mut page = Vec::new();
    clap_mangen::Man::new(Arguments::command()).render(&mut page)?;
    Ok(io::stdout().write_all(&page)?)
}

/// Returns the error and its causes in one line, each once.
fn told(err: &anyhow::Error) -> String {
    let mut line = String::new();
    for cause in err.chain() {
        // The library's own error already shows all its causes. The SQL and its origin are the command's own.
        if let Some(cause) = cause.downcast_ref::<nepheline::Error>() {
            let gap = if line.is_empty() { "" } else { ": " };
            return format!("{line}{gap}{}", cause.summary());
        }
        if !line.is_empty() {
            line += ": ";
        }
        line += &cause.to_string();
    }
    line
}

fn is_closed_pipe(err: &anyhow::Error) -> bool {
    let io = err.downcast_ref::<io::Error>();
    io.is_some_and(|io| io.kind() == io::ErrorKind::BrokenPipe)
}

#[cfg(test)]
mod tests {
    use clap::CommandFactory;

    #[test]
    fn the_arguments_are_declared_without_contradiction() {
        super::Arguments::command().debug_assert();
    }
}
