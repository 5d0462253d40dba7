//! INSERT: any number of new rows, in as few statements as the engine allows.

use std::fmt;
use std::marker::PhantomData;
use std::ops::Range;
use std::panic::Location;
use std::sync::{Arc, OnceLock};

use smallvec::smallvec;

use super::Writes;
use crate::build::policy::Policy;
use crate::build::table::Table;
use crate::model::{ColumnInfo, Error, ErrorKind, LentBind, Measure, Origin, RowShape, TableInfo};
use crate::plan::CompileContext;
use crate::plan::write::{
    Checks, NewRows, NewStored, Part, Parts, RowBinds, RowList, RowRange, RowValues, Rows, Step,
    WriteShape, made,
};
use crate::sql::{Binds, Sql, Statement};
use crate::tree::Waiver;

/// The struct that an INSERT takes: a row without its generated and carried columns. `#[derive(Table)]`
/// writes it: `SpecimenToInsert` beside `Specimen`.
pub trait InsertValues: RowValues + 'static {
    /// The table that it becomes a row of.
    type Table: Table;
}

/// The rows of inserts: those of every [`Table`], and those of tables that are known at run time.
#[doc(hidden)]
pub trait Inserted: Send + 'static {
    /// The type that a returned row is read into.
    type Read: RowShape + Send + 'static;
}

impl<T: Table> Inserted for T {
    type Read = T;
}

/// An insert of rows of `T`. Made by `T::insert(row)` and `T::insert_all(rows)`.
#[must_use = "an insert does nothing until a handle writes it"]
pub struct Insert<T> {
    info: &'static TableInfo,
    rows: Arc<dyn RowList>,
    at: Origin,
    waived: Vec<Waiver>,
    table: PhantomData<fn() -> T>,
}

impl<T: Table> Insert<T> {
    #[doc(hidden)]
    #[track_caller]
    pub fn of<U: InsertValues<Table = T>>(rows: Vec<U>) -> Insert<T> {
        Insert::of_list(T::INFO, Arc::new(Rows { rows, measured: OnceLock::new() }))
    }

    /// Takes the next rows of an iterator, as many as are written at a time; `None` if it is exhausted.
    #[doc(hidden)]
    #[track_caller]
    pub fn take_ahead<U: InsertValues<Table = T>>(
        context: CompileContext<'_>,
        rows: &mut impl Iterator<Item = U>,
    ) -> Option<Insert<T>> {
        let most = if context.can_copy() { COPIED_AT_ONCE } else { ROWS_AHEAD };
        let mut taken = Vec::with_capacity(rows.size_hint().0.min(most));
        let mut measure = Measure::NOTHING;
        while taken.len() < most && measure.bytes < BYTES_AHEAD {
            let Some(row) = rows.next() else { break };
            row.pass_to(&mut measure);
            taken.push(row);
        }
        let rows = Rows { rows: taken, measured: OnceLock::from(measure) };
        (!rows.rows.is_empty()).then(|| Insert::of_list(T::INFO, Arc::new(rows)))
    }

    /// Waives the check of a policy for the rows that are written and for the rows that they refer to. The policy
    /// is then not asked whether this handle would see them.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] #[nepheline(policies(own_agency))] struct Site { #[nepheline(key, generated)] id: i64, agency_id: i64 }
    /// # struct AgencyId(i64);
    /// fn own_agency(s: SiteColumns, agency: &AgencyId) -> Condition {
    ///     s.agency_id.eq(agency.0)
    /// }
    ///
    /// let handed_over = Site::insert(SiteToInsert { agency_id: 2 }).waive_check(own_agency);
    /// let sql = handed_over.sql_carrying(Dialect::Sqlite, &Carried::new().with(AgencyId(1)))?;
    /// assert!(sql.policies()[0].is_check() && sql.policies()[0].is_waived());
    /// # Ok::<(), Error>(())
    /// ```
    #[track_caller]
    pub fn waive_check<C, N>(mut self, policy: impl Policy<C, N>) -> Insert<T> {
        self.waived.push(Waiver::of(&policy));
        self
    }
}

impl<T: Inserted> Insert<T> {
    #[track_caller]
    pub(crate) fn of_list(info: &'static TableInfo, rows: Arc<dyn RowList>) -> Insert<T> {
        let at = Origin::of(Location::caller());
        Insert { info, rows, at, waived: Vec::new(), table: PhantomData }
    }

    /// Returns the same insert, which this line of the program asked for.
    #[doc(hidden)]
    pub fn begun_at(self, at: Origin) -> Insert<T> {
        Insert { at, ..self }
    }

    pub(super) fn waived(&self) -> &[Waiver] {
        &self.waived
    }

    /// Returns the new rows as the checks see them.
    pub(super) fn stored(&self, context: CompileContext<'_>) -> Result<NewStored<'_>, Error> {
        let made = made(self.info, context, self.at)?;
        Ok(NewStored { rows: &*self.rows, table: self.info, made })
    }

    pub(super) fn rows(&self) -> usize {
        self.rows.count()
    }

    pub(super) fn at(&self) -> Origin {
        self.at
    }

    /// Returns the columns that a new row gives.
    pub(super) fn given(&self) -> impl Iterator<Item = &'static ColumnInfo> + use<T> {
        let columns = self.info.columns().iter();
        columns.filter(|column| column.is_given())
    }

    /// Returns the values of each of these rows, in the order of the given columns.
    pub(super) fn values(&self, rows: Range<usize>) -> impl Iterator<Item = Vec<LentBind<'_>>> {
        rows.map(|row| {
            let mut values = Vec::new();
            self.rows
                .lend(row..row + 1, &[], &mut |bind| values.push(bind));
            values
        })
    }

    fn rows_at_once(&self, context: CompileContext<'_>) -> usize {
        let columns = self.info.columns().iter();
        let columns = columns.filter(|column| !column.is_generated());
        context.grammar.rows_at_once(columns.count()).max(1)
    }

    /// Returns the ranges in which the rows are written: each as many rows as a statement takes well, or
    /// fewer if they are large.
    pub(super) fn ranges(&self, context: CompileContext<'_>) -> Vec<RowRange> {
        let (rows, at_once) = (self.rows(), self.rows_at_once(context));
        let mut ranges = Vec::with_capacity(rows.div_ceil(at_once));
        let mut first = 0;
        while first < rows {
            let most = (first + at_once).min(rows);
            let end = self.rows.end_within(first..most, BYTES_AT_ONCE);
            ranges.push(RowRange { first, end });
            first = end;
        }
        ranges
    }

    /// Returns the statement that inserts these rows.
    pub(super) fn of_rows(
        &self,
        context: CompileContext<'_>,
        rows: Range<usize>,
        returning: bool,
    ) -> Result<Statement<'_>, Error> {
        // A range that was cut by its size has an arbitrary number of rows, so its text will not occur again.
        let is_cut = rows.len() < self.rows() && rows.len() != self.rows_at_once(context);
        let inserted = self.with_binds(context, rows, returning, |new, binds| {
            Statement::to_insert(new, binds, context.grammar, self.at)
        })?;
        Ok(if is_cut { inserted.once() } else { inserted })
    }

    /// Returns the statement for these rows and their values.
    fn with_binds<'q>(
        &'q self,
        context: CompileContext<'_>,
        rows: Range<usize>,
        returning: bool,
        make: impl FnOnce(NewRows<'_>, Binds<'q>) -> Result<Statement<'q>, Error>,
    ) -> Result<Statement<'q>, Error> {
        if rows.is_empty() {
            return Err(Error::invalid_query(NO_ROWS).asked_at(self.at));
        }
        let made = made(self.info, context, self.at)?;
        let columns: Vec<&'static ColumnInfo> = self
            .given()
            .chain(made.iter().map(|(column, _)| *column))
            .collect();
        let new = NewRows {
            table: self.info,
            columns: &columns,
            rows: rows.len(),
            returning,
            schema: context.schema,
        };
        let made = made.into_iter().map(|(_, value)| value).collect();
        let width = columns.len();
        let binds = RowBinds { rows: &*self.rows, range: rows, width, made };
        make(new, Binds::OfRows(binds))
    }
}

/// The number of rows that one COPY writes: they are in memory together, and are tried again if one of them
/// is refused.
const COPIED_AT_ONCE: usize = 10_000;
/// The number of rows of an iterator that are in memory together where they are not copied: few enough that
/// the next rows reuse their memory.
const ROWS_AHEAD: usize = 2_000;
/// The approximate number of bytes of an iterator's rows in memory.
const BYTES_AHEAD: usize = 4 << 20;
/// The approximate number of bytes that one statement binds, well below the largest packet of a server.
const BYTES_AT_ONCE: usize = 512 << 10;
const NO_ROWS: &str = "there are no rows to insert, so there is no SQL; writing it inserts none";

impl<T: Inserted> Writes for Insert<T> {
    type Row = T::Read;
    type Read = T::Read;

    fn row_of(read: T::Read) -> T::Read {
        read
    }

    fn parts(
        &self,
        context: CompileContext<'_>,
        shape: WriteShape,
        keyed: bool,
    ) -> Result<Parts, Error> {
        let rows = self.rows();
        if keyed {
            return Ok(self.ranges(context).into_iter().map(Part::Keyed).collect());
        }
        if rows == 1 {
            return Ok(smallvec![Part::New(RowRange { first: 0, end: 1 })]);
        }
        // Rows of defaults are inserted one by one, and have nothing to copy.
        let copies =
            context.can_copy() && shape == WriteShape::Count && self.rows_at_once(context) > 1;
        Ok(match copies && rows > self.rows_at_once(context) {
            true => (0..rows)
                .step_by(COPIED_AT_ONCE)
                .map(|first| RowRange { first, end: (first + COPIED_AT_ONCE).min(rows) })
                .map(Part::Copied)
                .collect(),
            false => self.ranges(context).into_iter().map(Part::New).collect(),
        })
    }

    fn rows_of(&self, part: Part) -> Range<usize> {
        match part {
            Part::New(rows) | Part::Present(rows) | Part::Copied(rows) | Part::Keyed(rows) => {
                rows.first..rows.end
            }
            Part::Row(row) => row..row + 1,
            _ => 0..0,
        }
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        let checks = self.checks(context)?;
        let parts = self.parts(context, WriteShape::Count, false)?;
        let part = parts
            .first()
            .copied()
            .unwrap_or(Part::New(RowRange::default()));
        Ok(self
            .statement(context, &Step { part, ..Step::shown() })?
            .into_sql(checks.map_or(Vec::new(), |checks| checks.into_met())))
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        let rows = self.rows_of(step.part);
        if let Part::Copied(_) = step.part {
            return self.with_binds(context, rows, false, |new, binds| {
                Statement::to_copy(&new, binds, context.grammar, self.at)
            });
        }
        let keyed = matches!(step.part, Part::Keyed(_));
        let returning = step.shape == WriteShape::Rows || keyed;
        let inserted = self.of_rows(context, rows, returning)?;
        let inserted = inserted.returning(self.info, returning)?;
        Ok(if keyed { inserted.telling_keys(self.info) } else { inserted })
    }

    fn checks(&self, context: CompileContext<'_>) -> Result<Option<Box<Checks>>, Error> {
        match self.info.is_checked() {
            true => Checks::of(&self.stored(context)?, &self.waived, context)
                .map_err(|err| err.asked_at(self.at)),
            false => Ok(None),
        }
    }

    fn foreign_key(&self, table: Option<&str>) -> ErrorKind {
        match table.is_none_or(|table| table == self.info.name()) {
            true => ErrorKind::ParentNotFound,
            // A trigger has written to another table.
            false => ErrorKind::ForeignKeyViolation,
        }
    }

    fn origin(&self) -> Origin {
        self.at
    }

    fn table(&self) -> &'static TableInfo {
        self.info
    }
}

// Written by hand, because the derives would require `T: Clone` and `T: Debug`.
impl<T> Clone for Insert<T> {
    fn clone(&self) -> Self {
        Insert {
            info: self.info,
            rows: self.rows.clone(),
            at: self.at,
            waived: self.waived.clone(),
            table: PhantomData,
        }
    }
}

impl<T> fmt::Debug for Insert<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Insert")
            .field("rows", &self.rows.count())
            .field("at", &self.at)
            .finish()
    }
}
