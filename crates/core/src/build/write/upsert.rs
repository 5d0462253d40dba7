//! Upserts: new rows, of which some may be stored already.

use std::collections::HashSet;
use std::fmt;
use std::ops::Range;

use super::{Insert, IntoAssignments, Writes};
use crate::build::expr::{IntoSelection, PerRow, Selection};
use crate::build::policy::Policy;
use crate::build::query::Query;
use crate::build::table::{RowStruct, Table};
use crate::model::{
    BindValue, ColumnInfo, Error, ErrorKind, Key, KeyPart, LentBind, Origin, TableInfo,
};
use crate::plan::CompileContext;
use crate::plan::write::{
    Checks, NewStored, OnConflict, Part, Parts, Step, StoredRows, Target, WriteShape, Written, is,
    made, one_of,
};
use crate::sql::{Sql, Statement};
use crate::tree::{Assignment, Node, Select, Source};

/// An upsert of rows of `T`. Made by [`Insert::or_update`] and [`Insert::or_keep`].
#[must_use = "an upsert does nothing until a handle writes it"]
pub struct Upsert<T> {
    insert: Insert<T>,
    /// The columns that identify a row: a key, or unique columns.
    known_by: Vec<Node>,
    /// The stored rows, and their assignments; no assignments, if they stay unchanged.
    stored: Box<Select>,
    sets: Vec<Assignment>,
    /// The source of the proposed row's columns.
    new: Source,
}

impl<T: Table> Insert<T> {
    /// Updates the stored row instead, if one has the same key or the same value in a unique column. The
    /// first closure names those columns; the second returns the assignments, from the columns of the stored
    /// row and of the proposed one. A stored row that a policy hides stays unchanged, and the new row is not
    /// stored.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key, generated)] id: i64, #[nepheline(unique)] name: String, visits: i64 }
    /// let visited = Lab::insert(LabToInsert { name: "Ostra Assays".into(), visits: 1 })
    ///     .or_update(|l| l.name, |l, new| l.visits.set(l.visits + new.visits));
    /// assert_eq!(
    ///     visited.sql(Dialect::Sqlite)?.text(),
    ///     r#"INSERT INTO "lab" ("name", "visits") VALUES (?, ?) ON CONFLICT ("name") DO UPDATE SET "visits" = "lab"."visits" + excluded."visits""#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// A handle's `write` counts the rows that were inserted or updated; `write_upsert` reports how many were
    /// which.
    ///
    /// # Errors
    ///
    /// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) if the first closure returns anything
    /// but columns, or if two of the new rows have the same key;
    /// [`Unsupported`](crate::ErrorKind::Unsupported) on MariaDB and MySQL if the table has another unique
    /// column that may match, since those engines do not report which one did.
    #[track_caller]
    pub fn or_update<K, A>(
        self,
        known_by: impl FnOnce(T::Columns) -> K,
        sets: impl FnOnce(T::Columns, T::Columns) -> A,
    ) -> Upsert<T>
    where
        K: IntoSelection<Level = PerRow>,
        A: IntoAssignments,
    {
        let query = Query::<T>::over_table();
        let (stored, new) = (query.columns(), Source::fresh());
        let known_by = Selection::of(known_by(stored)).into_vec();
        let mut assignments = Vec::new();
        sets(stored, <T as RowStruct>::columns(new)).each(&mut |set| assignments.push(set));
        Upsert { insert: self, known_by, stored: query.into_select(), sets: assignments, new }
    }

    /// Leaves a stored row unchanged; otherwise as [`or_update`](Self::or_update).
    ///
    /// # Errors
    ///
    /// As [`or_update`](Self::or_update).
    #[track_caller]
    pub fn or_keep<K>(self, known_by: impl FnOnce(T::Columns) -> K) -> Upsert<T>
    where
        K: IntoSelection<Level = PerRow>,
    {
        self.or_update(known_by, |_, _| Vec::<Assignment>::new())
    }
}

impl<T: Table> Upsert<T> {
    /// Returns how many rows of a statement were inserted, updated and unchanged, from the counts that the
    /// engine reported.
    #[doc(hidden)]
    pub fn kinds(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
        written: Written,
    ) -> [u64; 3] {
        let rows = self.rows_of(step.part).len() as u64;
        let (present, tells) = (Present::found(step), context.grammar.tells_inserted());
        let inserted = match present {
            Some(present) if !tells => rows.saturating_sub(present.all),
            _ => written.inserted,
        };
        let updated = match present {
            _ if self.sets.is_empty() => 0,
            Some(present) => present.visible,
            // On these engines the count includes only changed rows; without a policy that could hide one,
            // every stored row is updated.
            None if context.grammar.upserts_loosely() => rows.saturating_sub(inserted),
            None => written.rows.saturating_sub(inserted),
        };
        [inserted, updated, rows.saturating_sub(inserted + updated)]
    }

    /// Waives the check of a policy, as [`Insert::waive_check`].
    #[track_caller]
    pub fn waive_check<C, N>(self, policy: impl Policy<C, N>) -> Upsert<T> {
        Upsert { insert: self.insert.waive_check(policy), ..self }
    }

    fn refuse<R>(&self, reason: &'static str) -> Result<R, Error> {
        Err(Error::invalid_query(reason).asked_at(self.insert.at()))
    }

    fn known_by(&self) -> Result<Vec<&'static ColumnInfo>, Error> {
        let columns = self.known_by.iter().map(|node| match node {
            Node::Column(column) if column.info.is_generated() => self.refuse(GENERATED),
            Node::Column(column) => Ok(column.info),
            _ => self.refuse(NOT_COLUMNS),
        });
        columns.collect()
    }

    /// Returns the stored rows that the policies show, with their assignments.
    fn target(&self, context: CompileContext<'_>) -> Result<Target, Error> {
        Target::of_stored(T::INFO, &self.stored, &self.sets, context, self.insert.at())
    }

    /// Returns the conflict clause.
    fn conflict(&self, context: CompileContext<'_>, first: bool) -> Result<OnConflict, Error> {
        let columns = self.known_by()?;
        let is_known_by =
            |column: &ColumnInfo| columns.iter().any(|own| std::ptr::eq(*own, column));
        let other = T::INFO.columns().iter().find(|column| {
            let distinguishes = column.is_unique() || column.is_key();
            distinguishes && column.is_given() && !is_known_by(column)
        });
        if let (Some(column), true) = (other, context.grammar.confuses_unique_columns()) {
            let what = format!("an upsert into a table where `{}` may match too", column.name());
            let way_out = "look the row up first, in a transaction";
            return Err(self.unsupported(&what, context, way_out));
        }
        // The first of the statements checks all rows.
        if first {
            self.check_twice(&columns)?;
        }
        let target = match self.sets.is_empty() {
            true => None,
            false => Some(self.target(context)?),
        };
        Ok(OnConflict { known_by: columns, target, new: self.new })
    }

    fn unsupported(&self, what: &str, context: CompileContext<'_>, way_out: &'static str) -> Error {
        Error::unsupported(what, context.grammar.name(), way_out).asked_at(self.insert.at())
    }

    /// Refuses new rows of which two have the same key, because engines disagree which of them counts.
    fn check_twice(&self, known_by: &[&'static ColumnInfo]) -> Result<(), Error> {
        let mut seen = HashSet::new();
        // NULL equals nothing.
        let not_null = |value: &BindValue| !matches!(value, BindValue::Null(_));
        let keys = self.known_values(known_by, 0..self.insert.rows());
        let mut keys = keys.filter(|key| key.iter().all(not_null));
        match keys.any(|key| !seen.insert(format!("{key:?}"))) {
            true => self.refuse(TWICE),
            false => Ok(()),
        }
    }

    /// Returns the values that identify these new rows, as far as they are given.
    fn known_values(
        &self,
        known_by: &[&'static ColumnInfo],
        rows: Range<usize>,
    ) -> impl Iterator<Item = Vec<BindValue>> {
        let places: Vec<usize> = known_by
            .iter()
            .filter_map(|known| {
                self.insert
                    .given()
                    .position(|column| std::ptr::eq(*known, column))
            })
            .collect();
        let rows = self.insert.values(rows);
        rows.map(move |row| {
            let values = places.iter().filter_map(|place| row.get(*place));
            values.map(LentBind::to_value).collect()
        })
    }

    /// Returns the query for which of these new rows are stored already, and whether a policy hides each. It
    /// locks them until the transaction ends.
    fn present(
        &self,
        context: CompileContext<'_>,
        rows: Range<usize>,
    ) -> Result<Statement<'_>, Error> {
        let (known_by, target) = (self.known_by()?, self.target(context)?);
        let place = target.plan().select().entry();
        let given: Vec<_> = self.insert.given().collect();
        let is_given =
            |column: &&'static ColumnInfo| given.iter().any(|own| std::ptr::eq(*own, *column));
        let by: Vec<_> = known_by.iter().copied().filter(is_given).collect();
        let mut there = match by.is_empty() {
            true => Node::constant(true),
            false => one_of(place, &by, self.known_values(&by, rows).collect()),
        };
        // Carried values are the same for all rows.
        for (column, value) in made(T::INFO, context, self.insert.at())? {
            if known_by.iter().any(|known| std::ptr::eq(*known, column)) {
                there = there.and(is(place, column, value));
            }
        }
        let finding = target.present(there, context, self.insert.at());
        Statement::of_change(finding, context.grammar)
    }
}

/// The rows of an upsert as the checks see them: the new ones, and the stored ones that it updates.
struct Upserted<'u> {
    new: NewStored<'u>,
    sets: &'u [Assignment],
    source: Source,
}

impl StoredRows for Upserted<'_> {
    fn table(&self) -> &'static TableInfo {
        self.new.table()
    }

    fn writes_some(&self) -> bool {
        self.new.writes_some()
    }

    fn sets(&self, column: &'static ColumnInfo) -> bool {
        self.new.sets(column)
    }

    fn given(&self, columns: &[&'static ColumnInfo]) -> Option<Vec<Vec<BindValue>>> {
        let mut tuples = self.new.given(columns)?;
        let set_of = |column: &&'static ColumnInfo| {
            self.sets
                .iter()
                .find(|set| std::ptr::eq(set.column, *column))
        };
        let is_of_new = |set: &Assignment| {
            matches!(&set.value, Node::Column(column)
                if column.source == self.source && std::ptr::eq(column.info, set.column))
        };
        let sets: Vec<Option<&Assignment>> = columns.iter().map(set_of).collect();
        // Stored rows keep their values, or take all of those of the new row.
        let keeps = sets.iter().all(Option::is_none);
        if keeps || sets.iter().all(|set| set.is_some_and(is_of_new)) {
            return Some(tuples);
        }
        let bound = sets.into_iter().map(|set| match &set?.value {
            Node::Bind(value) => Some(value.clone()),
            _ => None,
        });
        tuples.push(bound.collect::<Option<Vec<BindValue>>>()?);
        Some(tuples)
    }
}

/// The number of new rows that were stored before.
#[derive(Debug, Clone, Copy)]
struct Present {
    all: u64,
    /// Those that no policy hides.
    visible: u64,
}

impl Present {
    fn found(step: &Step<'_>) -> Option<Present> {
        let rows = step.found?;
        let is_visible = |row: &&Key| match row.first() {
            Some(KeyPart::Bool(visible)) => *visible,
            Some(KeyPart::Int(visible)) => *visible != 0,
            _ => false,
        };
        let visible = rows.iter().filter(is_visible).count();
        Some(Present { all: rows.len() as u64, visible: visible as u64 })
    }
}

const NOT_COLUMNS: &str =
    "the first closure of an upsert must return columns: a key, or unique columns";
const GENERATED: &str =
    "an upsert cannot match on a generated column, because the new rows do not give its value";
const TWICE: &str = "two of the new rows have the same key; merge them first";

impl<T: Table> Writes for Upsert<T> {
    type Row = T;
    type Read = T;

    fn row_of(read: T) -> T {
        read
    }

    fn parts(
        &self,
        context: CompileContext<'_>,
        shape: WriteShape,
        keyed: bool,
    ) -> Result<Parts, Error> {
        if keyed {
            return Err(self.unsupported(
                COMPUTED,
                context,
                "insert or update the rows in a transaction",
            ));
        }
        let grammar = context.grammar;
        let may_hide = !self.sets.is_empty() && !T::INFO.policies().is_empty();
        let asks_first = match shape {
            WriteShape::Rows => false,
            WriteShape::Kinds if !grammar.tells_inserted() => true,
            WriteShape::Kinds | WriteShape::Count => grammar.upserts_loosely() && may_hide,
        };
        let ranges = self.insert.ranges(context).into_iter();
        Ok(match asks_first {
            true => ranges
                .flat_map(|rows| [Part::Present(rows), Part::New(rows)])
                .collect(),
            false => ranges.map(Part::New).collect(),
        })
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        let first = self
            .insert
            .ranges(context)
            .first()
            .copied()
            .unwrap_or_default();
        let step = Step { part: Part::New(first), ..Step::shown() };
        let checks = self
            .checks(context)?
            .map_or(Vec::new(), |checks| checks.into_met());
        Ok(self.statement(context, &step)?.into_sql(checks))
    }

    fn checks(&self, context: CompileContext<'_>) -> Result<Option<Box<Checks>>, Error> {
        if !T::INFO.is_checked() {
            return Ok(None);
        }
        let new = self.insert.stored(context)?;
        let stored = Upserted { new, sets: &self.sets, source: self.new };
        let checks = Checks::of(&stored, self.insert.waived(), context);
        checks.map_err(|err| err.asked_at(self.insert.at()))
    }

    fn foreign_key(&self, table: Option<&str>) -> ErrorKind {
        let key_is_set = self
            .sets
            .iter()
            .any(|set| set.column.is_key() || set.column.is_unique());
        match key_is_set {
            true => ErrorKind::ForeignKeyViolation,
            false => self.insert.foreign_key(table),
        }
    }

    fn rows_of(&self, part: Part) -> Range<usize> {
        self.insert.rows_of(part)
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        let rows = self.rows_of(step.part);
        if let Part::Present(_) = step.part {
            return self.present(context, rows);
        }
        let first = rows.start == 0;
        let returning = step.shape == WriteShape::Rows;
        let inserted = self.insert.of_rows(context, rows, returning)?;
        let written = inserted.on_conflict(&self.conflict(context, first)?)?;
        match step.shape {
            WriteShape::Count => Ok(written),
            WriteShape::Kinds => Ok(written.telling_inserted()),
            WriteShape::Rows => {
                let kept = self.sets.is_empty() || !T::INFO.policies().is_empty();
                if kept && context.grammar.upserts_loosely() {
                    return Err(self.unsupported(KEPT, context, "write, then read the rows"));
                }
                written.returning(T::INFO, true)
            }
        }
    }

    fn counted(&self, context: CompileContext<'_>, step: &Step<'_>, written: Written) -> u64 {
        if !context.grammar.upserts_loosely() {
            return written.rows;
        }
        let [inserted, updated, _] = self.kinds(context, step, written);
        inserted + updated
    }

    fn origin(&self) -> Origin {
        self.insert.at()
    }

    fn table(&self) -> &'static TableInfo {
        T::INFO
    }
}

const COMPUTED: &str =
    "an upsert that computes a column which a policy of the table or of a parent reads";
const KEPT: &str = "returning the rows of an upsert that may leave rows unchanged";

// Written by hand, because the derives would require `T: Clone` and `T: Debug`.
impl<T> Clone for Upsert<T> {
    fn clone(&self) -> Self {
        let Upsert { insert, known_by, stored, sets, new } = self;
        Upsert {
            insert: insert.clone(),
            known_by: known_by.clone(),
            stored: stored.clone(),
            sets: sets.clone(),
            new: *new,
        }
    }
}

impl<T> fmt::Debug for Upsert<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Upsert")
            .field("insert", &self.insert)
            .field("known_by", &self.known_by)
            .field("sets", &self.sets)
            .finish()
    }
}
