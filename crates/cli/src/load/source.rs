//! The file: its columns and its rows, each with its line.

use std::fs::File;
use std::mem;
use std::path::{Path, PathBuf};

use anyhow::{Context as _, Result, anyhow, bail};
use csv::{ByteRecord, Position, StringRecord};
use heck::ToSnakeCase as _;
use indicatif::{ProgressBar, ProgressStyle};

/// The longest name of a column that all engines take, in bytes.
const LONGEST_NAME: usize = 63;

/// A CSV file.
pub(super) struct Source {
    path: PathBuf,
    separator: u8,
    /// The texts that stand for NULL, besides the empty one.
    nulls: Vec<String>,
    /// The headings of the file.
    pub(super) headings: Vec<String>,
    /// The number of bytes.
    size: u64,
}

impl Source {
    pub(super) fn open(path: &Path, separator: u8, nulls: &[String]) -> Result<Source> {
        let size = path
            .metadata()
            .with_context(|| format!("cannot read {}", path.display()))?;
        let mut source = Source {
            path: path.to_owned(),
            separator,
            nulls: nulls.to_vec(),
            headings: Vec::new(),
            size: size.len(),
        };
        let mut reader = source.reader(&ProgressBar::hidden())?;
        let headings = reader.headers().map_err(|err| source.broken(&err))?;
        // A mark of the byte order at the beginning is no part of the first name.
        let headings = headings
            .iter()
            .map(|name| name.trim_start_matches('\u{feff}').trim());
        source.headings = headings.map(str::to_owned).collect();
        if let [only] = source.headings.as_slice() {
            let others = [(b';', "';'"), (b'\t', "tab"), (b'|', "'|'"), (b',', "','")];
            let found = others
                .iter()
                .find(|(other, _)| *other != separator && only.contains(char::from(*other)));
            if let Some((_, name)) = found {
                bail!(
                    "{}: the first line is one column, `{only}`; --separator {name} splits it",
                    source.name()
                );
            }
        }
        if source.headings.iter().all(String::is_empty) {
            bail!("{}: the first line has to name the columns", source.name());
        }
        Ok(source)
    }

    /// Returns the name of the file.
    pub(super) fn name(&self) -> String {
        self.path.display().to_string()
    }

    /// Returns the name for a table of the file.
    pub(super) fn table(&self) -> String {
        let stem = self.path.file_stem().unwrap_or_default();
        named(&stem.to_string_lossy()).unwrap_or_else(|| "loaded".to_owned())
    }

    /// Returns the names of new columns for the headings: `Depth (m)` becomes `depth_m`.
    pub(super) fn new_names(&self) -> Result<Vec<String>> {
        let names = self.headings.iter().enumerate().map(|(number, heading)| {
            named(heading).unwrap_or_else(|| format!("column_{}", number + 1))
        });
        let names: Vec<String> = names.collect();
        for (number, name) in names.iter().enumerate() {
            let before = names
                .iter()
                .position(|other| other == name)
                .unwrap_or(number);
            if before < number {
                let [first, second] = [before, number].map(|place| self.headings[place].as_str());
                bail!(
                    "{}: the columns `{first}` and `{second}` would both be named `{name}`",
                    self.name()
                );
            }
            if name.len() > LONGEST_NAME {
                bail!(
                    "{}: the name of the column `{name}` is longer than {LONGEST_NAME} bytes",
                    self.name()
                );
            }
        }
        Ok(names)
    }

    /// Passes each row with its line to a function. A bar shows the progress on a terminal.
    pub(super) fn each_row(
        &self,
        doing: &str,
        mut see: impl FnMut(&Row<'_>) -> Result<()>,
    ) -> Result<u64> {
        let bar = ProgressBar::new(self.size).with_message(doing.to_owned());
        let style = ProgressStyle::with_template("{msg:24} {wide_bar} {percent:>3} %  {elapsed}");
        bar.set_style(style.unwrap_or_else(|_| ProgressStyle::default_bar()));
        let read = self.each_row_under(&bar, &mut see);
        bar.finish_and_clear();
        read
    }

    fn each_row_under(
        &self,
        bar: &ProgressBar,
        see: &mut dyn FnMut(&Row<'_>) -> Result<()>,
    ) -> Result<u64> {
        let (mut reader, mut record, mut rows) = (self.reader(bar)?, ByteRecord::new(), 0);
        while reader
            .read_byte_record(&mut record)
            .map_err(|err| self.broken(&err))?
        {
            let line = line_of(&record, reader.position());
            let text = StringRecord::from_byte_record(mem::take(&mut record)).map_err(|err| {
                let (name, number) = (self.name(), err.utf8_error().field() + 1);
                anyhow!("{name}, line {line}, value {number}: the text is not UTF-8")
            })?;
            if text.len() != self.headings.len() {
                let (name, columns) = (self.name(), self.headings.len());
                let values = match text.len() {
                    1 => "1 value".to_owned(),
                    several => format!("{several} values"),
                };
                bail!("{name}, line {line}: {values} for {columns} columns");
            }
            see(&Row { source: self, record: &text, line })?;
            // The next row reuses its memory.
            record = text.into_byte_record();
            rows += 1;
        }
        Ok(rows)
    }

    fn reader(&self, bar: &ProgressBar) -> Result<csv::Reader<indicatif::ProgressBarIter<File>>> {
        let file =
            File::open(&self.path).with_context(|| format!("cannot read {}", self.name()))?;
        let mut form = csv::ReaderBuilder::new();
        form.flexible(true)
            .delimiter(self.separator)
            .buffer_capacity(1 << 20);
        Ok(form.from_reader(bar.wrap_read(file)))
    }

    /// Returns the error for a file that cannot be read.
    fn broken(&self, err: &csv::Error) -> anyhow::Error {
        anyhow!("cannot read {}: {err}", self.name())
    }
}

/// Returns the line on which a row begins, by the place behind it. The reader counts empty lines before a row as a part of it.
fn line_of(record: &ByteRecord, behind: &Position) -> u64 {
    let begun = record.position().map_or(0, Position::line);
    let inside = record.as_slice().iter().filter(|byte| **byte == b'\n');
    let last = behind.line().saturating_sub(1);
    begun.max(last.saturating_sub(inside.count() as u64))
}

/// A row of the file.
pub(super) struct Row<'r> {
    source: &'r Source,
    record: &'r StringRecord,
    /// The line on which it begins.
    pub(super) line: u64,
}

impl Row<'_> {
    /// Returns the values; those that stand for NULL are empty.
    pub(super) fn values(&self) -> impl Iterator<Item = &str> {
        self.record
            .iter()
            .map(|value| match self.source.nulls.iter().any(|null| null == value) {
                true => "",
                false => value,
            })
    }
}

/// Returns the name of a column or table for a text; `None` if it has no letter or digit.
fn named(text: &str) -> Option<String> {
    let name = text.to_snake_case();
    let begins = name.chars().next()?;
    Some(if begins.is_numeric() { format!("_{name}") } else { name })
}
