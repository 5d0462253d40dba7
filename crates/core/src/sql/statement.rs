//! A statement ready for a driver: its text, its binds, and what the library knows of it.

use std::borrow::Cow;
use std::ops::Deref;
use std::panic::Location;
use std::sync::Arc;

use smallvec::SmallVec;

use super::binds::Binds;
use super::operation::Operation;
use super::shown::{Mark, Sql};
use super::writer::{self, NewValues, Writer};
use crate::dialect::Grammar;
use crate::model::{
    BindValue, ColumnInfo, Error, ErrorKind, Function, LentBind, Origin, TableInfo, WantedColumns,
};
use crate::plan::write::{Changing, NewRows, OnConflict, Target};
use crate::plan::{Planned, ReadShape};
use crate::tree::PolicyUse;

/// A compiled statement, ready for a driver. Its binds are borrowed from the query where they are unchanged.
#[doc(hidden)]
#[derive(Debug)]
pub struct Statement<'q> {
    pub(super) parts: Held<'q>,
    pub(super) binds: Binds<'q>,
    /// The line that asked for it.
    pub(super) origin: Origin,
}

/// All of a statement but its binds.
#[derive(Debug, Clone)]
pub(super) struct Parts {
    pub(super) grammar: &'static dyn Grammar,
    pub(super) text: String,
    pub(super) marks: Vec<Mark>,
    pub(super) most_rows: usize,
    /// The numbers of the key cells, which connect a row to others.
    pub(super) key_cells: SmallVec<[usize; 2]>,
    pub(super) operation: Operation,
    /// The tables that it reads or writes, each once.
    pub(super) tables: Tables,
    /// True if its text occurs once, so that a driver need not cache the prepared statement.
    pub(super) once: bool,
    /// True if PostgreSQL plans it for its values each time it runs.
    pub(super) plans_for_values: bool,
    /// True if the text depends on the value of a bind parameter.
    pub(super) depends_on_values: bool,
    pub(super) alters_session: bool,
    /// The COPY that writes its rows, if it is one.
    pub(super) copying: Option<Copying>,
    /// The columns that are matched by name, in a hand-written statement: those of each result set.
    pub(super) wanted: Option<Arc<[WantedColumns]>>,
    /// True if it would commit the transaction that it stands in.
    pub(super) commits: bool,
    /// The schema in which hand-written text of it finds names, if the engine has a search path.
    pub(super) search_path: Option<Arc<str>>,
}

/// The parts of a statement, which a prepared query lends. They are large to move, so they are boxed otherwise.
#[derive(Debug)]
pub(super) enum Held<'q> {
    Lent(&'q Parts),
    Own(Box<Parts>),
}

impl Deref for Held<'_> {
    type Target = Parts;

    #[inline]
    fn deref(&self) -> &Parts {
        match self {
            Held::Lent(parts) => parts,
            Held::Own(parts) => parts,
        }
    }
}

impl Held<'_> {
    /// Returns the parts for changes, which are copied first if they are lent.
    pub(super) fn to_mut(&mut self) -> &mut Parts {
        let own = match *self {
            Held::Own(ref mut parts) => return parts,
            Held::Lent(parts) => Box::new(parts.clone()),
        };
        *self = Held::Own(own);
        self.to_mut()
    }

    fn into_owned(self) -> Box<Parts> {
        match self {
            Held::Own(parts) => parts,
            Held::Lent(parts) => Box::new(parts.clone()),
        }
    }
}

/// The purpose of a statement.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Purpose {
    /// A driver runs it, and needs only the text and the binds.
    Run,
    /// People read it, and need the clauses with their origins.
    Show,
    /// It is run many times, with values for its bind parameters.
    Prepare,
}

/// The data that a driver needs for a COPY.
#[doc(hidden)]
#[derive(Debug, Clone)]
pub struct Copying {
    /// The number of values of a row.
    pub columns: usize,
    /// The table, as it is written in statements.
    pub table: Box<str>,
    /// A query whose columns have the types of these values.
    pub types: Box<str>,
}

/// The names of tables, with inline capacity for what most statements read.
pub(crate) type Tables = SmallVec<[&'static str; 2]>;

impl<'q> Statement<'q> {
    /// Writes a query that is read.
    pub(crate) fn of_read(
        planned: &Planned<'q>,
        grammar: &'static dyn Grammar,
        shape: ReadShape,
        purpose: Purpose,
    ) -> Result<Statement<'q>, Error> {
        match planned.lent() {
            Some(plan) => Writer::new(plan, grammar, purpose).write(shape),
            None => {
                let writer = Writer::new(planned.plan(), grammar, purpose);
                Ok(writer.write(shape)?.into_owned_binds())
            }
        }
    }

    /// Writes a query with bind parameters, whose lists count as lists of this length.
    pub(crate) fn of_template<'p>(
        planned: &'p Planned<'p>,
        grammar: &'static dyn Grammar,
        shape: ReadShape,
        list_length: usize,
    ) -> Result<Statement<'p>, Error> {
        let writer = Writer::new(planned.plan(), grammar, Purpose::Prepare);
        writer.with_lists_of(list_length).write(shape)
    }

    /// Writes a statement of an update or a delete.
    pub(crate) fn of_change(
        changing: Changing,
        grammar: &'static dyn Grammar,
    ) -> Result<Statement<'q>, Error> {
        match changing {
            Changing::Change { target, returning } => {
                let writer = Writer::new(target.plan(), grammar, Purpose::Run);
                Ok(writer.write_change(&target, returning)?.into_owned_binds())
            }
            Changing::Find(planned) => {
                let mut statement =
                    Statement::of_read(&planned, grammar, ReadShape::Rows, Purpose::Run)?;
                let values = planned.plan().select().values.as_ref();
                statement.parts.to_mut().key_cells =
                    (0..values.map_or(0, |values| values.what.len())).collect();
                Ok(statement.into_owned_binds())
            }
            Changing::ReadBack(planned) => {
                let statement =
                    Statement::of_read(&planned, grammar, ReadShape::Rows, Purpose::Run)?;
                Ok(statement.into_owned_binds())
            }
        }
    }

    /// Writes an update or a delete for people to read.
    pub(crate) fn shown_change(
        target: Target,
        grammar: &'static dyn Grammar,
    ) -> Result<Sql, Error> {
        let writer = Writer::new(target.plan(), grammar, Purpose::Show);
        let sql = writer.write_change(&target, false)?.into_sql(Vec::new());
        Ok(sql.with_policies(target.into_met()))
    }

    pub(crate) fn to_insert(
        new: NewRows<'_>,
        binds: Binds<'q>,
        grammar: &'static dyn Grammar,
        at: Origin,
    ) -> Result<Statement<'q>, Error> {
        writer::insert(new, binds, grammar, at)
    }

    pub(crate) fn to_insert_computed(
        new: NewValues<'_>,
        grammar: &'static dyn Grammar,
    ) -> Result<Statement<'static>, Error> {
        writer::insert_computed(new, grammar)
    }

    pub(crate) fn to_copy(
        new: &NewRows<'_>,
        binds: Binds<'q>,
        grammar: &'static dyn Grammar,
        at: Origin,
    ) -> Result<Statement<'q>, Error> {
        writer::copy(new, binds, grammar, at)
    }

    /// Returns the data of a COPY, if it is one.
    pub fn copying(&self) -> Option<&Copying> {
        self.parts.copying.as_ref()
    }

    /// Adds the conflict clause to an insert.
    pub(crate) fn on_conflict(self, conflict: &OnConflict) -> Result<Statement<'q>, Error> {
        writer::on_conflict(self, conflict)
    }

    /// Turns the query into an INSERT of its rows.
    pub(crate) fn inserted_into<'o>(
        mut self,
        table: &'static TableInfo,
        columns: &[&'static ColumnInfo],
        returning: bool,
        schema: Option<&Arc<str>>,
    ) -> Result<Statement<'o>, Error> {
        writer::insert_before(&mut self, table, columns, returning, schema);
        Ok(self.into_owned_binds())
    }

    /// Adds the clause that returns the rows, if they are wanted.
    pub(crate) fn returning(
        mut self,
        table: &'static TableInfo,
        shape: bool,
    ) -> Result<Statement<'q>, Error> {
        if shape {
            writer::return_inserted(&mut self, table)?;
        }
        Ok(self)
    }

    /// Makes it return the keys of its rows, where it returns their columns.
    pub(crate) fn telling_keys(mut self, table: &'static TableInfo) -> Statement<'q> {
        let columns = table.columns().iter().enumerate();
        self.parts.to_mut().key_cells = columns
            .filter(|(_, column)| column.is_key())
            .map(|(place, _)| place)
            .collect();
        self
    }

    /// Adds the expression that tells for each row whether it was inserted, where the engine has one.
    pub(crate) fn telling_inserted(mut self) -> Statement<'q> {
        let form = self.parts.grammar.upsert();
        let tells_inserted = form.and_then(|form| form.tells_inserted);
        self.parts
            .to_mut()
            .text
            .push_str(tells_inserted.unwrap_or_default());
        self
    }

    /// Returns the statement for people, with the policies of the statement.
    pub(crate) fn into_sql(self, met: Vec<PolicyUse>) -> Sql {
        let Parts { grammar, text, marks, .. } = *self.parts.into_owned();
        Sql::new(grammar, text, self.binds.into_values(), marks, met)
    }

    /// Returns a statement with text of the library or of a test, never with a user's value.
    #[track_caller]
    pub fn of_text(
        grammar: &'static dyn Grammar,
        text: impl Into<String>,
        binds: Vec<BindValue>,
    ) -> Self {
        let parts = Parts {
            grammar,
            text: text.into(),
            marks: Vec::new(),
            most_rows: usize::MAX,
            key_cells: SmallVec::new(),
            operation: Operation::HandWritten,
            tables: Tables::new(),
            once: false,
            plans_for_values: false,
            depends_on_values: false,
            alters_session: true,
            copying: None,
            wanted: None,
            commits: false,
            search_path: None,
        };
        let origin = Origin::of(Location::caller());
        Statement { parts: Held::Own(Box::new(parts)), binds: Binds::of_values(binds), origin }
    }

    /// Returns the same statement, counted as another operation.
    #[must_use]
    pub fn doing(mut self, operation: Operation) -> Self {
        self.parts.to_mut().operation = operation;
        self.parts.to_mut().alters_session = false;
        self
    }

    /// Returns the same statement, as hand-written text of the program, which may change session settings.
    #[must_use]
    pub fn of_program(mut self, operation: Operation) -> Self {
        self.parts.to_mut().operation = operation;
        self.parts.to_mut().alters_session = true;
        self.parts.to_mut().commits =
            self.parts.grammar.commits_by_ddl() && begins_with_ddl(&self.parts.text);
        self
    }

    /// Returns the same statement, which this line of the program asked for.
    #[must_use]
    pub fn begun_at(mut self, origin: Origin) -> Self {
        self.origin = origin;
        self
    }

    /// Returns the same statement, whose text finds names in a schema.
    #[must_use]
    pub fn in_search_path(mut self, schema: Option<&Arc<str>>) -> Self {
        self.parts.to_mut().search_path = schema.cloned();
        self
    }

    /// Returns the schema in which hand-written text finds names.
    pub fn search_path(&self) -> Option<&str> {
        self.parts.search_path.as_deref()
    }

    /// Returns whether the engine would commit the transaction that the statement stands in.
    pub fn commits_implicitly(&self) -> bool {
        self.parts.commits
    }

    /// Returns the same statement, whose columns are matched by name.
    pub(crate) fn wanting(mut self, wanted: Arc<[WantedColumns]>) -> Self {
        self.parts.to_mut().wanted = Some(wanted);
        self
    }

    /// Returns whether its columns are matched by name.
    pub fn is_matched_by_name(&self) -> bool {
        self.parts.wanted.is_some()
    }

    /// Returns the places of the cells that the row type asks for: of the keys, or, in a hand-written statement, of
    /// all columns of the result set with this number, whose names `arrived` are.
    pub fn cell_places(
        &self,
        set: usize,
        arrived: impl FnOnce() -> Vec<String>,
    ) -> Result<Cow<'_, [usize]>, Error> {
        match &self.parts.wanted {
            None => Ok(Cow::Borrowed(&self.parts.key_cells)),
            Some(sets) => {
                let arrived = arrived();
                let names: Vec<&str> = arrived.iter().map(String::as_str).collect();
                match sets.get(set) {
                    Some(wanted) => wanted.places(&names).map(Cow::Owned),
                    None => Ok(Cow::Borrowed(&[])),
                }
            }
        }
    }

    /// Returns the EXPLAIN of this statement; with `analyze` it also runs and measures it.
    pub fn explained(mut self, analyze: bool) -> Result<Statement<'q>, Error> {
        let Some(verb) = self.parts.grammar.explain(analyze) else {
            let way_out = "use `explain`, which does not run the query";
            return Err(Error::unsupported("measuring a plan", self.parts.grammar.name(), way_out));
        };
        let opening = self.parts.grammar.forgetful().unwrap_or_default();
        let place = if self.parts.text.starts_with(opening) { opening.len() } else { 0 };
        self.parts.to_mut().text.insert_str(place, verb);
        self.parts.to_mut().most_rows = usize::MAX;
        // The lines of a plan have columns of their own.
        self.parts.to_mut().wanted = None;
        Ok(self)
    }

    /// Adds a comment at the end, for this run only. The caller must ensure that the text cannot end the
    /// comment.
    pub fn comment(&mut self, text: &str) {
        let own = &mut self.parts.to_mut().text;
        own.push_str(" /*");
        own.push_str(text);
        own.push_str("*/");
        self.parts.to_mut().once = true;
    }

    /// Marks the text as one that will not occur again.
    #[must_use]
    pub fn once(mut self) -> Self {
        self.parts.to_mut().once = true;
        self
    }

    /// Returns whether its text will not occur again, so that a prepared statement need not be cached.
    pub fn is_of_once(&self) -> bool {
        self.parts.once
    }

    /// Returns whether it is planned for its values each time it runs, where the engine would otherwise reuse a plan.
    pub fn plans_for_values(&self) -> bool {
        self.parts.plans_for_values
    }

    /// Returns whether hand-written text of it may change session settings, which outlast it.
    pub fn may_alter_session(&self) -> bool {
        self.parts.alters_session || self.parts.search_path.is_some()
    }

    /// Returns the same statement without borrowing.
    pub fn into_owned_binds<'o>(self) -> Statement<'o> {
        let Statement { parts, binds, origin } = self;
        Statement { parts: Held::Own(parts.into_owned()), binds: binds.into_owned(), origin }
    }

    /// Returns a copy of the statement that owns its binds, for a driver on another thread.
    pub fn to_owned_binds(&self) -> Statement<'static> {
        let binds = self.binds.iter().map(|bind| bind.to_value()).collect();
        self.lent(Binds::of_values(binds)).into_owned_binds()
    }

    /// Returns the statement with other binds.
    pub(super) fn lent<'s>(&'s self, binds: Binds<'s>) -> Statement<'s> {
        Statement { parts: Held::Lent(&self.parts), binds, origin: self.origin }
    }

    /// Adds to an error the SQL that was run, and the line that asked for it.
    #[cold]
    pub fn context(&self, err: Error) -> Error {
        match err.kind() {
            ErrorKind::Mismatch | ErrorKind::RefusedValue | ErrorKind::PoolExhausted => err,
            _ => err.in_sql(&self.parts.text),
        }
        .asked_at(self.origin)
    }

    pub fn text(&self) -> &str {
        &self.parts.text
    }

    pub fn binds(&self) -> impl ExactSizeIterator<Item = LentBind<'_>> {
        self.binds.iter()
    }

    /// Passes each bind to `take`, in order.
    #[inline]
    pub fn each_bind<'b>(&'b self, mut take: impl FnMut(LentBind<'b>)) {
        self.binds.each(&mut take);
    }

    /// Returns the largest number of rows to fetch; a driver does not ask for one more.
    pub fn most_rows(&self) -> usize {
        self.parts.most_rows
    }

    /// Returns the numbers of the key cells, in the order of the keys.
    pub fn key_cells(&self) -> &[usize] {
        &self.parts.key_cells
    }

    /// Returns whether it runs on a server, which sees comments.
    pub fn is_of_server(&self) -> bool {
        self.parts.grammar.is_of_server()
    }

    pub fn operation(&self) -> Operation {
        self.parts.operation
    }

    /// Returns the tables that it reads or writes, each once, its own table first.
    pub fn tables(&self) -> &[&'static str] {
        &self.parts.tables
    }

    /// Returns the line where the query begins.
    pub fn origin(&self) -> Origin {
        self.origin
    }
}

/// Returns whether a text begins like a statement before which MariaDB and MySQL commit ("Statements That Cause an
/// Implicit Commit").
fn begins_with_ddl(text: &str) -> bool {
    const WORDS: [&str; 11] = [
        "ALTER", "ANALYZE", "CREATE", "DROP", "GRANT", "LOCK", "OPTIMIZE", "RENAME", "REPAIR",
        "REVOKE", "TRUNCATE",
    ];
    let mut words = Function::without_comments(text).split_whitespace();
    let first = words.next().unwrap_or_default();
    let is_temporary = words
        .next()
        .is_some_and(|word| word.eq_ignore_ascii_case("TEMPORARY"));
    WORDS.iter().any(|word| word.eq_ignore_ascii_case(first)) && !is_temporary
}
