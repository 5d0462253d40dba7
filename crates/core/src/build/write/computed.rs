//! INSERT of rows some of whose values the database computes.

use std::ops::Range;

use super::{Insert, IntoAssignments, Writes};
use crate::build::policy::Policy;
use crate::build::table::Table;
use crate::model::{BindValue, ColumnInfo, Error, ErrorKind, Origin, TableInfo, function};
use crate::plan::CompileContext;
use crate::plan::write::{
    Checks, NewStored, Part, Parts, Step, StoredRows, WriteShape, guarded, made, outside_rows,
    refused_set,
};
use crate::sql::{NewValues, Sql, Statement};
use crate::tree::{Assignment, FromSource, Node, Select, Source};

/// An insert of rows of `T`, some of whose values are expressions or the defaults of the database. Made by
/// [`Insert::computing`].
#[derive(Debug, Clone)]
#[must_use = "an insert does nothing until a handle writes it"]
pub struct ComputedInsert<T> {
    insert: Insert<T>,
    sets: Vec<Assignment>,
}

impl<T: Table> Insert<T> {
    /// Computes columns of the new rows in the database: by an expression, which may hold subqueries but no columns of
    /// the row itself, or by the column's default with `set_default()`. It replaces what the rows give for these columns.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key, generated)] id: i64, borehole_id: i64, label: String, rig: String }
    /// # #[derive(Debug, Table)] struct Borehole { #[nepheline(key)] id: i64 }
    /// let row = SpecimenToInsert { borehole_id: 0, label: "KP-1-9".into(), rig: String::new() };
    /// let insert = Specimen::insert(row).computing(|s| {
    ///     let newest = Borehole::rows().select(|b| max(b.id)).value();
    ///     (s.borehole_id.set(newest.coalesce(0)), s.rig.set_default())
    /// });
    /// assert_eq!(
    ///     nepheline::Writes::sql(&insert, Dialect::Postgres)?.text(),
    ///     r#"INSERT INTO "specimen" ("label", "borehole_id") VALUES ($1, COALESCE((SELECT max("borehole"."id") FROM "borehole"), $2))"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// When compiled, [`ColumnNotInQuery`](crate::ErrorKind::ColumnNotInQuery) for an expression that reads the row;
    /// [`InvalidQuery`](crate::ErrorKind::InvalidQuery) for a column that is set twice, a carried one, or the version.
    pub fn computing<A: IntoAssignments>(
        self,
        sets: impl FnOnce(T::Columns) -> A,
    ) -> ComputedInsert<T> {
        let mut assignments = Vec::new();
        sets(T::columns(Source::fresh())).each(&mut |assignment| assignments.push(assignment));
        ComputedInsert { insert: self, sets: assignments }
    }
}

/// The new rows as the checks see them: what the database computes is unknown.
struct PartlyKnown<'r> {
    given: NewStored<'r>,
    sets: &'r [Assignment],
}

impl StoredRows for PartlyKnown<'_> {
    fn table(&self) -> &'static TableInfo {
        self.given.table()
    }

    fn writes_some(&self) -> bool {
        self.given.writes_some()
    }

    fn sets(&self, column: &'static ColumnInfo) -> bool {
        self.given.sets(column)
    }

    fn given(&self, columns: &[&'static ColumnInfo]) -> Option<Vec<Vec<BindValue>>> {
        let is_computed = |column: &&'static ColumnInfo| is_set(self.sets, column);
        match columns.iter().any(is_computed) {
            true => None,
            false => self.given.given(columns),
        }
    }
}

fn is_set(sets: &[Assignment], column: &'static ColumnInfo) -> bool {
    sets.iter().any(|set| std::ptr::eq(set.column, column))
}

fn is_default(set: &Assignment) -> bool {
    matches!(&set.value, Node::Call(_, call) if std::ptr::eq(call.function, &function::DEFAULT))
}

impl<T: Table> ComputedInsert<T> {
    /// Waives the check of a policy, as [`Insert::waive_check`].
    #[track_caller]
    pub fn waive_check<C, N>(self, policy: impl Policy<C, N>) -> ComputedInsert<T> {
        ComputedInsert { insert: self.insert.waive_check(policy), ..self }
    }

    fn of_rows(
        &self,
        context: CompileContext<'_>,
        rows: Range<usize>,
        returning: bool,
    ) -> Result<Statement<'static>, Error> {
        let at = self.insert.at();
        if let Some(reason) = refused_set(&self.sets) {
            return Err(Error::invalid_query(reason).asked_at(at));
        }
        let sets = guarded(&self.sets, context, at)?;
        let computed: Vec<Assignment> = sets.into_iter().filter(|set| !is_default(set)).collect();
        let given: Vec<_> = self
            .insert
            .given()
            .map(|column| (column, is_set(&self.sets, column)))
            .collect();
        let mut made = made(T::INFO, context, at)?;
        made.retain(|(column, _)| !is_set(&self.sets, column));
        let columns = given
            .iter()
            .filter(|(_, is_set)| !is_set)
            .map(|(column, _)| *column);
        let columns: Vec<_> = columns
            .chain(made.iter().map(|(column, _)| *column))
            .chain(computed.iter().map(|set| set.column))
            .collect();
        let rows = self.insert.values(rows).map(|values| {
            let values = values
                .into_iter()
                .zip(&given)
                .filter(|(_, (_, is_set))| !is_set);
            let values = values.map(|(value, _)| value.to_value());
            values
                .chain(made.iter().map(|(_, value)| value.clone()))
                .collect()
        });
        let rows: Vec<Vec<BindValue>> = rows.collect();
        let select = Select::over(T::INFO, FromSource::Table, at);
        let new = NewValues {
            plan: outside_rows(&select, context),
            columns: &columns,
            rows,
            computed: &computed,
            returning,
        };
        let inserted = Statement::to_insert_computed(new, context.grammar)?;
        inserted.returning(T::INFO, returning)
    }
}

impl<T: Table> Writes for ComputedInsert<T> {
    type Row = T;
    type Read = T;

    fn row_of(read: T) -> T {
        read
    }

    fn parts(
        &self,
        context: CompileContext<'_>,
        _: WriteShape,
        keyed: bool,
    ) -> Result<Parts, Error> {
        let part = if keyed { Part::Keyed } else { Part::New };
        Ok(self.insert.ranges(context).into_iter().map(part).collect())
    }

    fn rows_of(&self, part: Part) -> Range<usize> {
        self.insert.rows_of(part)
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        let checks = self.checks(context)?;
        let shown = self.of_rows(context, 0..self.insert.rows(), false)?;
        Ok(shown.into_sql(checks.map_or(Vec::new(), |checks| checks.into_met())))
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        let keyed = matches!(step.part, Part::Keyed(_));
        let returning = step.shape == WriteShape::Rows || keyed;
        let inserted = self.of_rows(context, self.rows_of(step.part), returning)?;
        let inserted = inserted.into_owned_binds();
        Ok(if keyed { inserted.telling_keys(T::INFO) } else { inserted })
    }

    fn checks(&self, context: CompileContext<'_>) -> Result<Option<Box<Checks>>, Error> {
        match T::INFO.is_checked() {
            true => {
                let stored = PartlyKnown { given: self.insert.stored(context)?, sets: &self.sets };
                Checks::of(&stored, self.insert.waived(), context)
                    .map_err(|err| err.asked_at(self.insert.at()))
            }
            false => Ok(None),
        }
    }

    fn foreign_key(&self, table: Option<&str>) -> ErrorKind {
        self.insert.foreign_key(table)
    }

    fn origin(&self) -> Origin {
        self.insert.at()
    }

    fn table(&self) -> &'static TableInfo {
        T::INFO
    }
}
