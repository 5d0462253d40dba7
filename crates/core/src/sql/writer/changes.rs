//! INSERT, UPDATE and DELETE.

use std::borrow::Cow;
use std::mem;
use std::sync::Arc;

use smallvec::SmallVec;

use super::{Writer, push_placeholder, written};
use crate::dialect::{Grammar, Placeholder, Quotes, ReturningForm, ReturningOf, UpsertForm};
use crate::model::{BindValue, ColumnInfo, Error, Origin, TableInfo};
use crate::plan::Plan;
use crate::plan::write::{NewRows, OnConflict, Target};
use crate::sql::binds::Binds;
use crate::sql::identifiers::{push_identifier, push_names, push_table};
use crate::sql::operation::Operation;
use crate::sql::shown::Mark;
use crate::sql::statement::{Copying, Purpose, Statement};
use crate::tree::{Assignment, Path, Select, Source};

impl<'q> Writer<'q> {
    /// Writes an UPDATE or DELETE of the rows of its query.
    pub(in crate::sql) fn write_change(
        mut self,
        target: &'q Target,
        returning: bool,
    ) -> Result<Statement<'q>, Error> {
        // Some engines accept WITH only before a SELECT.
        self.inlines = true;
        let mut written = self.write_target(target, returning);
        if written.is_ok() && self.begins_again_for_lists() {
            written = self.write_target(target, returning);
        }
        match written {
            Ok(()) => {
                let operation =
                    if target.deletes() { Operation::Delete } else { Operation::Update };
                Ok(written!(self, operation, usize::MAX, SmallVec::new()))
            }
            Err(err) => Err(err.asked_at(self.asked_at)),
        }
    }

    fn write_target(&mut self, target: &'q Target, returning: bool) -> Result<(), Error> {
        let select = self.select;
        self.mark(select.asked_at);
        self.enter(select, false)?;
        let source = Source { id: select.source, path: Path::HERE };
        let write = if target.deletes() { ReturningOf::Delete } else { ReturningOf::Update };
        let form = match self.grammar.returning(write) {
            _ if !returning => None,
            Some(form) => Some(form),
            None => {
                let (what, way_out) =
                    (GIVING_CHANGED, "write, then read the rows in the same transaction");
                return Err(Error::unsupported(what, self.grammar.name(), way_out));
            }
        };
        if target.deletes() {
            self.push("DELETE FROM ");
            self.write_table(source);
        } else {
            self.push("UPDATE ");
            self.write_table(source);
            let [before_set, after_set] = self.grammar.update_join();
            self.write_update_joins(select, before_set)?;
            if self.grammar.sets_in_turn() {
                check_order(target, false, self.grammar)?;
            }
            self.push(" SET ");
            self.joined(target.sets(), ", ", |this, set| {
                this.push_name(set.column.name());
                this.push(" = ");
                this.in_expression(|this| this.write_value(&set.value))
            })?;
            self.write_update_joins(select, after_set)?;
        }
        push_returning_before(&mut self.text, form, select.table, self.quotes);
        self.write_filters(select)?;
        push_returning_after(&mut self.text, form, select.table, self.quotes);
        Ok(())
    }
}

impl<'q> Writer<'q> {
    /// Writes the joined tables of an UPDATE, if they stand here.
    fn write_update_joins(
        &mut self,
        select: &'q Select,
        before: Option<&'static str>,
    ) -> Result<(), Error> {
        let Some(before) = before else { return Ok(()) };
        for join in &select.joins {
            self.push(before);
            self.write_source(Source { id: join.source, path: Path::HERE }, &join.body)?;
        }
        Ok(())
    }
}

const GIVING_CHANGED: &str = "giving back changed rows";

/// Writes a COPY of rows with the values `binds`, and the query from which the driver learns their types.
pub(in crate::sql) fn copy<'q>(
    new: &NewRows<'_>,
    binds: Binds<'q>,
    grammar: &'static dyn Grammar,
    at: Origin,
) -> Result<Statement<'q>, Error> {
    let quotes = grammar.quotes();
    check_binds(&binds, grammar, at)?;
    let (mut table, mut columns) = (String::new(), String::with_capacity(16 * new.columns.len()));
    push_table(&mut table, new.table, new.schema, quotes);
    push_names(&mut columns, new.columns.iter().copied(), quotes);
    let text = format!("COPY {table} ({columns}) FROM STDIN (FORMAT binary)");
    let types = format!("SELECT {columns} FROM {table}").into();
    let mut statement = inserting(new.table, text, binds, grammar, at);
    statement.parts.to_mut().copying =
        Some(Copying { columns: new.columns.len(), table: table.into(), types });
    Ok(statement)
}

fn check_binds(binds: &Binds<'_>, grammar: &'static dyn Grammar, at: Origin) -> Result<(), Error> {
    if binds.are_ordinary() {
        return Ok(());
    }
    let refused = binds.iter().find_map(|bind| {
        let value = bind.to_value();
        let reason = grammar.refusal(&value)?;
        Some(Error::refused_value(&value, reason).asked_at(at))
    });
    refused.map_or(Ok(()), Err)
}

fn inserting<'q>(
    table: &'static TableInfo,
    text: String,
    binds: Binds<'q>,
    grammar: &'static dyn Grammar,
    at: Origin,
) -> Statement<'q> {
    let mut statement = Statement::of_text(grammar, text, Vec::new()).begun_at(at);
    let parts = statement.parts.to_mut();
    parts.marks = vec![Mark { at: 0, origin: at, relations: SmallVec::new() }];
    parts.operation = Operation::Insert;
    parts.tables = smallvec::smallvec![table.name()];
    parts.alters_session = false;
    Statement { binds, ..statement }
}

/// Writes an INSERT of rows with the values `binds`, one row after the other.
pub(in crate::sql) fn insert<'q>(
    new: NewRows<'_>,
    binds: Binds<'q>,
    grammar: &'static dyn Grammar,
    at: Origin,
) -> Result<Statement<'q>, Error> {
    let quotes = grammar.quotes();
    check_binds(&binds, grammar, at)?;
    let NewRows { table, columns, rows, returning, schema } = new;
    let mut text = String::with_capacity(64 + columns.len() * (16 + 6 * rows));
    text.push_str("INSERT INTO ");
    push_table(&mut text, table, schema, quotes);
    if !columns.is_empty() {
        text.push_str(" (");
        push_names(&mut text, columns.iter().copied(), quotes);
        text.push(')');
    }
    let form = grammar.returning(ReturningOf::Insert).filter(|_| returning);
    push_returning_before(&mut text, form, table, quotes);
    text.push_str(if columns.is_empty() { grammar.default_row() } else { " VALUES " });
    push_rows(&mut text, columns.len(), rows, grammar.placeholder());
    Ok(inserting(table, text, binds, grammar, at))
}

/// New rows with computed values.
pub(crate) struct NewValues<'a> {
    /// The plan of the computed values.
    pub(crate) plan: Plan<'a>,
    /// The columns: those with values, then the computed ones.
    pub(crate) columns: &'a [&'static ColumnInfo],
    pub(crate) rows: Vec<Vec<BindValue>>,
    pub(crate) computed: &'a [Assignment],
    pub(crate) returning: bool,
}

/// Writes an INSERT of rows with computed values.
pub(in crate::sql) fn insert_computed(
    new: NewValues<'_>,
    grammar: &'static dyn Grammar,
) -> Result<Statement<'static>, Error> {
    let select = new.plan.select();
    let mut writer = Writer::new(new.plan, grammar, Purpose::Run).with_long_lists();
    writer.inlines = true;
    writer
        .write_new_values(&new)
        .map_err(|err| err.asked_at(select.asked_at))?;
    writer.tables.insert(0, select.table.name());
    let statement = written!(writer, Operation::Insert, usize::MAX, SmallVec::new());
    Ok(statement.into_owned_binds())
}

impl<'q> Writer<'q> {
    fn write_new_values(&mut self, new: &NewValues<'q>) -> Result<(), Error> {
        let (table, at) = (self.select.table, self.select.asked_at);
        self.mark(at);
        self.push("INSERT INTO ");
        push_table(&mut self.text, table, self.schema, self.quotes);
        let form = self
            .grammar
            .returning(ReturningOf::Insert)
            .filter(|_| new.returning);
        if new.columns.is_empty() {
            push_returning_before(&mut self.text, form, table, self.quotes);
            self.push(self.grammar.default_row());
            return Ok(());
        }
        self.push(" (");
        push_names(&mut self.text, new.columns.iter().copied(), self.quotes);
        self.push(")");
        push_returning_before(&mut self.text, form, table, self.quotes);
        for (number, row) in new.rows.iter().enumerate() {
            self.push(if number > 0 { ", (" } else { " VALUES (" });
            for (place, value) in row.iter().enumerate() {
                self.push(if place > 0 { ", " } else { "" });
                self.push_bind(Cow::Owned(value.clone()))?;
            }
            for (place, set) in new.computed.iter().enumerate() {
                self.push(if place + row.len() > 0 { ", " } else { "" });
                self.in_expression(|this| this.write_value(&set.value))?;
            }
            self.push(")");
        }
        Ok(())
    }
}

/// Writes the placeholders of several rows.
fn push_rows(text: &mut String, columns: usize, rows: usize, placeholder: Placeholder) {
    if columns == 0 {
        return;
    }
    let start = text.len();
    let mut number = 0;
    for row in 0..rows {
        // Rows are alike where the placeholders have no numbers.
        if let (1, Placeholder::QuestionMark) = (row, placeholder) {
            let first = text.get(start..).unwrap_or_default().to_owned();
            for _ in 1..rows {
                text.push_str(", ");
                text.push_str(&first);
            }
            return;
        }
        text.push_str(if row > 0 { ", (" } else { "(" });
        for place in 0..columns {
            text.push_str(if place > 0 { ", " } else { "" });
            number += 1;
            push_placeholder(text, placeholder, number);
        }
        text.push(')');
    }
}

/// Refuses an assignment that the engine would compute from a value assigned just before.
fn check_order(target: &Target, with_filters: bool, grammar: &dyn Grammar) -> Result<(), Error> {
    match target.read_after_set(with_filters) {
        None => Ok(()),
        Some(column) => {
            let what = format!(
                "assigning `{}` before another assignment or filter reads it",
                column.name()
            );
            Err(Error::unsupported(&what, grammar.name(), "set it last"))
        }
    }
}

/// Adds the clause that returns the inserted rows, where it stands at the end.
pub(in crate::sql) fn return_inserted(
    statement: &mut Statement<'_>,
    table: &'static TableInfo,
) -> Result<(), Error> {
    let grammar = statement.parts.grammar;
    let Some(form) = grammar.returning(ReturningOf::Insert) else {
        let way_out = "write the row, then read it by its key";
        let err = Error::unsupported("giving back inserted rows", grammar.name(), way_out);
        return Err(err.asked_at(statement.origin));
    };
    push_returning_after(&mut statement.parts.to_mut().text, Some(form), table, grammar.quotes());
    Ok(())
}

/// Turns a SELECT into an INSERT of its rows.
pub(in crate::sql) fn insert_before(
    statement: &mut Statement<'_>,
    table: &'static TableInfo,
    columns: &[&'static ColumnInfo],
    returning: bool,
    schema: Option<&Arc<str>>,
) {
    let (grammar, mut opening) = (statement.parts.grammar, "INSERT INTO ".to_owned());
    let quotes = grammar.quotes();
    push_table(&mut opening, table, schema, quotes);
    opening.push_str(" (");
    push_names(&mut opening, columns.iter().copied(), quotes);
    opening.push(')');
    let form = grammar.returning(ReturningOf::Insert).filter(|_| returning);
    push_returning_before(&mut opening, form, table, quotes);
    opening.push(' ');
    statement.parts.to_mut().text.insert_str(0, &opening);
    let parts = statement.parts.to_mut();
    parts.operation = Operation::Insert;
    parts.tables.retain(|read| *read != table.name());
    parts.tables.insert(0, table.name());
}

/// Writes the conflict clause of an upsert.
pub(in crate::sql) fn on_conflict<'q>(
    mut inserted: Statement<'q>,
    conflict: &OnConflict,
) -> Result<Statement<'q>, Error> {
    let grammar = inserted.parts.grammar;
    let quotes = grammar.quotes();
    let Some(form) = grammar.upsert() else {
        let way_out = "look the row up first, in a transaction";
        let err = Error::unsupported("an upsert", grammar.name(), way_out);
        return Err(err.asked_at(inserted.origin));
    };
    let text = &mut inserted.parts.to_mut().text;
    text.push_str(form.opening);
    if form.names_columns {
        text.push_str(" (");
        push_names(text, conflict.known_by.iter().copied(), quotes);
        text.push(')');
    }
    let Some(target) = &conflict.target else {
        match form.nothing {
            Some(nothing) => text.push_str(nothing),
            // Assigns the column to itself.
            None => {
                text.push_str(form.update);
                let first = conflict.known_by.iter().take(1).copied();
                push_names(text, first.clone(), quotes);
                text.push_str(" = ");
                push_names(text, first, quotes);
            }
        }
        return Ok(inserted);
    };
    if !form.has_condition {
        check_order(target, true, grammar).map_err(|err| err.asked_at(inserted.origin))?;
    }
    let Statement { mut parts, binds, origin } = inserted;
    let parts = parts.to_mut();
    let marks = mem::take(&mut parts.marks);
    let mut writer = Writer::new(target.plan(), grammar, Purpose::Run).with_long_lists();
    writer.inlines = true;
    writer.text = mem::take(&mut parts.text);
    writer.binds = binds.into_values().into_iter().map(Cow::Owned).collect();
    writer.tables = mem::take(&mut parts.tables);
    let written = writer.write_conflict(target, conflict.new, form);
    written.map_err(|err| err.asked_at(origin))?;
    let mut statement = written!(writer, Operation::Insert, usize::MAX, SmallVec::new());
    statement.parts.to_mut().marks = marks;
    statement.origin = origin;
    Ok(statement.into_owned_binds())
}

impl<'q> Writer<'q> {
    fn write_conflict(
        &mut self,
        target: &'q Target,
        new: Source,
        form: UpsertForm,
    ) -> Result<(), Error> {
        let select = self.select;
        self.enter(select, false)?;
        self.names.stand_new(new, select.table);
        self.push(form.update);
        let guarded = !form.has_condition && !select.filters.is_empty();
        self.joined(target.sets(), ", ", |this, set| {
            this.push_name(set.column.name());
            this.push(" = ");
            if !guarded {
                return this.in_expression(|this| this.write_value(&set.value));
            }
            // The engine's upsert has no condition, so each column keeps its value where the row is hidden.
            this.push("CASE WHEN ");
            this.in_expression(|this| {
                this.joined(&select.filters, " AND ", |this, filter| this.write_inner(&filter.what))
            })?;
            this.push(" THEN ");
            this.in_expression(|this| this.write_value(&set.value))?;
            this.push(" ELSE ");
            this.push_name(set.column.name());
            this.push(" END");
            Ok(())
        })?;
        match guarded {
            true => Ok(()),
            false => self.write_filters(select),
        }
    }
}

/// Writes the list of returned columns, where it stands before the rows.
fn push_returning_before(
    text: &mut String,
    form: Option<ReturningForm>,
    table: &TableInfo,
    quotes: Quotes,
) {
    let Some(ReturningForm::BeforeRows { opening, column }) = form else { return };
    text.push_str(opening);
    for (i, info) in table.columns().iter().enumerate() {
        text.push_str(if i > 0 { ", " } else { "" });
        text.push_str(column);
        push_identifier(text, info.name(), quotes);
    }
}

/// Writes the list of returned columns, where it stands at the end.
fn push_returning_after(
    text: &mut String,
    form: Option<ReturningForm>,
    table: &TableInfo,
    quotes: Quotes,
) {
    if let Some(ReturningForm::AtEnd(opening)) = form {
        text.push_str(opening);
        push_names(text, table.columns().iter(), quotes);
    }
}
