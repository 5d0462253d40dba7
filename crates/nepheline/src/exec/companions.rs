//! Readable queries, and the loading of companions as steps without I/O: each step is a statement with the
//! sink of its rows.

use nepheline_core::internal::{
    ByName, CompileContext, Companion, Companions, Found, InHand, Key, KeyPart, KeyedRow, Lookup, OfParents, RawRow, Selects,
    StandsAlongside,
    Statement,
};
use nepheline_core::{
    Alongside, Bound, Error, Level, MappedRows, NamedRows, NamedValues, Query, RowShape, StatementAlongside, StatementRows, Table, Tables,
};

use super::access::Access;
use super::ask::Ask;
use super::sink::{Gathering, Sink};

/// A query that handles read: a [`Query`], one with companions ([`Alongside`]), or one with converted rows
/// ([`MappedRows`]).
///
/// Name it in a function that accepts any: `fn export(query: &impl Readable<Row = Specimen>)`.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a query",
    label = "expected a query, such as `Specimen::rows()`",
    note = "hand-written SQL needs a type for its rows: `statement!(..).rows_as::<R>()`, `R::rows_from(call!(..))`"
)]
pub trait Readable: Completes {
    /// Marks the query for `explain` and `explain_analyze` on a handle with `policies_required`. A plan tells how many
    /// rows there are, those that policies hide included. The query itself stays under its policies.
    ///
    /// ```no_run
    /// # use nepheline::blocking::Database;
    /// # use nepheline::prelude::*;
    /// # #[derive(Debug, Table)] struct Lab { #[nepheline(key)] id: i64 }
    /// # fn f(db: Database) -> Result<(), Error> {
    /// println!("{}", db.explain(&Lab::rows().outside_policies())?);
    /// # Ok(())
    /// # }
    /// ```
    fn outside_policies(&self) -> OutsidePolicies<'_, Self>
    where
        Self: Sized,
    {
        OutsidePolicies(self)
    }
}

/// A query whose plan may tell of rows that policies hide; made by [`Readable::outside_policies`].
#[derive(Debug, Clone, Copy)]
pub struct OutsidePolicies<'q, Q>(&'q Q);

/// A query that handles explain: a [`Readable`] one, or [`OutsidePolicies`].
pub trait Explainable: Sync {
    /// The query itself.
    #[doc(hidden)]
    type Query: Readable;

    #[doc(hidden)]
    fn query(&self) -> &Self::Query;

    /// Tells whether the plan may tell of hidden rows.
    #[doc(hidden)]
    const IS_OUTSIDE: bool;
}

impl<Q: Readable> Explainable for Q {
    type Query = Q;

    fn query(&self) -> &Q {
        self
    }

    const IS_OUTSIDE: bool = false;
}

impl<Q: Readable> Explainable for OutsidePolicies<'_, Q> {
    type Query = Q;

    fn query(&self) -> &Q {
        self.0
    }

    const IS_OUTSIDE: bool = true;
}

impl<Q: Completes> Readable for Q {}

/// The next statement of a read with companions, and the sink of its rows.
#[expect(missing_debug_implementations, reason = "it borrows what has none")]
pub struct Step<'s> {
    pub(crate) ask: &'s dyn Ask,
    pub(crate) sink: &'s mut dyn Sink,
}

/// A query whose rows are complete when its companions have been read.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not a query",
    label = "expected a query, such as `Specimen::rows()`",
    note = "hand-written SQL needs a type for its rows: `statement!(..).rows_as::<R>()`, `R::rows_from(call!(..))`"
)]
pub trait Completes: Selects + Send + Sync {
    /// The progress of loading the companions.
    type Loading: Send;

    /// True if there are companions to read.
    const HAS_COMPANIONS: bool;

    /// Returns a row that is complete without companions, or the row again.
    fn plain(&self, row: Self::Read) -> Result<Self::Row, Self::Read>;

    fn loading(&self, rows: Vec<Self::Read>) -> Self::Loading;

    /// Continues with the next statement, when the rows of the last one have arrived; returns whether there
    /// is one.
    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error>;

    /// Returns the current statement.
    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>>;

    fn finish(&self, loading: Self::Loading) -> Result<Vec<Self::Row>, Error>;

    /// Attaches rows to the rows that they belong to, or returns them if they need companions first.
    fn keep(
        &self,
        arrived: Vec<KeyedRow<Self::Base>>,
        lookup: &mut Lookup<Self::Row>,
    ) -> Option<(Vec<Key>, Self::Loading)> {
        let width = lookup.width();
        let each = arrived.into_iter().map(|KeyedRow { row, mut keys }| {
            let own: Key = keys.drain(..width.min(keys.len())).collect();
            (own, Self::with_keys(row, keys))
        });
        let (keys, rows): (Vec<Key>, Vec<Self::Read>) = each.unzip();
        Some((keys, self.loading(rows)))
    }
}

impl<T: Tables, R: RowShape + Send + 'static, L: Level> Completes for Query<T, R, L> {
    type Loading = Vec<R>;

    const HAS_COMPANIONS: bool = false;

    fn plain(&self, row: R) -> Result<R, R> {
        Ok(row)
    }

    fn loading(&self, rows: Vec<R>) -> Vec<R> {
        rows
    }

    fn advance(&self, _: &mut Vec<R>) -> Result<bool, Error> {
        Ok(false)
    }

    fn step<'s>(&'s self, _: &'s mut Vec<R>) -> Option<Step<'s>> {
        None
    }

    fn finish(&self, rows: Vec<R>) -> Result<Vec<R>, Error> {
        Ok(rows)
    }

    fn keep(
        &self,
        arrived: Vec<KeyedRow<R>>,
        lookup: &mut Lookup<R>,
    ) -> Option<(Vec<Key>, Vec<R>)> {
        lookup.put_all(arrived);
        None
    }
}

impl<T: Tables, L: Level> Completes for NamedRows<T, L> {
    type Loading = Vec<RawRow>;

    const HAS_COMPANIONS: bool = false;

    // Names are given to a row when it is complete, where a cell that does not fit is an error.
    fn plain(&self, row: RawRow) -> Result<NamedValues, RawRow> {
        Err(row)
    }

    fn loading(&self, rows: Vec<RawRow>) -> Vec<RawRow> {
        rows
    }

    fn advance(&self, _: &mut Vec<RawRow>) -> Result<bool, Error> {
        Ok(false)
    }

    fn step<'s>(&'s self, _: &'s mut Vec<RawRow>) -> Option<Step<'s>> {
        None
    }

    fn finish(&self, rows: Vec<RawRow>) -> Result<Vec<NamedValues>, Error> {
        let rows = (1..).zip(rows);
        rows.map(|(number, row)| self.named(row).map_err(|err| err.at_row(number))).collect()
    }
}

impl<R: RowShape + Send + 'static> Completes for StatementRows<R> {
    type Loading = Vec<ByName<R>>;

    const HAS_COMPANIONS: bool = false;

    fn plain(&self, row: ByName<R>) -> Result<R, ByName<R>> {
        Ok(row.into_row())
    }

    fn loading(&self, rows: Vec<ByName<R>>) -> Vec<ByName<R>> {
        rows
    }

    fn advance(&self, _: &mut Vec<ByName<R>>) -> Result<bool, Error> {
        Ok(false)
    }

    fn step<'s>(&'s self, _: &'s mut Vec<ByName<R>>) -> Option<Step<'s>> {
        None
    }

    fn finish(&self, rows: Vec<ByName<R>>) -> Result<Vec<R>, Error> {
        Ok(rows.into_iter().map(ByName::into_row).collect())
    }
}

impl<Q: Completes + Clone> Completes for Bound<'_, Q> {
    type Loading = Q::Loading;

    const HAS_COMPANIONS: bool = Q::HAS_COMPANIONS;

    fn plain(&self, row: Q::Read) -> Result<Q::Row, Q::Read> {
        self.query(Q::HAS_COMPANIONS).plain(row)
    }

    fn loading(&self, rows: Vec<Q::Read>) -> Q::Loading {
        self.query(Q::HAS_COMPANIONS).loading(rows)
    }

    fn advance(&self, loading: &mut Q::Loading) -> Result<bool, Error> {
        self.query(Q::HAS_COMPANIONS).advance(loading)
    }

    fn step<'s>(&'s self, loading: &'s mut Q::Loading) -> Option<Step<'s>> {
        self.query(Q::HAS_COMPANIONS).step(loading)
    }

    fn finish(&self, loading: Q::Loading) -> Result<Vec<Q::Row>, Error> {
        self.query(Q::HAS_COMPANIONS).finish(loading)
    }
}

impl<T, R, B> Completes for Alongside<T, R, B>
where
    T: Tables,
    R: RowShape + Send + 'static,
    B: LoadsAll<R>,
{
    type Loading = (Vec<KeyedRow<R>>, B::Loading);

    const HAS_COMPANIONS: bool = true;

    fn plain(&self, row: KeyedRow<R>) -> Result<B::Row, KeyedRow<R>> {
        Err(row)
    }

    fn loading(&self, rows: Vec<KeyedRow<R>>) -> Self::Loading {
        let loading = self.companions().loading(&rows, false);
        (rows, loading)
    }

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error> {
        self.companions().advance(&mut loading.1)
    }

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>> {
        self.companions().step(&mut loading.1)
    }

    fn finish(&self, (rows, loading): Self::Loading) -> Result<Vec<B::Row>, Error> {
        self.companions().finish(rows, loading)
    }
}

impl<T, B> Completes for StatementAlongside<T, B>
where
    T: Table,
    B: LoadsAll<T>,
{
    type Loading = Result<(Vec<KeyedRow<T>>, B::Loading), Option<Error>>;

    const HAS_COMPANIONS: bool = true;

    fn plain(&self, row: ByName<T>) -> Result<B::Row, ByName<T>> {
        Err(row)
    }

    fn loading(&self, rows: Vec<ByName<T>>) -> Self::Loading {
        let rows = self.beside().keyed(rows.into_iter().map(ByName::into_row)).map_err(Some)?;
        let loading = self.beside().companions().loading(&rows, true);
        Ok((rows, loading))
    }

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error> {
        match loading {
            Ok((_, loading)) => self.beside().companions().advance(loading),
            Err(err) => err.take().map_or(Ok(false), Err),
        }
    }

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>> {
        let (_, loading) = loading.as_mut().ok()?;
        self.beside().companions().step(loading)
    }

    fn finish(&self, loading: Self::Loading) -> Result<Vec<B::Row>, Error> {
        match loading {
            Ok((rows, loading)) => self.beside().companions().finish(rows, loading),
            Err(err) => err.map_or(Ok(Vec::new()), Err),
        }
    }
}

impl<Q, F, P> Completes for MappedRows<Q, F>
where
    Q: Completes,
    F: Fn(Q::Row) -> P + Send + Sync,
    P: Send + 'static,
{
    type Loading = Q::Loading;

    const HAS_COMPANIONS: bool = Q::HAS_COMPANIONS;

    fn plain(&self, row: Q::Read) -> Result<P, Q::Read> {
        self.query().plain(row).map(self.make())
    }

    fn loading(&self, rows: Vec<Q::Read>) -> Q::Loading {
        self.query().loading(rows)
    }

    fn advance(&self, loading: &mut Q::Loading) -> Result<bool, Error> {
        self.query().advance(loading)
    }

    fn step<'s>(&'s self, loading: &'s mut Q::Loading) -> Option<Step<'s>> {
        self.query().step(loading)
    }

    fn finish(&self, loading: Q::Loading) -> Result<Vec<P>, Error> {
        let rows = self.query().finish(loading)?;
        Ok(rows.into_iter().map(self.make()).collect())
    }
}

/// The companions of rows of type `R`.
pub trait LoadsAll<R>: Companions<R> + Send + Sync {
    type Loading: Send;

    /// Returns the loading for rows that were read, or that the program has in hand.
    fn loading(&self, rows: &[KeyedRow<R>], in_hand: bool) -> Self::Loading;

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error>;

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>>;

    fn finish(
        &self,
        rows: Vec<KeyedRow<R>>,
        loading: Self::Loading,
    ) -> Result<Vec<Self::Row>, Error>;
}

/// A companion, and how it is loaded.
pub trait Loads: StandsAlongside + Send + Sync {
    type Loading: Send;

    fn loading<'k>(&self, keys: impl Iterator<Item = &'k [KeyPart]>, in_hand: bool) -> Self::Loading;

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error>;

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>>;

    /// Returns whether a statement is in progress.
    fn waits(loading: &Self::Loading) -> bool;

    fn take(&self, loading: &mut Self::Loading, keys: &[KeyPart]) -> Result<Self::Beside, Error>;
}

impl<Q: Selects + Sync> Ask for OfParents<Q> {
    fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        OfParents::statement(self, context)
    }
}

/// Reads the companions of rows in hand.
pub(crate) async fn load<A: Access, T: Table, B: LoadsAll<T>>(
    access: A,
    in_hand: InHand<T, B>,
    rows: Vec<T>,
) -> Result<Vec<B::Row>, Error> {
    let rows = in_hand.keyed(rows.into_iter())?;
    let companions = in_hand.companions();
    let mut loading = companions.loading(&rows, true);
    while companions.advance(&mut loading)? {
        if let Some(step) = companions.step(&mut loading) {
            access.fetch(step.ask, step.sink).await?;
        }
    }
    companions.finish(rows, loading)
}

/// The progress of loading one companion.
#[expect(missing_debug_implementations, reason = "rows need not have one")]
pub struct CompanionLoading<Q: Completes> {
    lookup: Lookup<Q::Row>,
    stage: Stage<Q>,
}

enum Stage<Q: Completes> {
    /// Nothing has been read.
    New,
    /// Its rows are being read.
    Arriving(Box<OfParents<Q>>, Gathering<KeyedRow<Q::Base>, Vec<KeyedRow<Q::Base>>>),
    /// Its rows' own companions are being read.
    Completing(Box<OfParents<Q>>, Vec<Key>, Q::Loading),
    Done,
}

impl<Q, A> Loads for Companion<Q, A>
where
    Q: Completes + Clone,
    Q::Row: Sync,
    A: Found<Q::Row>,
{
    type Loading = CompanionLoading<Q>;

    fn loading<'k>(&self, keys: impl Iterator<Item = &'k [KeyPart]>, in_hand: bool) -> Self::Loading {
        let lookup = match in_hand {
            true => Lookup::of_rows_in_hand(self, keys),
            false => Lookup::of(self, keys),
        };
        CompanionLoading { lookup, stage: Stage::New }
    }

    fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error> {
        let CompanionLoading { lookup, stage } = loading;
        *stage = match std::mem::replace(stage, Stage::Done) {
            Stage::New if lookup.is_empty() => Stage::Done,
            Stage::New => {
                let query = Box::new(self.of_parents(lookup)?);
                Stage::Arriving(query, Gathering::default())
            }
            Stage::Arriving(query, arrived) => match query.query().keep(arrived.finish(), lookup) {
                Some((keys, loading)) => Stage::Completing(query, keys, loading),
                None => Stage::Done,
            },
            other => other,
        };
        if let Stage::Completing(query, keys, rows) = stage
            && !query.query().advance(rows)?
        {
            let (keys, rows) = (std::mem::take(keys), std::mem::replace(rows, query.query().loading(Vec::new())));
            let rows = query.query().finish(rows)?;
            for (key, row) in keys.iter().zip(rows) {
                lookup.put(key, row);
            }
            *stage = Stage::Done;
        }
        Ok(Self::waits(loading))
    }

    fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>> {
        match &mut loading.stage {
            Stage::Arriving(query, arrived) => Some(Step { ask: &**query, sink: arrived }),
            Stage::Completing(query, _, rows) => query.query().step(rows),
            Stage::New | Stage::Done => None,
        }
    }

    fn waits(loading: &Self::Loading) -> bool {
        matches!(loading.stage, Stage::Arriving(..) | Stage::Completing(..))
    }

    fn take(&self, loading: &mut Self::Loading, keys: &[KeyPart]) -> Result<A::Beside, Error> {
        loading.lookup.take(self, keys)
    }
}

macro_rules! loads_all {
    ($($name:ident $loading:ident)+) => {
        impl<Row: Send + 'static, $($name: Loads),+> LoadsAll<Row> for ($($name,)+) {
            type Loading = ($($name::Loading,)+);

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn loading(&self, rows: &[KeyedRow<Row>], in_hand: bool) -> Self::Loading {
                let ($($name,)+) = self;
                ($($name.loading(rows.iter().map(|row| &*row.keys), in_hand),)+)
            }

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn advance(&self, loading: &mut Self::Loading) -> Result<bool, Error> {
                let (($($name,)+), ($($loading,)+)) = (self, loading);
                Ok(false $(|| $name.advance($loading)?)+)
            }

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn step<'s>(&'s self, loading: &'s mut Self::Loading) -> Option<Step<'s>> {
                let (($($name,)+), ($($loading,)+)) = (self, loading);
                $(
                    if $name::waits($loading) {
                        return $name.step($loading);
                    }
                )+
                None
            }

            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn finish(
                &self,
                rows: Vec<KeyedRow<Row>>,
                loading: Self::Loading,
            ) -> Result<Vec<Self::Row>, Error> {
                let (($($name,)+), ($(mut $loading,)+)) = (self, loading);
                let each = rows.into_iter().map(|KeyedRow { row, keys }| {
                    Ok((row, $($name.take(&mut $loading, &keys)?,)+))
                });
                each.collect()
            }
        }
    };
}

loads_all! { A a }
loads_all! { A a B b }
loads_all! { A a B b C c }
loads_all! { A a B b C c D d }
loads_all! { A a B b C c D d E e }
loads_all! { A a B b C c D d E e F f }
loads_all! { A a B b C c D d E e F f G g }
loads_all! { A a B b C c D d E e F f G g H h }
