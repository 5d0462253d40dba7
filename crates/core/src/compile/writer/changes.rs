//! INSERT, UPDATE and DELETE.

use std::borrow::Cow;

use smallvec::SmallVec;

use super::{MARKS, Writer, push_identifier, push_number};
use crate::compile::dialect::{Placeholder, UpsertForm};
use crate::compile::{Binds, Copying, Dialect, Mark, NewRows, OnConflict, Operation, Statement};
use crate::error::Error;
use crate::origin::Origin;
use crate::query::{Path, Source};
use crate::table::{ColumnInfo, TableInfo};
use crate::write::Target;

impl<'q> Writer<'q> {
    /// UPDATE or DELETE of the rows of its query.
    pub(in crate::compile) fn write_change(
        mut self,
        target: &'q Target,
        returning: bool,
    ) -> Result<Statement<'q>, Error> {
        // A WITH stands before a query only, on some engines.
        self.inlines = true;
        match self.write_target(target, returning) {
            Ok(()) => Ok(Statement {
                dialect: self.dialect,
                text: self.text,
                binds: Binds::Each(self.binds),
                marks: self.marks.unwrap_or_default(),
                origin: self.select.asked_at,
                most_rows: usize::MAX,
                key_cells: SmallVec::new(),
                operation: if target.deletes { Operation::Delete } else { Operation::Update },
                tables: self.tables,
                once: false,
                alters_session: self.alters_session,
                copying: None,
            }),
            Err(err) => Err(err.asked_at(self.asked_at)),
        }
    }

    fn write_target(&mut self, target: &'q Target, returning: bool) -> Result<(), Error> {
        let select = &target.select;
        let columns = select.table.columns();
        self.mark(select.asked_at);
        self.enter(select, false)?;
        let source = Source { id: select.source, path: Path::HERE };
        if target.deletes {
            self.push("DELETE FROM ");
            self.write_table(source);
        } else {
            self.push("UPDATE ");
            self.write_table(source);
            if self.grammar.sets_in_turn() {
                check_order(target, false, self.dialect)?;
            }
            self.push(" SET ");
            self.joined(&target.sets, ", ", |this, set| {
                push_identifier(&mut this.text, set.column.name(), MARKS[this.quote]);
                this.push(" = ");
                this.guarded(|this| this.write_node(&set.value))
            })?;
        }
        self.write_filters(select)?;
        if returning {
            if !self.grammar.returns(target.deletes) {
                let way_out = "write, and read the rows in the same transaction";
                return Err(Error::unsupported("giving back changed rows", self.dialect, way_out));
            }
            push_returning(&mut self.text, columns, MARKS[self.quote]);
        }
        Ok(())
    }
}

/// COPY of rows whose values are `binds`, and the query by which the driver learns which types they are of.
pub(in crate::compile) fn copy<'q>(
    new: &NewRows<'_>,
    binds: Binds<'q>,
    dialect: Dialect,
    at: Origin,
) -> Result<Statement<'q>, Error> {
    let quote = dialect.grammar().quote_mark().place();
    check_binds(&binds, dialect, at)?;
    let table = new.table.from_clause()[quote];
    let mut columns = String::with_capacity(16 * new.columns.len());
    push_names(&mut columns, new.columns.iter().copied(), MARKS[quote]);
    let text = format!("COPY {table} ({columns}) FROM STDIN (FORMAT binary)");
    let types = format!("SELECT {columns} FROM {table}");
    let mut statement = inserting(new.table, text, binds, dialect, at);
    statement.copying = Some(Copying { columns: new.columns.len(), table, types: types.into() });
    Ok(statement)
}

fn check_binds(binds: &Binds<'_>, dialect: Dialect, at: Origin) -> Result<(), Error> {
    let grammar = dialect.grammar();
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
    dialect: Dialect,
    at: Origin,
) -> Statement<'q> {
    Statement {
        dialect,
        text,
        binds,
        marks: vec![Mark { at: 0, origin: at, relations: SmallVec::new() }],
        origin: at,
        most_rows: usize::MAX,
        key_cells: SmallVec::new(),
        operation: Operation::Insert,
        tables: smallvec::smallvec![table.name()],
        once: false,
        alters_session: false,
        copying: None,
    }
}

/// INSERT of rows whose values are `binds`, one row after the other.
pub(in crate::compile) fn insert<'q>(
    new: NewRows<'_>,
    binds: Binds<'q>,
    dialect: Dialect,
    at: Origin,
) -> Result<Statement<'q>, Error> {
    let grammar = dialect.grammar();
    let quote = grammar.quote_mark().place();
    check_binds(&binds, dialect, at)?;
    let NewRows { table, columns, rows } = new;
    let mut text = String::with_capacity(64 + columns.len() * (16 + 6 * rows));
    text.push_str("INSERT INTO ");
    text.push_str(table.from_clause()[quote]);
    if columns.is_empty() {
        text.push_str(grammar.default_row());
    } else {
        text.push_str(" (");
        push_names(&mut text, columns.iter().copied(), MARKS[quote]);
        text.push_str(") VALUES ");
    }
    push_rows(&mut text, columns.len(), rows, grammar.placeholder());
    Ok(inserting(table, text, binds, dialect, at))
}

/// The placeholders of so many rows.
fn push_rows(text: &mut String, columns: usize, rows: usize, placeholder: Placeholder) {
    if columns == 0 {
        return;
    }
    let start = text.len();
    let mut number = 0;
    for row in 0..rows {
        // The rows are alike where their places have no numbers.
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
            match placeholder {
                Placeholder::QuestionMark => text.push('?'),
                Placeholder::Numbered => {
                    text.push('$');
                    push_number(text, number);
                }
            }
        }
        text.push(')');
    }
}

/// Refuses an assignment that an engine would compute from values set just before.
fn check_order(target: &Target, with_filters: bool, dialect: Dialect) -> Result<(), Error> {
    match target.read_after_set(with_filters) {
        None => Ok(()),
        Some(column) => {
            let what = format!("to set `{}` before something reads it", column.name());
            Err(Error::unsupported(&what, dialect, "set it last"))
        }
    }
}

/// Has the rows given back as they are stored.
pub(in crate::compile) fn return_inserted(
    statement: &mut Statement<'_>,
    table: &'static TableInfo,
) -> Result<(), Error> {
    let grammar = statement.dialect.grammar();
    if !grammar.returns_inserted() {
        let way_out = "write the row, and read it by its key";
        let err = Error::unsupported("giving back inserted rows", statement.dialect, way_out);
        return Err(err.asked_at(statement.origin));
    }
    let mark = MARKS[grammar.quote_mark().place()];
    push_returning(&mut statement.text, table.columns(), mark);
    Ok(())
}

/// Makes of a statement that reads one that inserts what it reads.
pub(in crate::compile) fn insert_before(
    statement: &mut Statement<'_>,
    table: &'static TableInfo,
    columns: &[&'static ColumnInfo],
) {
    let quote = statement.dialect.grammar().quote_mark().place();
    let mut opening = format!("INSERT INTO {} (", table.from_clause()[quote]);
    push_names(&mut opening, columns.iter().copied(), MARKS[quote]);
    opening.push_str(") ");
    statement.text.insert_str(0, &opening);
    statement.operation = Operation::Insert;
    statement.tables.retain(|read| *read != table.name());
    statement.tables.insert(0, table.name());
}

/// What becomes of rows that are there already.
pub(in crate::compile) fn on_conflict<'q>(
    mut inserted: Statement<'q>,
    conflict: &OnConflict,
) -> Result<Statement<'q>, Error> {
    let dialect = inserted.dialect;
    let grammar = dialect.grammar();
    let form = grammar.upsert();
    let mark = MARKS[grammar.quote_mark().place()];
    inserted.text.push_str(form.opening);
    if form.names_columns {
        inserted.text.push_str(" (");
        push_names(&mut inserted.text, conflict.known_by.iter().copied(), mark);
        inserted.text.push(')');
    }
    let Some(target) = &conflict.target else {
        match form.nothing {
            Some(nothing) => inserted.text.push_str(nothing),
            // To what it is.
            None => {
                inserted.text.push_str(form.update);
                let first = conflict.known_by.iter().take(1).copied();
                push_names(&mut inserted.text, first.clone(), mark);
                inserted.text.push_str(" = ");
                push_names(&mut inserted.text, first, mark);
            }
        }
        return Ok(inserted);
    };
    if !form.has_condition {
        check_order(target, true, dialect).map_err(|err| err.asked_at(inserted.origin))?;
    }
    let Statement { text, binds, marks, origin, tables, .. } = inserted;
    let mut writer = Writer::new(&target.select, dialect);
    writer.inlines = true;
    writer.text = text;
    writer.binds = binds.into_values().into_iter().map(Cow::Owned).collect();
    writer.tables = tables;
    let written = writer.write_conflict(target, conflict.new, form);
    written.map_err(|err| err.asked_at(origin))?;
    Ok(Statement {
        dialect,
        text: writer.text,
        binds: Binds::Each(writer.binds).into_owned(),
        marks,
        origin,
        most_rows: usize::MAX,
        key_cells: SmallVec::new(),
        operation: Operation::Insert,
        tables: writer.tables,
        once: false,
        alters_session: writer.alters_session,
        copying: None,
    })
}

impl<'q> Writer<'q> {
    fn write_conflict(
        &mut self,
        target: &'q Target,
        new: Source,
        form: UpsertForm,
    ) -> Result<(), Error> {
        let select = &target.select;
        self.enter(select, false)?;
        self.names.stand_new(new, select.table);
        self.push(form.update);
        let guarded = !form.has_condition && !select.filters.is_empty();
        self.joined(&target.sets, ", ", |this, set| {
            push_identifier(&mut this.text, set.column.name(), MARKS[this.quote]);
            this.push(" = ");
            if !guarded {
                return this.guarded(|this| this.write_node(&set.value));
            }
            // Without a condition of its own, each column stays what it is where the row is hidden.
            this.push("CASE WHEN ");
            this.guarded(|this| {
                this.joined(&select.filters, " AND ", |this, filter| this.write_inner(&filter.what))
            })?;
            this.push(" THEN ");
            this.guarded(|this| this.write_node(&set.value))?;
            this.push(" ELSE ");
            push_identifier(&mut this.text, set.column.name(), MARKS[this.quote]);
            this.push(" END");
            Ok(())
        })?;
        match guarded {
            true => Ok(()),
            false => self.write_filters(select),
        }
    }
}

fn push_returning(text: &mut String, columns: &'static [ColumnInfo], mark: char) {
    text.push_str(" RETURNING ");
    push_names(text, columns.iter(), mark);
}

fn push_names(text: &mut String, columns: impl Iterator<Item = &'static ColumnInfo>, mark: char) {
    for (i, column) in columns.enumerate() {
        text.push_str(if i > 0 { ", " } else { "" });
        push_identifier(text, column.name(), mark);
    }
}
