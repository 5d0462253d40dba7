//! INSERT .. SELECT.

use std::fmt;
use std::marker::PhantomData;
use std::panic::Location;

use smallvec::smallvec;

use super::Writes;
use crate::build::compile;
use crate::build::expr::Level;
use crate::build::policy::Policy;
use crate::build::query::{Query, Tables};
use crate::build::table::{RowStruct, Table};
use crate::model::{BindValue, ColumnInfo, Error, ErrorKind, Origin, SqlType, TableInfo};
use crate::plan::write::{Checks, Part, Parts, RowRange, Step, StoredRows, WriteShape, made};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::{Sql, Statement};
use crate::tree::{Located, Node, RawColumn, Select, Waiver};

/// An insert of the rows of a query. Made by [`Query::insert_into`].
#[must_use = "an insert does nothing until a handle writes it"]
pub struct InsertFrom<T> {
    select: Box<Select>,
    fields: &'static TableInfo,
    at: Origin,
    waived: Vec<Waiver>,
    table: PhantomData<fn() -> T>,
}

impl<U: Tables, R: RowStruct, L: Level> Query<U, R, L> {
    /// Inserts the rows of this query into a table: `INSERT .. SELECT`. The fields of the struct that they
    /// are read into name the columns. Carried values and stamps are added.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key, generated)] id: i64, label: String, top_m: f64 }
    /// #[derive(Debug, Table)]
    /// struct Listed {
    ///     #[nepheline(key, generated)]
    ///     id: i64,
    ///     label: String,
    /// }
    ///
    /// #[derive(Debug, RowShape)]
    /// struct Label {
    ///     label: String,
    /// }
    ///
    /// let deep = Specimen::rows().filter(|s| s.top_m.gt(500)).select(|s| shape!(Label { label: s.label }));
    /// assert_eq!(
    ///     deep.insert_into::<Listed>().sql(Dialect::Sqlite)?.text(),
    ///     r#"INSERT INTO "listed" ("label") SELECT "specimen"."label" AS "label" FROM "specimen" WHERE "specimen"."top_m" > ?"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) if the fields differ from the columns
    /// that the table must be given, in name, type or nullability.
    #[track_caller]
    pub fn insert_into<T: Table>(self) -> InsertFrom<T> {
        let at = Origin::of(Location::caller());
        InsertFrom {
            select: self.into_select(),
            fields: R::INFO,
            at,
            waived: Vec::new(),
            table: PhantomData,
        }
    }
}

const UNFIT: &str = "the fields of the query must be the columns that an insert gives: each once, with the same \
     name and type, and nullable only where the column is";

impl<T: Table> InsertFrom<T> {
    /// Waives the check of a policy, as [`Insert::waive_check`](crate::Insert::waive_check).
    #[track_caller]
    pub fn waive_check<C, N>(mut self, policy: impl Policy<C, N>) -> InsertFrom<T> {
        self.waived.push(Waiver::of(&policy));
        self
    }

    fn compiled(
        &self,
        context: CompileContext<'_>,
        returning: bool,
    ) -> Result<Statement<'_>, Error> {
        let (given, fields) =
            (T::INFO.columns().iter().filter(|c| c.is_given()), self.fields.columns());
        let fits = |field: &ColumnInfo, column: &ColumnInfo| {
            let wide = |ty| {
                if matches!(ty, SqlType::SmallInt | SqlType::Integer) {
                    SqlType::BigInt
                } else {
                    ty
                }
            };
            field.name() == column.name()
                && wide(field.sql_type()) == wide(column.sql_type())
                && (column.is_nullable() || !field.is_nullable())
        };
        let columns: Option<Vec<&'static ColumnInfo>> = fields
            .iter()
            .map(|field| given.clone().find(|column| fits(field, column)))
            .collect();
        let columns = columns.filter(|columns| columns.len() == given.clone().count());
        let Some(mut columns) = columns else {
            return Err(Error::invalid_query(UNFIT).asked_at(self.at));
        };
        let mut select = self.select.copied();
        if select.values.is_none() {
            let source = select.entry();
            let whole = fields
                .iter()
                .map(|info| Node::Column(RawColumn { source, info }));
            select.values = Some(Located { what: whole.collect(), at: self.at });
        }
        for (column, value) in made(T::INFO, context, self.at)? {
            columns.push(column);
            if let Some(values) = &mut select.values {
                values.what.push(Node::Bind(value));
            }
        }
        let rows = compile::to_run(&select, context, ReadShape::Rows)?;
        rows.inserted_into(T::INFO, &columns, returning, context.schema)?
            .returning(T::INFO, returning)
    }
}

/// The rows of a query as the checks see them: only their carried values and stamps are known.
struct Copied {
    table: &'static TableInfo,
    made: Vec<(&'static ColumnInfo, BindValue)>,
}

impl StoredRows for Copied {
    fn table(&self) -> &'static TableInfo {
        self.table
    }

    fn writes_some(&self) -> bool {
        false
    }

    fn sets(&self, _: &'static ColumnInfo) -> bool {
        true
    }

    fn given(&self, columns: &[&'static ColumnInfo]) -> Option<Vec<Vec<BindValue>>> {
        let tuple = columns.iter().map(|column| {
            let made = self
                .made
                .iter()
                .find(|(made, _)| std::ptr::eq(*made, *column));
            made.map(|(_, value)| value.clone())
        });
        Some(vec![tuple.collect::<Option<Vec<BindValue>>>()?])
    }
}

impl<T: Table> Writes for InsertFrom<T> {
    type Row = T;
    type Read = T;

    fn row_of(read: T) -> T {
        read
    }

    fn statement(
        &self,
        context: CompileContext<'_>,
        step: &Step<'_>,
    ) -> Result<Statement<'_>, Error> {
        let keyed = matches!(step.part, Part::Keyed(_));
        let inserted = self.compiled(context, step.shape == WriteShape::Rows || keyed)?;
        Ok(if keyed { inserted.telling_keys(T::INFO) } else { inserted })
    }

    fn shown(&self, context: CompileContext<'_>) -> Result<Sql, Error> {
        let checks = self
            .checks(context)?
            .map_or(Vec::new(), |checks| checks.into_met());
        Ok(self.statement(context, &Step::shown())?.into_sql(checks))
    }

    fn parts(&self, _: CompileContext<'_>, _: WriteShape, keyed: bool) -> Result<Parts, Error> {
        Ok(smallvec![if keyed { Part::Keyed(RowRange::default()) } else { Part::All }])
    }

    fn checks(&self, context: CompileContext<'_>) -> Result<Option<Box<Checks>>, Error> {
        match T::INFO.is_checked() {
            true => {
                let stored = Copied { table: T::INFO, made: made(T::INFO, context, self.at)? };
                Checks::of(&stored, &self.waived, context).map_err(|err| err.asked_at(self.at))
            }
            false => Ok(None),
        }
    }

    fn foreign_key(&self, table: Option<&str>) -> ErrorKind {
        match table.is_none_or(|table| table == T::INFO.name()) {
            true => ErrorKind::ParentNotFound,
            false => ErrorKind::ForeignKeyViolation,
        }
    }

    fn origin(&self) -> Origin {
        self.at
    }

    fn table(&self) -> &'static TableInfo {
        T::INFO
    }
}

// Written by hand, because the derives would require `T: Clone` and `T: Debug`.
impl<T> Clone for InsertFrom<T> {
    fn clone(&self) -> Self {
        let InsertFrom { select, fields, at, waived, table: _ } = self;
        InsertFrom {
            select: Box::new(select.copied()),
            fields,
            at: *at,
            waived: waived.clone(),
            table: PhantomData,
        }
    }
}

impl<T> fmt::Debug for InsertFrom<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("InsertFrom").field(&self.select).finish()
    }
}
