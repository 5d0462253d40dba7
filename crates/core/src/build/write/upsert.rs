//! Upserts: new rows, of which some may be there already.

use std::collections::HashSet;
use std::fmt;
use std::ops::Range;

use super::{Insert, IntoAssignments, Writes};
use crate::build::expr::{PerRow, Selectable, Selection};
use crate::build::query::Query;
use crate::build::table::{RowStruct, Table};
use crate::model::{BindValue, ColumnInfo, Error, Key, KeyPart, LentBind, Origin};
use crate::plan::Asking;
use crate::plan::write::{
    OnConflict, Part, Parts, Step, Target, WantedBack, Written, is, made, one_of,
};
use crate::sql::{Sql, Statement};
use crate::tree::{Assignment, Node, Select, Source};

/// New rows of `T`, and what becomes of those that are there already. Made by [`Insert::or_update`] and
/// [`Insert::or_keep`].
#[must_use = "an upsert does nothing until a handle writes it"]
pub struct Upsert<T> {
    insert: Insert<T>,
    /// The columns by which a row is known: a key, or what is unique.
    known_by: Vec<Node>,
    /// The table as it is, and what is set then; nothing, if the row stays.
    stored: Box<Select>,
    sets: Vec<Assignment>,
    /// Where the columns of the new row stand.
    new: Source,
}

impl<T: Table> Insert<T> {
    /// Updates the row that is there already instead, where one has the same value in a unique column or
    /// the same key: what the second closure sets, of the columns of the stored row and of the new one.
    /// A stored row that a policy hides is left as it is, and the new one is not stored.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key, generated)] id: i64, #[nepheline(unique)] name: String, visits: i64 }
    /// let visited = Lab::insert(UnsavedLab { name: "Ostra Assays".into(), visits: 1 })
    ///     .or_update(|l| l.name, |l, new| l.visits.set(l.visits + new.visits));
    /// assert_eq!(
    ///     visited.sql(Dialect::Sqlite)?.text(),
    ///     r#"INSERT INTO "lab" ("name", "visits") VALUES (?, ?) ON CONFLICT ("name") DO UPDATE SET "visits" = "lab"."visits" + excluded."visits""#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// A handle's `write` counts the rows that were inserted or updated, and `write_upsert` tells how many were
    /// which.
    ///
    /// # Errors
    ///
    /// When compiled, [`UnfitParts`](crate::ErrorKind::UnfitParts) if the first closure gives something else than
    /// columns, or if two of the new rows are the same row;
    /// [`Unsupported`](crate::ErrorKind::Unsupported) on MariaDB and MySQL if the rows could be known by another
    /// unique column too, since the engine would not tell by which.
    #[track_caller]
    pub fn or_update<K, A>(
        self,
        known_by: impl FnOnce(T::Columns) -> K,
        sets: impl FnOnce(T::Columns, T::Columns) -> A,
    ) -> Upsert<T>
    where
        K: Selectable<Level = PerRow>,
        A: IntoAssignments,
    {
        let query = Query::<T>::over_table();
        let (stored, new) = (query.columns(), Source::fresh());
        let known_by = Selection::of(known_by(stored)).into_vec();
        let mut assignments = Vec::new();
        sets(stored, <T as RowStruct>::columns(new)).each(&mut |set| assignments.push(set));
        Upsert { insert: self, known_by, stored: query.into_select(), sets: assignments, new }
    }

    /// Leaves a row as it is that is there already; otherwise as [`or_update`](Self::or_update).
    ///
    /// # Errors
    ///
    /// As [`or_update`](Self::or_update).
    #[track_caller]
    pub fn or_keep<K>(self, known_by: impl FnOnce(T::Columns) -> K) -> Upsert<T>
    where
        K: Selectable<Level = PerRow>,
    {
        self.or_update(known_by, |_, _| Vec::<Assignment>::new())
    }
}

impl<T: Table> Upsert<T> {
    /// Returns how many of the rows of a statement were inserted, updated and kept, by what the engine said.
    #[doc(hidden)]
    pub fn kinds(&self, asking: Asking<'_>, step: &Step<'_>, written: Written) -> [u64; 3] {
        let rows = self.rows_of(step.part).len() as u64;
        let (present, tells) = (Present::found(step), asking.grammar.tells_inserted());
        let inserted = match present {
            Some(present) if !tells => rows.saturating_sub(present.all),
            _ => written.inserted,
        };
        let updated = match present {
            _ if self.sets.is_empty() => 0,
            Some(present) => present.visible,
            // There it counts only what has changed, and without a policy that could hide one each is updated.
            None if asking.grammar.upserts_loosely() => rows.saturating_sub(inserted),
            None => written.rows.saturating_sub(inserted),
        };
        [inserted, updated, rows.saturating_sub(inserted + updated)]
    }

    fn refuse<R>(&self, reason: &'static str) -> Result<R, Error> {
        Err(Error::unfit_parts(reason).asked_at(self.insert.at()))
    }

    fn known_by(&self) -> Result<Vec<&'static ColumnInfo>, Error> {
        let columns = self.known_by.iter().map(|node| match node {
            Node::Column(column) if column.info.is_generated() => self.refuse(GENERATED),
            Node::Column(column) => Ok(column.info),
            _ => self.refuse(NOT_COLUMNS),
        });
        columns.collect()
    }

    /// The stored rows as policies let them be seen, and what is set of them.
    fn target(&self, asking: Asking<'_>) -> Result<Target, Error> {
        Target::of_stored(T::INFO, &self.stored, &self.sets, asking, self.insert.at())
    }

    /// What is written after the rows.
    fn conflict(&self, asking: Asking<'_>, first: bool) -> Result<OnConflict, Error> {
        let columns = self.known_by()?;
        let is_known_by =
            |column: &ColumnInfo| columns.iter().any(|own| std::ptr::eq(*own, column));
        let other = T::INFO.columns().iter().find(|column| {
            let distinguishes = column.is_unique() || column.is_key();
            distinguishes && column.is_given() && !is_known_by(column)
        });
        if let (Some(column), true) = (other, asking.grammar.confuses_unique_columns()) {
            let what = format!("an upsert of rows that `{}` could tell apart too", column.name());
            let way_out = "look for the row first, in a transaction";
            return Err(self.unsupported(&what, asking, way_out));
        }
        // All rows are looked at once, by the first of the statements.
        if first {
            self.check_twice(&columns)?;
        }
        let target = match self.sets.is_empty() {
            true => None,
            false => Some(self.target(asking)?),
        };
        Ok(OnConflict { known_by: columns, target, new: self.new })
    }

    fn unsupported(&self, what: &str, asking: Asking<'_>, way_out: &'static str) -> Error {
        Error::unsupported(what, asking.grammar.name(), way_out).asked_at(self.insert.at())
    }

    /// Refuses new rows of which two are the same row: engines do not agree on which of them counts.
    fn check_twice(&self, known_by: &[&'static ColumnInfo]) -> Result<(), Error> {
        let mut seen = HashSet::new();
        // NULL is equal to nothing.
        let not_null = |value: &BindValue| !matches!(value, BindValue::Null(_));
        let keys = self.known_values(known_by, 0..self.insert.rows());
        let mut keys = keys.filter(|key| key.iter().all(not_null));
        match keys.any(|key| !seen.insert(format!("{key:?}"))) {
            true => self.refuse(TWICE),
            false => Ok(()),
        }
    }

    /// The values by which these new rows are known, as far as they are given.
    fn known_values(
        &self,
        known_by: &[&'static ColumnInfo],
        rows: Range<usize>,
    ) -> impl Iterator<Item = Vec<BindValue>> {
        let places: Vec<usize> = known_by
            .iter()
            .filter_map(|known| {
                Insert::<T>::given().position(|column| std::ptr::eq(*known, column))
            })
            .collect();
        let rows = self.insert.values(rows);
        rows.map(move |row| {
            let values = places.iter().filter_map(|place| row.get(*place));
            values.map(LentBind::to_value).collect()
        })
    }

    /// Which of these new rows are there already: for each, whether no policy hides it. Nobody else can
    /// change them before the transaction ends.
    fn present(&self, asking: Asking<'_>, rows: Range<usize>) -> Result<Statement<'_>, Error> {
        let (known_by, target) = (self.known_by()?, self.target(asking)?);
        let place = target.plan().select().entry();
        let given: Vec<_> = Insert::<T>::given().collect();
        let is_given =
            |column: &&'static ColumnInfo| given.iter().any(|own| std::ptr::eq(*own, *column));
        let by: Vec<_> = known_by.iter().copied().filter(is_given).collect();
        let mut there = match by.is_empty() {
            true => Node::constant(true),
            false => one_of(place, &by, self.known_values(&by, rows).collect()),
        };
        // What the handle fills is the same for all of them.
        for (column, value) in made(T::INFO, asking, self.insert.at())? {
            if known_by.iter().any(|known| std::ptr::eq(*known, column)) {
                there = there.and(is(place, column, value));
            }
        }
        let finding = target.present(there, asking, self.insert.at());
        Statement::of_change(finding, asking.grammar)
    }
}

/// How many of the new rows were there before.
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
    "a row that is there already is known by columns: its key, or what is unique";
const GENERATED: &str = "a row that is there already is known by what the new rows give, and the database generates this column";
const TWICE: &str = "two of the rows to insert or update are the same row; put them together first";

impl<T: Table> Writes for Upsert<T> {
    type Row = T;

    fn parts(&self, asking: Asking<'_>, wanted: WantedBack) -> Result<Parts, Error> {
        let grammar = asking.grammar;
        let may_hide = !self.sets.is_empty() && !T::INFO.policies().is_empty();
        let asks_first = match wanted {
            WantedBack::Rows => false,
            WantedBack::Kinds if !grammar.tells_inserted() => true,
            WantedBack::Kinds | WantedBack::Count => grammar.upserts_loosely() && may_hide,
        };
        let stretches = self.insert.stretches(asking).into_iter();
        Ok(match asks_first {
            true => stretches
                .flat_map(|rows| [Part::Present(rows), Part::New(rows)])
                .collect(),
            false => stretches.map(Part::New).collect(),
        })
    }

    fn shown(&self, asking: Asking<'_>) -> Result<Sql, Error> {
        let first = self
            .insert
            .stretches(asking)
            .first()
            .copied()
            .unwrap_or_default();
        let step = Step { part: Part::New(first), ..Step::shown() };
        Ok(self.statement(asking, &step)?.into_sql(Vec::new()))
    }

    fn rows_of(&self, part: Part) -> Range<usize> {
        self.insert.rows_of(part)
    }

    fn statement(&self, asking: Asking<'_>, step: &Step<'_>) -> Result<Statement<'_>, Error> {
        let rows = self.rows_of(step.part);
        if let Part::Present(_) = step.part {
            return self.present(asking, rows);
        }
        let first = rows.start == 0;
        let returning = step.wanted == WantedBack::Rows;
        let inserted = self.insert.of_rows(asking, rows, returning)?;
        let written = inserted.on_conflict(&self.conflict(asking, first)?)?;
        match step.wanted {
            WantedBack::Count => Ok(written),
            WantedBack::Kinds => Ok(written.telling_inserted()),
            WantedBack::Rows => {
                let kept = self.sets.is_empty() || !T::INFO.policies().is_empty();
                if kept && asking.grammar.upserts_loosely() {
                    return Err(self.unsupported(KEPT, asking, "write, and then read the rows"));
                }
                written.returning(T::INFO, true)
            }
        }
    }

    fn counted(&self, asking: Asking<'_>, step: &Step<'_>, written: Written) -> u64 {
        if !asking.grammar.upserts_loosely() {
            return written.rows;
        }
        let [inserted, updated, _] = self.kinds(asking, step, written);
        inserted + updated
    }

    fn origin(&self) -> Origin {
        self.insert.at()
    }

    fn table_name(&self) -> &'static str {
        T::INFO.name()
    }
}

const KEPT: &str = "giving back the rows of an upsert that may leave some as they are";

// By hand, because the derives would ask for `T: Clone` and `T: Debug`.
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
