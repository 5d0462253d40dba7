//! Rows with others alongside: children beside their parents, read by a statement of their own for all
//! parents together. This module has all of it but the running.

mod companion;
mod lookup;

use crate::build::compile;
use crate::build::expr::{
    IntoOrders, KnownPerRow, Level, Maybe, MaybeCondition, PerRow, RowColumns,
};
use crate::build::table::Table;
use crate::dialect::Dialect;
use crate::model::{Carried, Error, Key, KeyedRow, Origin, RowShape};
use crate::plan::{Asking, Wanted};
use crate::sql::{Sql, Statement};
use crate::tree::{Asked, Node, Select};
use std::fmt;
use std::panic::Location;

pub use companion::Companion;
pub use lookup::{AtMostSole, Each, Found, Lookup, Sole};

use super::{Query, Tables};

/// Rows with others alongside; made by [`Query::alongside`].
///
/// `R` is what a row itself is read into, `B` says what stands alongside. Filters, orders and limits
/// are those of the rows, and may be given before or after.
#[must_use = "a query does nothing until a handle reads it"]
pub struct Alongside<T, R, B> {
    query: Query<T, R>,
    companions: B,
}

impl<T: Tables, R> Query<T, R> {
    /// Reads beside each row the rows of another table that belong to it, in one further statement
    /// for all of them together, however many there are.
    ///
    /// | the closure returns | beside each row stands |
    /// |---|---|
    /// | a to-many relation, or any query that compares a column of its own with one of the row by `eq` | a `Vec` of its rows, empty where there are none |
    /// | a to-one relation | an `Arc` of that row, which the rows that lead to it share |
    /// | a nullable to-one relation | an `Option` of that |
    ///
    /// The query alongside has filters, orders and a projection of its own. **Its limit and offset
    /// count for each row**: the three newest of each. It may have others alongside in turn, and
    /// [`map_rows`](Self::map_rows) fills a struct of yours. Called again it adds a further `Vec`.
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
    /// The statement of the rows reads the columns by which the others are found; that of the others
    /// has them as one list:
    ///
    /// ```text
    /// SELECT "specimen"."id", .., "specimen"."borehole_id" FROM "specimen" WHERE "specimen"."borehole_id" = ANY($1)
    /// ```
    ///
    /// Where several columns relate them, each has a list, and what belongs to no row is left out
    /// when it arrives.
    ///
    /// # Errors
    ///
    /// When compiled, [`UnfitParts`](crate::ErrorKind::UnfitParts) for a query whose rows are not
    /// found by columns that equal columns of the row, or that asks for other columns of it. When
    /// read, [`Dangling`](crate::ErrorKind::Dangling) where a required row is missing.
    #[track_caller]
    pub fn alongside<F, X>(self, of: F) -> Alongside<T, R, (X::Companion,)>
    where
        F: FnOnce(T::Columns) -> X,
        X: Beside,
    {
        Alongside { query: self, companions: () }.alongside(of)
    }

    /// Makes something else of each row when it is read, by a function of the program: a struct of
    /// its own, for example. The database does not see it.
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
    /// Adds what stands alongside, as [`Query::alongside`] does.
    #[track_caller]
    pub fn alongside<F, X>(mut self, of: F) -> Alongside<T, R, B::Output>
    where
        F: FnOnce(T::Columns) -> X,
        X: Beside,
        B: AndThen<X::Companion>,
    {
        let at = Origin::of(Location::caller());
        let special = self.query.select.special.as_ref();
        if special.is_some_and(|special| special.distinct.is_some()) {
            // The keys would be read too, and rows that differ in them only would both be there.
            self.query
                .select
                .filters
                .push(Asked { what: Node::Unfit(DISTINCT), at });
        }
        let companion = of(self.query.columns()).stand_beside(&mut self.query.select, at);
        Alongside { query: self.query, companions: self.companions.and_then(companion) }
    }

    /// As [`Query::filter`], of the rows.
    #[track_caller]
    pub fn filter<F, M>(mut self, condition: F) -> Self
    where
        F: FnOnce(T::Columns) -> M,
        M: MaybeCondition<Level: KnownPerRow>,
    {
        self.query = self.query.filter(condition);
        self
    }

    /// As [`Query::order_by`], of the rows.
    #[track_caller]
    pub fn order_by<F, O>(mut self, orders: F) -> Self
    where
        F: FnOnce(T::Columns) -> O,
        O: IntoOrders<PerRow>,
    {
        self.query = self.query.order_by(orders);
        self
    }

    /// As [`Query::limit`], of the rows.
    #[track_caller]
    pub fn limit(mut self, rows: u64) -> Self {
        self.query = self.query.limit(rows);
        self
    }

    /// As [`Query::offset`], of the rows.
    #[track_caller]
    pub fn offset(mut self, rows: u64) -> Self {
        self.query = self.query.offset(rows);
        self
    }

    /// As [`Query::apply`].
    pub fn apply<Q>(self, function: impl FnOnce(Self) -> Q) -> Q {
        function(self)
    }

    /// As [`Query::map_rows`]: the function is given the row and what stands alongside, as a tuple.
    pub fn map_rows<F, P>(self, make: F) -> MappedRows<Self, F>
    where
        B: Companions<R>,
        F: Fn(B::Row) -> P,
    {
        MappedRows { query: self, make }
    }

    /// The SQL of each statement in the order in which they run: that of the rows first. The lists of
    /// keys are known only when the rows have been read, and are empty here.
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

    /// The same on a handle that carries these values, as [`Query::sql_carrying`].
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
            .show(Asking::to_show(dialect.grammar(), carried), &mut shown)?;
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

/// A query of whose rows something else is made when they are read; made by [`Query::map_rows`].
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

const DISTINCT: &str = "nothing can stand alongside distinct rows, which are no longer rows of a table; \
     ask the rows of `from(query)`";

/// What can stand alongside rows: a relation of theirs, or a query.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot stand alongside rows",
    label = "expected a relation, such as `b.specimens()`, or a query that compares a column with one of the row"
)]
pub trait Beside {
    #[doc(hidden)]
    type Companion;

    #[doc(hidden)]
    fn stand_beside(self, rows: &mut Select, at: Origin) -> Self::Companion;
}

/// A query that can be read, with or without others alongside: how its statement is had, and what the
/// rows of that are.
#[doc(hidden)]
pub trait Selects {
    /// What the caller gets for each row.
    type Row: Send + 'static;
    /// What the first cells of a row are.
    type Base: RowShape + Send + 'static;
    /// What a row is read into when nothing stands beside it yet.
    type Read: RowShape + Send + 'static;

    /// A row with the keys by which others are found for it.
    fn with_keys(base: Self::Base, keys: Key) -> Self::Read;
    fn select(&self) -> &Select;
    fn select_mut(&mut self) -> &mut Select;
    fn show(&self, asking: Asking<'_>, shown: &mut Vec<Sql>) -> Result<(), Error>;

    fn statement<'s>(&'s self, asking: Asking<'s>, wanted: Wanted) -> Result<Statement<'s>, Error> {
        compile::to_run(self.select(), asking, wanted)
    }

    /// The line of the program that began the query.
    fn asked_at(&self) -> Origin {
        self.select().asked_at
    }

    /// The first table whose rows are read, for the message that there is none or more than one.
    fn table_name(&self) -> &'static str {
        self.select().table.name()
    }

    /// What to call the row of a query by key, for the message that it does not exist.
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

    fn show(&self, asking: Asking<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        shown.push(compile::to_show(&self.select, asking, Wanted::Rows)?);
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

    fn show(&self, asking: Asking<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.query.show(asking, shown)?;
        self.companions.show(asking, shown)
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

    fn show(&self, asking: Asking<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.query.show(asking, shown)
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
    type Companion = Companion<Query<C::Row>, Sole>;

    fn stand_beside(self, rows: &mut Select, at: Origin) -> Self::Companion {
        Companion::one(self.probe().source, rows, at)
    }
}

impl<C: RowColumns<Row: Table>> Beside for Maybe<C> {
    type Companion = Companion<Query<C::Row>, AtMostSole>;

    fn stand_beside(self, rows: &mut Select, at: Origin) -> Self::Companion {
        Companion::one(self.probe().source, rows, at)
    }
}

/// What stands alongside, with one more.
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

/// All that stands alongside rows of `R`.
#[doc(hidden)]
pub trait Companions<R> {
    /// The row, and what stands beside it.
    type Row: Send + 'static;

    fn show(&self, asking: Asking<'_>, shown: &mut Vec<Sql>) -> Result<(), Error>;
}

/// A query alongside, and what it puts beside a row.
#[doc(hidden)]
pub trait StandsAlongside {
    type Beside: Send + 'static;

    fn show(&self, asking: Asking<'_>, shown: &mut Vec<Sql>) -> Result<(), Error>;
}

impl<Q: Selects + Clone, A: Found<Q::Row>> StandsAlongside for Companion<Q, A> {
    type Beside = A::Beside;

    fn show(&self, asking: Asking<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.among(&Lookup::<Q::Row>::of(self, std::iter::empty()))?
            .show(asking, shown)
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

            fn show(&self, asking: Asking<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($($name,)+) = self;
                $($name.show(asking, shown)?;)+
                Ok(())
            }
        }
    };
}

for_each_tuple!(companions, up_to_8);
