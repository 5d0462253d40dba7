//! Companions of rows that the program has already, or that hand-written SQL returned.

use std::fmt;

use super::{Alongside, AndThen, Beside, Companions, MappedRows, Selects};
use crate::build::query::Query;
use crate::build::statement::StatementRows;
use crate::build::table::Table;
use crate::model::{ByName, Error, Key, KeyPart, KeyedRow, Origin};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::{Sql, Statement};
use crate::tree::{Node, Path, Select};

/// The companions of rows in hand, each a row of the table `T`.
#[doc(hidden)]
#[derive(Clone)]
pub struct InHand<T, B>(Alongside<T, T, B>);

impl<T: Table, B> InHand<T, B> {
    /// Creates the companions that `of` describes.
    #[track_caller]
    pub fn of<F, X>(of: F) -> InHand<T, (X::Companion,)>
    where
        F: FnOnce(T::Columns) -> X,
        X: Beside,
    {
        InHand(Query::<T>::over_table().alongside(of))
    }

    pub fn companions(&self) -> &B {
        self.0.companions()
    }

    /// Returns the line of the program that asked for them.
    pub fn origin(&self) -> Origin {
        self.0.query.select.asked_at
    }

    /// Returns the rows with the values that match their companions.
    pub fn keyed(&self, rows: impl Iterator<Item = T>) -> Result<Vec<KeyedRow<T>>, Error> {
        let select = &self.0.query.select;
        let unfit = |reason| Error::invalid_query(reason).asked_at(select.asked_at);
        // A mistake in a companion stands among the filters of the rows.
        if let Some(Node::Unfit(reason)) = select.filters.iter().map(|filter| &filter.what).next() {
            return Err(unfit(reason));
        }
        rows.map(|row| {
            let keys = select.keys.iter().map(|key| match key {
                Node::Column(column) if column.source.path == Path::HERE => {
                    KeyPart::of_bind(row.value(column.info))
                }
                _ => None,
            });
            let keys = keys
                .collect::<Option<Key>>()
                .ok_or_else(|| unfit(OF_PARENT))?;
            Ok(KeyedRow { row, keys })
        })
        .collect()
    }
}

const OF_PARENT: &str = "the companions of rows in hand are related by columns of the rows themselves; read the parents \
     first";

/// A hand-written statement with companions; made by [`StatementRows::alongside`].
#[must_use = "a query does nothing until a handle reads it"]
pub struct StatementAlongside<T, B> {
    rows: StatementRows<T>,
    beside: InHand<T, B>,
}

impl<T: Table> StatementRows<T> {
    /// Reads related rows beside each row, as [`Query::alongside`] does: one further statement reads them for all rows.
    /// Their policies apply to them.
    ///
    /// # Errors
    ///
    /// Those of [`Query::alongside`].
    #[track_caller]
    pub fn alongside<F, X>(self, of: F) -> StatementAlongside<T, (X::Companion,)>
    where
        F: FnOnce(T::Columns) -> X,
        X: Beside,
    {
        StatementAlongside { rows: self, beside: InHand::<T, ()>::of(of) }
    }
}

impl<R> StatementRows<R> {
    /// Converts each row with a function when it is read, as [`Query::map_rows`] does.
    pub fn map_rows<F, P>(self, make: F) -> MappedRows<Self, F>
    where
        F: Fn(R) -> P,
    {
        MappedRows { query: self, make }
    }
}

impl<T: Table, B> StatementAlongside<T, B> {
    /// Converts each row with its companions, as [`Query::map_rows`] does.
    pub fn map_rows<F, P>(self, make: F) -> MappedRows<Self, F>
    where
        B: Companions<T>,
        F: Fn(B::Row) -> P,
    {
        MappedRows { query: self, make }
    }

    /// Adds a companion.
    #[track_caller]
    pub fn alongside<F, X>(self, of: F) -> StatementAlongside<T, B::Output>
    where
        F: FnOnce(T::Columns) -> X,
        X: Beside,
        B: AndThen<X::Companion>,
    {
        let beside = InHand(self.beside.0.alongside(of));
        StatementAlongside { rows: self.rows, beside }
    }

    #[doc(hidden)]
    pub fn beside(&self) -> &InHand<T, B> {
        &self.beside
    }
}

impl<T, B: Clone> Clone for StatementAlongside<T, B> {
    fn clone(&self) -> Self {
        StatementAlongside { rows: self.rows.clone(), beside: InHand(self.beside.0.clone()) }
    }
}

impl<T, B> fmt::Debug for StatementAlongside<T, B> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("StatementAlongside")
            .field(&self.rows)
            .finish()
    }
}

impl<T, B: fmt::Debug> fmt::Debug for InHand<T, B> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("InHand").field(&self.0).finish()
    }
}

impl<T: Table, B: Companions<T>> Selects for StatementAlongside<T, B> {
    type Row = B::Row;
    type Base = ByName<T>;
    type Read = ByName<T>;

    fn with_keys(base: ByName<T>, _: Key) -> ByName<T> {
        base
    }

    fn select(&self) -> &Select {
        self.rows.select()
    }

    fn select_mut(&mut self) -> &mut Select {
        self.rows.select_mut()
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.rows.show(context, shown)?;
        self.beside.0.companions.show(context, shown)
    }

    fn statement<'s>(
        &'s self,
        context: CompileContext<'s>,
        shape: ReadShape,
    ) -> Result<Statement<'s>, Error> {
        Selects::statement(&self.rows, context, shape)
    }
}
