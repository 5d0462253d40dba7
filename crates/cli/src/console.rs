//! `nepheline console`: one question after the other, each on a line.

mod editor;
mod line;

use std::fs;
use std::io::{self, BufRead as _, IsTerminal as _};
use std::path::PathBuf;
use std::sync::Arc;

use anyhow::{Context as _, Result, bail};
use clap::Args;
use nepheline::RunsQueries as _;
use nepheline_live::{LiveDatabase as _, LiveName, LiveTables};
use reedline::Signal;

use self::editor::{LinePrompt, editor};
use self::line::{CLAUSES, COMMANDS, Line, is_complete};
use crate::answer::{Answer, Form};
use crate::database::{DatabaseOptions, Served};
use crate::question::Question;
use crate::screen::Screen;

#[derive(Debug, Args)]
#[command(
    after_help = "A line is a table, and clauses in any order: specimen where top_m > 100 per rock total count order -count.\nThe words and options are those of `nepheline query`. The line `help` shows the rest."
)]
pub(crate) struct ConsoleOptions {
    #[command(flatten)]
    database: DatabaseOptions,
}

pub(crate) fn run(options: &ConsoleOptions) -> Result<()> {
    let served = options.database.serve()?;
    let db = served.database();
    let tables = Arc::new(LiveTables::of(&served.wait(db.catalog())?, db.dialect()));
    let mut console =
        Console { served: &served, tables, form: Form::Table, shows_sql: false, last: None };
    match io::stdin().is_terminal() && io::stdout().is_terminal() {
        true => console.converse(),
        false => console.run_script(),
    }
}

struct Console<'s> {
    served: &'s Served,
    tables: Arc<LiveTables>,
    form: Form,
    shows_sql: bool,
    /// The last answer, which can be exported.
    last: Option<Answer>,
}

impl Console<'_> {
    /// Reads lines from a terminal.
    fn converse(&mut self) -> Result<()> {
        let mut editor = editor(&self.tables)?;
        Screen::stdout().line(&format!(
            "{} tables on {}. A question is a table and its clauses; `help` shows them, Tab completes, Ctrl-D leaves.",
            self.tables.names().count(),
            self.served.database().dialect(),
        ))?;
        loop {
            match editor.read_line(&LinePrompt)? {
                Signal::Success(text) => match self.obey(&text) {
                    Ok(true) => {}
                    Ok(false) => return Ok(()),
                    Err(err) if crate::is_closed_pipe(&err) => return Err(err),
                    Err(err) => Screen::stdout().fault(&crate::told(&err))?,
                },
                // At the prompt, Ctrl-C empties the line.
                Signal::CtrlC => {}
                Signal::CtrlD => return Ok(()),
            }
        }
    }

    /// Reads lines from a pipe or file. A line that is indented goes on with the one before. The first that fails ends it.
    fn run_script(&mut self) -> Result<()> {
        let (mut text, mut first) = (String::new(), 1);
        let lines = io::stdin().lock().lines().map(Some).chain([None]);
        for (line, number) in lines.zip(1..) {
            let line = line.transpose().context("cannot read the standard input")?;
            let goes_on = line.as_ref().is_some_and(|line| {
                let is_empty = line.trim().is_empty();
                !is_empty && (line.starts_with(char::is_whitespace) || !is_complete(&text))
            });
            if !goes_on {
                if !self.obey(&text).with_context(|| format!("line {first}"))? {
                    return Ok(());
                }
                text.clear();
                first = number;
            }
            text += &line.unwrap_or_default();
            text.push('\n');
        }
        Ok(())
    }

    /// Does what a line asks for, and returns whether the console goes on.
    fn obey(&mut self, text: &str) -> Result<bool> {
        let mut screen = Screen::stdout();
        match Line::of(text)? {
            Line::Question { table, question } => self.answer(&table, &question, &mut screen)?,
            Line::Plan { table, question } => {
                let query = question.paged(question.asked(self.tables.table(&table)?)?);
                let plan = self.served.wait(self.served.database().explain(&query))?;
                screen.plain(plan.trim_end())?;
            }
            Line::Tables => {
                let names: Vec<Vec<String>> = self
                    .tables
                    .names()
                    .map(|name| vec![name.to_owned()])
                    .collect();
                screen.table(&["table"], &names, names.len())?;
            }
            Line::Names { table, path } => self.show_names(&table, &path, &mut screen)?,
            Line::Sql { shown } => {
                self.shows_sql = shown.unwrap_or(!self.shows_sql);
                screen.line(match self.shows_sql {
                    true => "the SQL is shown before each answer",
                    false => "the SQL is not shown",
                })?;
            }
            Line::As { form } => self.form = form,
            Line::Export { file } => self.export(&file, &mut screen)?,
            Line::Help => help(&mut screen)?,
            Line::Leave => return Ok(false),
            Line::Nothing => {}
        }
        Ok(true)
    }

    fn answer(&mut self, table: &str, question: &Question, screen: &mut Screen) -> Result<()> {
        let query = question.asked(self.tables.table(table)?)?;
        let db = self.served.database();
        if self.shows_sql {
            let sql = question.paged(query.clone()).sql(db.dialect())?;
            screen.sql(&sql, false, true)?;
        }
        let answer = self.served.wait(question.read(db, &query))?;
        let answer = self.last.insert(answer);
        answer.print(self.form, screen)
    }

    fn show_names(&self, table: &str, path: &str, screen: &mut Screen) -> Result<()> {
        let names = self.tables.names_of(table, path)?;
        let rows = names.map(|name| match name {
            LiveName::Column { name, sql_type, nullable, .. } => {
                let null = if nullable { "NULL" } else { "" };
                [name.to_owned(), sql_type.to_string(), null.to_owned()]
            }
            LiveName::Parent { name, table } => {
                [format!("{name}."), format!("one row of {table}"), String::new()]
            }
            LiveName::Children { name, table } => {
                [format!("{name}."), format!("rows of {table}"), String::new()]
            }
            _ => [String::new(), String::new(), String::new()],
        });
        let rows: Vec<Vec<String>> = rows.map(|row| row.to_vec()).collect();
        Ok(screen.whole_table(&["name", "type", "allows"], &rows)?)
    }

    /// Writes the last answer into a file, in the form of its extension.
    fn export(&self, file: &PathBuf, screen: &mut Screen) -> Result<()> {
        let Some(answer) = &self.last else { bail!("there is no answer yet") };
        let extension = file.extension().unwrap_or_default().to_string_lossy();
        let text = match extension.as_ref() {
            "csv" => answer.text(Form::Csv, None)?,
            "json" => answer.text(Form::Json, None)? + "\n",
            "md" => answer.text(Form::Markdown, None)? + "\n",
            "svg" => answer.svg()?,
            other => {
                bail!("no form belongs to the extension `{other}`; use .csv, .json, .md or .svg")
            }
        };
        fs::write(file, text).with_context(|| format!("cannot write {}", file.display()))?;
        let (rows, all) = (answer.rows.len(), answer.all);
        let of_all = if all > rows { format!(" of {all}") } else { String::new() };
        Ok(screen.line(&format!("{rows}{of_all} rows written into {}", file.display()))?)
    }
}

fn help(screen: &mut Screen) -> Result<()> {
    let clauses: Vec<Vec<String>> = CLAUSES
        .iter()
        .zip([
            "depth_m > 100 AND site.region LIKE 'Upper%'",
            "label, borehole.site.region",
            "rock",
            "count, max(top_m) as deepest",
            "count > 80",
            "-deepest, rock",
            "20; 0 for all rows",
            "2",
        ])
        .map(|((_, name, follows), example)| vec![format!("{name} {follows}"), example.to_owned()])
        .collect();
    screen.line("A question is a table, and clauses in any order:")?;
    screen.whole_table(&["clause", "example"], &clauses)?;
    screen.line("")?;
    screen.line("Other lines begin with a word; a table of that name stands in double quotes:")?;
    let commands: Vec<Vec<String>> = COMMANDS
        .iter()
        .map(|(name, follows, does)| {
            vec![format!("{name} {follows}").trim_end().to_owned(), (*does).to_owned()]
        })
        .collect();
    screen.whole_table(&["line", "does"], &commands)?;
    screen.line("")?;
    Ok(screen.line(
        "A line goes on below while a quote, a parenthesis or a condition is open; Alt-Enter begins a new line anywhere. \
         Ctrl-C stops a running statement.",
    )?)
}
