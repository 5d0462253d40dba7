//! The line editor: its prompt, its keys, its history, and what Tab completes.

use std::borrow::Cow;
use std::fs;
use std::path::PathBuf;
use std::sync::Arc;

use anyhow::{Context as _, Result};
use clap::ValueEnum as _;
use nepheline_live::{LiveName, LiveTables};
use reedline::{
    ColumnarMenu, Completer, EditCommand, Emacs, FileBackedHistory, KeyCode, KeyModifiers,
    MenuBuilder as _, Prompt, PromptEditMode, PromptHistorySearch, Reedline, ReedlineEvent,
    ReedlineMenu, Span, Suggestion, ValidationResult, Validator, default_emacs_keybindings,
};

use super::line::{CLAUSES, COMMANDS, Clause, Cursor, cursor, is_complete};
use crate::answer::Form;

/// The number of lines that the history keeps.
const LINES_KEPT: usize = 1_000;

/// The name of the menu of completions, which the keys open.
const MENU: &str = "completions";

/// The aggregates of `total`.
const TOTALS: [&str; 6] = ["avg(", "count", "count(", "max(", "min(", "sum("];

/// The words of a condition.
const CONDITIONS: [&str; 9] =
    ["AND", "BETWEEN", "DATE('", "FALSE", "IN (", "IS NULL", "LIKE '", "NOT", "OR"];

/// Returns the line editor for a database.
pub(super) fn editor(tables: &Arc<LiveTables>) -> Result<Reedline> {
    let mut keys = default_emacs_keybindings();
    let complete = vec![ReedlineEvent::Menu(MENU.to_owned()), ReedlineEvent::MenuNext];
    keys.add_binding(KeyModifiers::NONE, KeyCode::Tab, ReedlineEvent::UntilFound(complete));
    let new_line = ReedlineEvent::Edit(vec![EditCommand::InsertNewline]);
    keys.add_binding(KeyModifiers::ALT, KeyCode::Enter, new_line);
    let menu = ColumnarMenu::default().with_name(MENU);
    let editor = Reedline::create()
        .with_completer(Box::new(Names { tables: tables.clone() }))
        .with_menu(ReedlineMenu::EngineCompleter(Box::new(menu)))
        .with_quick_completions(true)
        .with_partial_completions(true)
        .with_validator(Box::new(WholeLines))
        .with_edit_mode(Box::new(Emacs::new(keys)))
        .with_ansi_colors(std::env::var_os("NO_COLOR").is_none_or(|value| value.is_empty()))
        .use_bracketed_paste(true);
    Ok(match history_file()? {
        Some(file) => {
            let history = FileBackedHistory::with_file(LINES_KEPT, file.clone());
            let history = history.with_context(|| format!("cannot use {}", file.display()))?;
            editor.with_history(Box::new(history))
        }
        None => editor,
    })
}

/// Returns the file of earlier lines, in the folder for the state of the user's programs.
fn history_file() -> Result<Option<PathBuf>> {
    let Some(folder) = dirs::state_dir().or_else(dirs::data_local_dir) else { return Ok(None) };
    let folder = folder.join("nepheline");
    fs::create_dir_all(&folder).with_context(|| format!("cannot create {}", folder.display()))?;
    Ok(Some(folder.join("history")))
}

/// The prompt, in the colours of the terminal.
pub(super) struct LinePrompt;

impl Prompt for LinePrompt {
    fn render_prompt_left(&self) -> Cow<'_, str> {
        "nepheline".into()
    }

    fn render_prompt_right(&self) -> Cow<'_, str> {
        "".into()
    }

    fn render_prompt_indicator(&self, _: PromptEditMode) -> Cow<'_, str> {
        "> ".into()
    }

    fn render_prompt_multiline_indicator(&self) -> Cow<'_, str> {
        "         | ".into()
    }

    fn render_prompt_history_search_indicator(&self, search: PromptHistorySearch) -> Cow<'_, str> {
        format!(" earlier line with `{}`: ", search.term).into()
    }
}

/// Lets a line go on while something is open in it. An empty line ends it all the same.
struct WholeLines;

impl Validator for WholeLines {
    fn validate(&self, text: &str) -> ValidationResult {
        match is_complete(text) || text.ends_with('\n') {
            true => ValidationResult::Complete,
            false => ValidationResult::Incomplete,
        }
    }
}

/// Completes the names of a database and the words of the console.
struct Names {
    tables: Arc<LiveTables>,
}

impl Completer for Names {
    fn complete(&mut self, line: &str, place: usize) -> Vec<Suggestion> {
        let text = line.get(..place).unwrap_or(line);
        let is_word = |c: char| c.is_alphanumeric() || c == '_' || c == '.';
        let word = text.trim_end_matches(is_word).len();
        let (start, mut found) = match cursor(text) {
            Cursor::First => (word, self.first(text)),
            Cursor::AfterCommand(command) => (word, self.after(&command)),
            Cursor::InQuestion { table, clause } => {
                (word, self.in_question(&table, clause, &text[word..]))
            }
            // The text begins behind its quote, and may have spaces.
            Cursor::InText { table, name } => {
                (text.rfind('\'').map_or(word, |quote| quote + 1), self.values(&table, &name))
            }
        };
        let written = &text[start..];
        found.retain(|candidate| {
            let begin = candidate.text.get(..written.len());
            begin.is_some_and(|begin| begin.eq_ignore_ascii_case(written))
        });
        found.sort_by(|a, b| a.text.cmp(&b.text));
        found.dedup_by(|a, b| a.text == b.text);
        let suggestion = |candidate: Candidate| Suggestion {
            value: candidate.text,
            append_whitespace: candidate.is_followed,
            span: Span::new(start, place),
            ..Suggestion::default()
        };
        found.into_iter().map(suggestion).collect()
    }
}

/// A completion.
struct Candidate {
    text: String,
    /// True if another word follows it.
    is_followed: bool,
}

/// Returns completions that another word follows.
fn words<T: Into<String>>(texts: impl IntoIterator<Item = T>) -> impl Iterator<Item = Candidate> {
    texts
        .into_iter()
        .map(|text| Candidate { text: text.into(), is_followed: true })
}

/// Returns completions of which the user says what follows.
fn parts<T: Into<String>>(texts: impl IntoIterator<Item = T>) -> impl Iterator<Item = Candidate> {
    texts
        .into_iter()
        .map(|text| Candidate { text: text.into(), is_followed: false })
}

fn clauses() -> impl Iterator<Item = Candidate> {
    words(CLAUSES.iter().map(|(_, name, _)| *name))
}

impl Names {
    /// Returns the words that begin a line.
    fn first(&self, text: &str) -> Vec<Candidate> {
        let commands = COMMANDS.iter().map(|(name, ..)| *name);
        // Only a question follows `plan`.
        let commands = commands.filter(|_| !text.trim_start().contains(' '));
        words(self.tables.names()).chain(words(commands)).collect()
    }

    fn after(&self, command: &str) -> Vec<Candidate> {
        match command {
            "names" => words(self.tables.names()).collect(),
            "sql" => parts(["on", "off"]).collect(),
            "as" => {
                let forms = Form::value_variants().iter();
                let forms = forms.filter_map(|form| form.to_possible_value());
                forms
                    .flat_map(|form| parts([form.get_name().to_owned()]))
                    .collect()
            }
            _ => Vec::new(),
        }
    }

    fn in_question(&self, table: &str, clause: Option<Clause>, word: &str) -> Vec<Candidate> {
        let Some(clause) = clause else { return clauses().collect() };
        let (path, prefix) = match word.rsplit_once('.') {
            Some((path, _)) => (path, format!("{path}.")),
            None => ("", String::new()),
        };
        let names = self.tables.names_of(table, path).into_iter().flatten();
        let names = names.map(|name| match name {
            LiveName::Column { name, .. } => format!("{prefix}{name}"),
            relation => format!("{prefix}{}.", relation.name()),
        });
        let mut found: Vec<Candidate> = parts(names).collect();
        if path.is_empty() {
            found.extend(clauses());
            match clause {
                Clause::Total => found.extend(parts(TOTALS)),
                Clause::Where | Clause::Having => found.extend(parts(CONDITIONS)),
                _ => {}
            }
        }
        found
    }

    /// Returns the values that a column of an enum type may have.
    fn values(&self, table: &str, name: &str) -> Vec<Candidate> {
        let (path, column) = name.rsplit_once('.').unwrap_or(("", name));
        let names = self.tables.names_of(table, path).into_iter().flatten();
        let mut columns = names.filter(|found| found.name() == column);
        match columns.next() {
            Some(LiveName::Column { enum_values, .. }) => parts(enum_values).collect(),
            _ => Vec::new(),
        }
    }
}
