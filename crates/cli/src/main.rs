//! The `nepheline` command. It parses the arguments, calls the library, prints, and maps the outcome to an
//! exit code: 0 for success, 1 for a failure, 2 for wrong arguments.

mod screen;
mod tour;

use std::io;
use std::process::ExitCode;

use clap::{Parser, Subcommand};

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
}

fn main() -> ExitCode {
    let arguments = Arguments::parse();
    let outcome = match &arguments.command {
        Command::Tour(options) => tour::run(options, &mut Screen::stdout()),
    };
    match outcome {
        Ok(()) => ExitCode::SUCCESS,
        // The reader of the output has closed it.
        Err(err) if is_closed_pipe(&err) => ExitCode::SUCCESS,
        Err(err) => {
            anstream::eprintln!("nepheline: {}", told(&err));
            ExitCode::FAILURE
        }
    }
}

/// Returns the error and its causes in one line, each once.
fn told(err: &anyhow::Error) -> String {
    let mut line = String::new();
    for cause in err.chain() {
        // The library's own error already shows all its causes.
        if let Some(cause) = cause.downcast_ref::<nepheline::Error>() {
            let gap = if line.is_empty() { "" } else { ": " };
            return format!("{line}{gap}{cause:#}");
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
