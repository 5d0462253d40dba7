//! Companions: related rows that one further statement reads for all rows together. This module does
//! everything but run them.

mod companion;
mod in_hand;
mod lookup;

use crate::build::compile;
use crate::build::expr::{
    IntoOrders, KnownPerRow, Level, Maybe, MaybeCondition, PerRow, RowColumns,
};
use crate::build::prepared::{KeptCompanion, RowCount, Unfilled};
use crate::build::table::Table;
use crate::dialect::Dialect;
use crate::model::{Carried, Error, Key, KeyedRow, Origin, RowShape};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::{Sql, Statement};
use crate::tree::{Located, Node, Select};
use std::fmt;
use std::panic::Location;

pub use companion::{Companion, OfParents};
pub use in_hand::{InHand, StatementAlongside};
pub use lookup::{Each, Found, Lookup, OptionalParent, RequiredParent};

use super::{Query, Tables};

/// A query with companions; made by [`Query::alongside`].
///
/// `R` is the type that a row itself is read into, `B` describes the companions. Filters, orders and limits
/// apply to the rows, and may be given before or after.
#[must_use = "a query does nothing until a handle reads it"]
pub struct Alongside<T, R, B> {
    query: Query<T, R>,
    companions: B,
}

impl<T: Tables, R> Query<T, R> {
    /// Reads related rows beside each row. One further statement reads them for all rows, however many there
    /// are.
    ///
    /// | the closure returns | beside each row |
    /// |---|---|
    /// | a to-many relation, or any query that compares a column of its own with one of the row by `eq` | a `Vec` of its rows, empty where there are none |
    /// | a to-one relation | an `Arc` of that row, shared by the rows that refer to it |
    /// | a nullable to-one relation | an `Option` of that |
    ///
    /// The companion has filters, orders and a selection of its own. **Its limit and offset apply to each
    /// row**: the three newest of each. It may have companions itself, and [`map_rows`](Self::map_rows)
    /// converts into a struct of yours. A second call adds a second companion.
    ///
    /// ```
    /// use std::sync::Arc;
    /// use nepheline::blocking::Database;
    /// use nepheline::prelude::*;
    /// # #[derive(Debug, Clone, Table)] struct Site { #[nepheline(key)] id: i64, name: String }
    ///
    /// #[derive(Debug, Clone, Table)]
    /// #[nepheline(children(specimens: Specimen by borehole_id))]
    /// struct Borehole {
    ///     #[nepheline(key)]
    ///     id: i64,
    ///     #[nepheline(references = Site)]
    ///     site_id: i64,
    /// }
    ///
    /// #[derive(Debug, Clone, Table)]
    /// struct Specimen {
    ///     #[nepheline(key)]
    ///     id: i64,
    ///     #[nepheline(references = Borehole)]
    ///     borehole_id: i64,
    ///     top_m: f64,
    /// }
    ///
    /// # fn read(db: &Database) -> Result<(), Error> {
    /// let query = Borehole::rows()
    ///     .alongside(|b| b.specimens().order_by(|s| s.top_m.desc()).limit(3))
    ///     .alongside(|b| b.site());
    /// let rows: Vec<(Borehole, Vec<Specimen>, Arc<Site>)> = db.read(&query)?; // three statements
    /// # Ok(())
    /// # }
    /// ```
    ///
    /// The first statement also reads the columns that relate the companion; the second has their values as
    /// one list:
    ///
    /// ```text
    /// SELECT "specimen"."id", .., "specimen"."borehole_id" FROM "specimen" WHERE "specimen"."borehole_id" = ANY($1)
    /// ```
    ///
    /// With several related columns, each has a list, and rows without a match are dropped when they arrive.
    ///
    /// # Errors
    ///
    /// When compiled, [`InvalidQuery`](crate::ErrorKind::InvalidQuery) if the companion does not compare its
    /// columns with columns of the row by `eq`, or uses other columns of the row. When read,
    /// [`RequiredRowMissing`](crate::ErrorKind::RequiredRowMissing) if a required row is missing.
    #[track_caller]
    pub fn alongside<F, X>(self, of: F) -> Alongside<T, R, (X::Companion,)>
    where
        F: FnOnce(T::Columns) -> X,
        X: Beside,
    {
        Alongside { query: self, companions: () }.alongside(of)
    }

    /// Converts each row with a function when it is read, for example into a struct of your own. The database
    /// does not see it.
    ///
    /// ```
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Clone, Table)] #[nepheline(children(specimens: Specimen by borehole_id))] struct Borehole { #[nepheline(key)] id: i64 }
    /// # #[derive(Debug, Clone, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(references = Borehole)] borehole_id: i64 }
    /// #[derive(Debug, Clone)]
    /// struct Page {
    ///     borehole: Borehole,
    ///     specimens: Vec<Specimen>,
    /// }
    ///
    /// let pages = Borehole::rows()
    ///     .alongside(|b| b.specimens())
    ///     .map_rows(|(borehole, specimens)| Page { borehole, specimens });
    /// # let _ = pages;
    /// ```
    pub fn map_rows<F, P>(self, make: F) -> MappedRows<Self, F>
    where
        F: Fn(R) -> P,
    {
        MappedRows { query: self, make }
    }
}

impl<T: Tables, R, B> Alongside<T, R, B> {
    /// Adds a companion, as [`Query::alongside`] does.
    #[track_caller]
    pub fn alongside<F, X>(mut self, of: F) -> Alongside<T, R, B::Output>
    where
        F: FnOnce(T::Columns) -> X,
        X: Beside,
        B: AndThen<X::Companion>,
    {
        let at = Origin::of(Location::caller());
        let grouping = self.query.select.grouping.as_ref();
        if grouping.is_some_and(|grouping| grouping.distinct.is_some()) {
            // The key cells would be selected too, so that DISTINCT would keep rows that differ only in them.
            self.query
                .select
                .filters
                .push(Located { what: Node::Unfit(DISTINCT), at });
        }
        let companion = of(self.query.columns()).stand_beside(&mut self.query.select, at);
        Alongside { query: self.query, companions: self.companions.and_then(companion) }
    }

    /// Filters the rows, as [`Query::filter`].
    #[track_caller]
    pub fn filter<F, M>(mut self, condition: F) -> Self
    where
        F: FnOnce(T::Columns) -> M,
        M: MaybeCondition<Level: KnownPerRow>,
    {
        self.query = self.query.filter(condition);
        self
    }

    /// Orders the rows, as [`Query::order_by`].
    #[track_caller]
    pub fn order_by<F, O>(mut self, orders: F) -> Self
    where
        F: FnOnce(T::Columns) -> O,
        O: IntoOrders<PerRow>,
    {
        self.query = self.query.order_by(orders);
        self
    }

    /// Limits the rows, as [`Query::limit`].
    #[track_caller]
    pub fn limit(mut self, rows: impl RowCount) -> Self {
        self.query = self.query.limit(rows);
        self
    }

    /// Skips rows, as [`Query::offset`].
    #[track_caller]
    pub fn offset(mut self, rows: impl RowCount) -> Self {
        self.query = self.query.offset(rows);
        self
    }

    /// Passes the query to a function, as [`Query::apply`].
    pub fn apply<Q>(self, function: impl FnOnce(Self) -> Q) -> Q {
        function(self)
    }

    /// Converts each row, as [`Query::map_rows`]: the function receives the row and its companions as a
    /// tuple.
    pub fn map_rows<F, P>(self, make: F) -> MappedRows<Self, F>
    where
        B: Companions<R>,
        F: Fn(B::Row) -> P,
    {
        MappedRows { query: self, make }
    }

    /// Returns the SQL of each statement in the order in which they run. The lists of keys are only known
    /// when rows have been read, and are empty here.
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`].
    pub fn sql(&self, dialect: Dialect) -> Result<Vec<Sql>, Error>
    where
        B: Companions<R>,
    {
        self.sql_carrying(dialect, &Carried::new())
    }

    /// Returns the SQL on a handle that carries these values, as [`Query::sql_carrying`].
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql_carrying`].
    pub fn sql_carrying(&self, dialect: Dialect, carried: &Carried) -> Result<Vec<Sql>, Error>
    where
        B: Companions<R>,
    {
        let mut shown = vec![self.query.sql_carrying(dialect, carried)?];
        self.companions
            .show(CompileContext::to_show(dialect.grammar(), carried), &mut shown)?;
        Ok(shown)
    }

    #[doc(hidden)]
    pub fn query(&self) -> &Query<T, R> {
        &self.query
    }

    #[doc(hidden)]
    pub fn companions(&self) -> &B {
        &self.companions
    }
}

impl<T, R, B: Clone> Clone for Alongside<T, R, B> {
    fn clone(&self) -> Self {
        Alongside { query: self.query.clone(), companions: self.companions.clone() }
    }
}

impl<T, R, B: fmt::Debug> fmt::Debug for Alongside<T, R, B> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("Alongside")
            .field("query", &self.query)
            .field("companions", &self.companions)
            .finish()
    }
}

/// A query whose rows are converted when they are read; made by [`Query::map_rows`].
#[derive(Clone)]
#[must_use = "a query does nothing until a handle reads it"]
pub struct MappedRows<Q, F> {
    query: Q,
    make: F,
}

impl<Q, F> MappedRows<Q, F> {
    #[doc(hidden)]
    pub fn query(&self) -> &Q {
        &self.query
    }

    #[doc(hidden)]
    pub fn make(&self) -> &F {
        &self.make
    }
}

impl<Q: fmt::Debug, F> fmt::Debug for MappedRows<Q, F> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("MappedRows").field(&self.query).finish()
    }
}

const DISTINCT: &str = "a query with `distinct` cannot have companions, because its rows are not rows of a table; use \
     `from(query)`";

/// The companions that rows can have: a relation of theirs, or a query.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be read alongside rows",
    label = "expected a relation, such as `b.specimens()`, or a query that compares a column with one of the row"
)]
pub trait Beside {
    #[doc(hidden)]
    type Companion;

    #[doc(hidden)]
    fn stand_beside(self, rows: &mut Select, at: Origin) -> Self::Companion;
}

/// A query that can be read, with or without companions: its statement, and the types of its rows.
#[doc(hidden)]
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a query",
    label = "expected a query, such as `Specimen::rows()`",
    note = "hand-written SQL needs a type for its rows: `statement!(..).rows_as::<R>()`, `R::rows_from(call!(..))`"
)]
pub trait Selects {
    /// The type that the caller gets for each row.
    type Row: Send + 'static;
    /// The type of the first cells of a row.
    type Base: RowShape + Send + 'static;
    /// The type of a row before its companions are attached.
    type Read: RowShape + Send + 'static;

    /// Returns a row with the keys that match its companions.
    fn with_keys(base: Self::Base, keys: Key) -> Self::Read;
    fn select(&self) -> &Select;
    fn select_mut(&mut self) -> &mut Select;

    /// Visits what each companion of a prepared query keeps, also in companions.
    fn each_companion(&mut self, _: &mut dyn FnMut(&mut Option<KeptCompanion>)) {}

    /// Returns a prepared query as it was built.
    fn unfilled(&self) -> Option<Unfilled<'_>> {
        None
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error>;

    fn statement<'s>(
        &'s self,
        context: CompileContext<'s>,
        shape: ReadShape,
    ) -> Result<Statement<'s>, Error> {
        compile::to_run(self.select(), context, shape)
    }

    /// Returns the line of the program that began the query.
    fn asked_at(&self) -> Origin {
        self.select().asked_at
    }

    /// Returns the first table whose rows are read, for the message that there is no row or more than one.
    fn table_name(&self) -> &'static str {
        self.select().table.name()
    }

    /// Returns the key of a query by key, for the message that the row does not exist.
    fn key_sought(&self) -> Option<String> {
        self.select().key_sought()
    }
}

impl<T: Tables, R: RowShape + Send + 'static, L: Level> Selects for Query<T, R, L> {
    type Row = R;
    type Base = R;
    type Read = R;

    fn with_keys(base: R, _: Key) -> R {
        base
    }

    fn select(&self) -> &Select {
        &self.select
    }

    fn select_mut(&mut self) -> &mut Select {
        &mut self.select
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        shown.push(compile::to_show(&self.select, context, ReadShape::Rows)?);
        Ok(())
    }
}

impl<T, R, B> Selects for Alongside<T, R, B>
where
    T: Tables,
    R: RowShape + Send + 'static,
    B: Companions<R>,
{
    type Row = B::Row;
    type Base = R;
    type Read = KeyedRow<R>;

    fn with_keys(row: R, keys: Key) -> KeyedRow<R> {
        KeyedRow { row, keys }
    }

    fn select(&self) -> &Select {
        &self.query.select
    }

    fn select_mut(&mut self) -> &mut Select {
        &mut self.query.select
    }

    fn each_companion(&mut self, change: &mut dyn FnMut(&mut Option<KeptCompanion>)) {
        self.companions.each_companion(change);
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.query.show(context, shown)?;
        self.companions.show(context, shown)
    }
}

impl<Q, F, P> Selects for MappedRows<Q, F>
where
    Q: Selects,
    F: Fn(Q::Row) -> P,
    P: Send + 'static,
{
    type Row = P;
    type Base = Q::Base;
    type Read = Q::Read;

    fn with_keys(base: Q::Base, keys: Key) -> Q::Read {
        Q::with_keys(base, keys)
    }

    fn select(&self) -> &Select {
        self.query.select()
    }

    fn select_mut(&mut self) -> &mut Select {
        self.query.select_mut()
    }

    fn each_companion(&mut self, change: &mut dyn FnMut(&mut Option<KeptCompanion>)) {
        self.query.each_companion(change);
    }

    fn unfilled(&self) -> Option<Unfilled<'_>> {
        self.query.unfilled()
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.query.show(context, shown)
    }

    fn statement<'s>(
        &'s self,
        context: CompileContext<'s>,
        shape: ReadShape,
    ) -> Result<Statement<'s>, Error> {
        self.query.statement(context, shape)
    }
}

impl<T: Tables, R: RowShape + Send + 'static, L: Level> Beside for Query<T, R, L> {
    type Companion = Companion<Self, Each>;

    fn stand_beside(self, rows: &mut Select, _: Origin) -> Self::Companion {
        Companion::many(self, rows)
    }
}

impl<T, R, B> Beside for Alongside<T, R, B>
where
    T: Tables,
    R: RowShape + Send + 'static,
    B: Companions<R>,
{
    type Companion = Companion<Self, Each>;

    fn stand_beside(self, rows: &mut Select, _: Origin) -> Self::Companion {
        Companion::many(self, rows)
    }
}

impl<Q, F, P> Beside for MappedRows<Q, F>
where
    Q: Selects,
    F: Fn(Q::Row) -> P,
    P: Send + 'static,
{
    type Companion = Companion<Self, Each>;

    fn stand_beside(self, rows: &mut Select, _: Origin) -> Self::Companion {
        Companion::many(self, rows)
    }
}

impl<C: RowColumns<Row: Table>> Beside for C {
    type Companion = Companion<Query<C::Row>, RequiredParent>;

    fn stand_beside(self, rows: &mut Select, at: Origin) -> Self::Companion {
        Companion::one(self.probe().source, rows, at)
    }
}

impl<C: RowColumns<Row: Table>> Beside for Maybe<C> {
    type Companion = Companion<Query<C::Row>, OptionalParent>;

    fn stand_beside(self, rows: &mut Select, at: Origin) -> Self::Companion {
        Companion::one(self.probe().source, rows, at)
    }
}

/// Child rows or the rows of a query, in the written type of a query with companions; `R` is what is read of each.
///
/// Every such query has a type that a field or a signature can name. A function in place of a closure makes the type of
/// [`map_rows`](Query::map_rows) one of them too:
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::{Alongside, MappedRows, ParentBeside, RowsBeside};
/// # #[derive(Debug, Clone, Table)] struct Site { #[nepheline(key)] id: i64 }
/// # #[derive(Debug, Clone, Table)]
/// # #[nepheline(children(specimens: Specimen by borehole_id))]
/// # struct Borehole { #[nepheline(key)] id: i64, #[nepheline(references = Site)] site_id: i64, name: String }
/// # #[derive(Debug, Clone, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(references = Borehole)] borehole_id: i64 }
///
/// type WithParts = Alongside<Borehole, Borehole, (RowsBeside<Specimen>, ParentBeside<Site>)>;
///
/// struct Report {
///     boreholes: MappedRows<WithParts, fn((Borehole, Vec<Specimen>, std::sync::Arc<Site>)) -> String>,
/// }
///
/// fn with_parts() -> WithParts {
///     Borehole::rows().alongside(|b| b.specimens()).alongside(|b| b.site())
/// }
///
/// let report = Report {
///     boreholes: with_parts().map_rows(|(b, specimens, _)| format!("{}: {}", b.name, specimens.len())),
/// };
/// # let _ = report;
/// ```
pub type RowsBeside<T, R = T> = Companion<Query<T, R>, Each>;

/// A required parent in the written type of a query with companions; see [`RowsBeside`].
pub type ParentBeside<T> = Companion<Query<T>, RequiredParent>;

/// A parent that may be missing, in the written type of a query with companions; see [`RowsBeside`].
pub type OptionalParentBeside<T> = Companion<Query<T>, OptionalParent>;

/// A list of companions with one more.
#[doc(hidden)]
pub trait AndThen<X> {
    type Output;

    fn and_then(self, companion: X) -> Self::Output;
}

impl<X> AndThen<X> for () {
    type Output = (X,);

    fn and_then(self, companion: X) -> (X,) {
        (companion,)
    }
}

/// The companions of rows of type `R`.
#[doc(hidden)]
pub trait Companions<R> {
    /// The row with its companions.
    type Row: Send + 'static;

    fn each_companion(&mut self, change: &mut dyn FnMut(&mut Option<KeptCompanion>));

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error>;
}

/// A companion, and the type that it puts beside a row.
#[doc(hidden)]
pub trait StandsAlongside {
    type Beside: Send + 'static;

    fn each_companion(&mut self, change: &mut dyn FnMut(&mut Option<KeptCompanion>));

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error>;
}

impl<Q: Selects + Clone, A: Found<Q::Row>> StandsAlongside for Companion<Q, A> {
    type Beside = A::Beside;

    fn each_companion(&mut self, change: &mut dyn FnMut(&mut Option<KeptCompanion>)) {
        change(&mut self.kept);
        self.query.each_companion(change);
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.of_parents(&Lookup::<Q::Row>::of(self, std::iter::empty()))?
            .show(context, shown)
    }
}

macro_rules! companions {
    ($($name:ident)+) => {
        impl<Last, $($name),+> AndThen<Last> for ($($name,)+) {
            type Output = ($($name,)+ Last,);

            fn and_then(self, companion: Last) -> Self::Output {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($($name,)+) = self;
                ($($name,)+ companion,)
            }
        }

        impl<Row: Send + 'static, $($name: StandsAlongside),+> Companions<Row> for ($($name,)+) {
            type Row = (Row, $($name::Beside,)+);

            fn each_companion(&mut self, change: &mut dyn FnMut(&mut Option<KeptCompanion>)) {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($($name,)+) = self;
                $($name.each_companion(change);)+
            }

            fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($($name,)+) = self;
                $($name.show(context, shown)?;)+
                Ok(())
            }
        }
    };
}

for_each_tuple!(companions, up_to_8);
