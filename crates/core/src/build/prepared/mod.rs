//! Prepared queries: the closure runs once, with bind parameters in place of values.

mod by_key;
mod derived;
mod parameter;
mod rows;
mod texts;
mod writes;

use std::borrow::Cow;
use std::fmt;
use std::marker::PhantomData;
use std::sync::{Arc, OnceLock};

pub(crate) use by_key::{known_by_key, known_write_by_key};
pub(crate) use derived::Derived;
pub use derived::{KeptCompanion, Unfilled};
pub use parameter::{
    BindParameters, Parameter, ParameterField, ParameterValues, list_parameter, list_value,
};
pub use rows::RowCount;
pub(crate) use rows::{count_bind, smaller, together};
use smallvec::SmallVec;
pub(crate) use texts::WriteKind;
use texts::{Texts, Verb, Wanted};
pub(crate) use writes::KeepsText;

use crate::build::expr::Level;
use crate::build::query::{Alongside, Companions, MappedRows, Query, Selects, Tables};
use crate::dialect::Dialect;
use crate::model::{BindValue, Error, Key, Origin, RowShape};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::{Sql, Statement};
use crate::tree::Select;

/// A query that is built once and run many times: `P` gives its values, `Q` is its type.
///
/// [`BindParameters::prepare`] runs a closure with [`Parameter`]s in place of the values. [`bind`](Self::bind) gives the
/// values of one run, and returns what the verbs of a handle take. Only the first run on a dialect compiles the query; each later one
/// binds its values. A parameter of the wrong type does not compile.
///
/// A list has a few texts, by its length. A handle with another schema has a text of its own. Policies are called for each
/// run, with what its handle carries, and a text is only used again for policies of the same structure.
///
/// Updates and deletes can be prepared too, and queries with companions. The statements of companions and of pages have
/// texts of their own. What depends on the values themselves is compiled with them for each run: policies that ask other
/// tables or follow parents, and on some engines comparisons of decimals and enums.
///
/// ```
/// use std::sync::LazyLock;
///
/// use nepheline::blocking::Database;
/// use nepheline::prelude::*;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, borehole_id: i64, top_m: f64 }
///
/// #[derive(Debug, BindParameters)]
/// struct ByDepth {
///     borehole: i64,
///     metres: f64,
/// }
///
/// static BY_DEPTH: LazyLock<Prepared<ByDepth, Query<Specimen>>> = LazyLock::new(|| {
///     ByDepth::prepare(|p| {
///         Specimen::rows().filter(|s| s.borehole_id.eq(p.borehole) & s.top_m.gt(p.metres))
///     })
/// });
///
/// # fn read(db: &Database) -> Result<(), Error> {
/// let deep: Vec<Specimen> = db.read(&BY_DEPTH.bind(ByDepth { borehole: 7, metres: 40.0 }))?;
/// # Ok(())
/// # }
/// assert_eq!(
///     BY_DEPTH.sql(Dialect::Postgres)?.to_string(),
///     r#"SELECT "specimen"."id", "specimen"."borehole_id", "specimen"."top_m"
/// FROM "specimen"
/// WHERE "specimen"."borehole_id" = $1 AND "specimen"."top_m" > $2
///   $1: parameter borehole
///   $2: parameter metres"#,
/// );
/// # Ok::<(), Error>(())
/// ```
pub struct Prepared<P, Q> {
    kept: Kept<Q>,
    values: PhantomData<fn(P)>,
}

/// The query of a [`Prepared`], with the texts that it has so far.
#[doc(hidden)]
#[derive(Debug)]
pub struct Kept<Q> {
    query: Q,
    texts: Arc<Texts>,
}

impl<P: BindParameters, Q: Prepares> Prepared<P, Q> {
    fn of(mut query: Q) -> Prepared<P, Q> {
        query.keep_companions();
        Prepared { kept: Kept { query, texts: Arc::default() }, values: PhantomData }
    }

    /// Gives the values of one run.
    pub fn bind(&self, values: P) -> Q::Bound<'_> {
        Q::bound(&self.kept, values.into_values())
    }

    /// Returns the SQL in a dialect, with the names of the parameters as its binds. A list is shown as a long one.
    ///
    /// # Errors
    ///
    /// Those of [`Query::sql`].
    pub fn sql(&self, dialect: Dialect) -> Result<Q::Shown, Error> {
        self.kept.query.shown(dialect)
    }
}

impl<P, Q: fmt::Debug> fmt::Debug for Prepared<P, Q> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Prepared").field(&self.kept.query).finish()
    }
}

/// A query that can be prepared, with companions and converted rows or without; or an update, or a delete.
#[diagnostic::on_unimplemented(
    message = "`{Self}` cannot be prepared",
    label = "expected a query, an update or a delete",
    note = "a whole statement by `statement!` has its own text already"
)]
pub trait Prepares: Sized {
    /// The type that runs with the values.
    type Bound<'p>
    where
        Self: 'p;

    /// The type of its SQL: that of one statement, or of several.
    type Shown;

    /// Lets its companions keep their texts.
    #[doc(hidden)]
    fn keep_companions(&mut self) {}

    #[doc(hidden)]
    fn bound(kept: &Kept<Self>, values: ParameterValues) -> Self::Bound<'_>;

    #[doc(hidden)]
    fn shown(&self, dialect: Dialect) -> Result<Self::Shown, Error>;
}

macro_rules! prepares_queries {
    ($([$($generics:tt)*] $query:ty => $shown:ty, $show:expr;)*) => {$(
        impl<$($generics)*> Prepares for $query {
            type Bound<'p> = Bound<'p, Self> where Self: 'p;
            type Shown = $shown;

            fn keep_companions(&mut self) {
                self.each_companion(&mut |kept| *kept = Some(KeptCompanion::default()));
            }

            fn bound(kept: &Kept<Self>, values: ParameterValues) -> Bound<'_, Self> {
                Bound::new(kept, values)
            }

            fn shown(&self, dialect: Dialect) -> Result<$shown, Error> {
                let show: fn(&Self, Dialect) -> Result<$shown, Error> = $show;
                show(self, dialect)
            }
        }
    )*};
}

prepares_queries! {
    [T: Tables, R: RowShape + Send + 'static, L: Level] Query<T, R, L> => Sql, Query::sql;
    [T: Tables, R: RowShape + Send + 'static, B: Companions<R> + Clone] Alongside<T, R, B> => Vec<Sql>, Alongside::sql;
    [Q: Selects + Prepares + Clone, F: Fn(Q::Row) -> P + Clone, P: Send + 'static]
    MappedRows<Q, F> => Q::Shown, |mapped, dialect| mapped.query().shown(dialect);
}

/// Puts its value in the place of a bind parameter.
fn fill(bind: &mut BindValue, values: &[BindValue]) {
    let Some(parameter) = bind.as_parameter() else { return };
    let Some(value) = values.get(usize::from(parameter.number)) else { return };
    *bind = parameter.filled_with(value);
}

/// A prepared query or write with the values of one run; made by [`Prepared::bind`].
#[must_use = "a query does nothing until a handle runs it"]
pub struct Bound<'p, Q> {
    kept: &'p Kept<Q>,
    values: ParameterValues,
    /// The query with the values, where more than its statement is needed.
    filled: OnceLock<Box<Q>>,
    /// The query with the values, where it was changed after they were given.
    changed: Option<Box<Q>>,
}

impl<'p, Q> Bound<'p, Q> {
    fn new(kept: &'p Kept<Q>, values: ParameterValues) -> Bound<'p, Q> {
        Bound { kept, values, filled: OnceLock::new(), changed: None }
    }
}

impl<Q: Selects + Clone> Bound<'_, Q> {
    /// Returns the query with the values.
    #[doc(hidden)]
    pub fn filled(&self) -> &Q {
        let changed = self.changed.as_ref();
        changed.unwrap_or_else(|| self.filled.get_or_init(|| self.fill()))
    }

    /// Returns the query, which has the values only if `needs_values`.
    #[doc(hidden)]
    pub fn query(&self, needs_values: bool) -> &Q {
        if needs_values { self.filled() } else { &self.kept.query }
    }

    fn fill(&self) -> Box<Q> {
        let mut query = Box::new(self.kept.query.clone());
        query
            .select_mut()
            .each_bind(&mut |bind| fill(bind, &self.values));
        query.each_companion(&mut |kept| {
            kept.iter_mut().for_each(|kept| kept.give(&self.values));
        });
        query
    }
}

impl<Q: Clone> Clone for Bound<'_, Q> {
    fn clone(&self) -> Self {
        Bound {
            kept: self.kept,
            values: self.values.clone(),
            filled: self.filled.clone(),
            changed: self.changed.clone(),
        }
    }
}

impl<Q> fmt::Debug for Bound<'_, Q> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Bound").field(&self.values).finish()
    }
}

impl<Q: Selects + Clone> Selects for Bound<'_, Q> {
    type Row = Q::Row;
    type Base = Q::Base;
    type Read = Q::Read;

    fn with_keys(base: Q::Base, keys: Key) -> Q::Read {
        Q::with_keys(base, keys)
    }

    fn select(&self) -> &Select {
        self.filled().select()
    }

    fn select_mut(&mut self) -> &mut Select {
        let changed = self.changed.take().unwrap_or_else(|| self.fill());
        self.changed.insert(changed).select_mut()
    }

    fn show(&self, context: CompileContext<'_>, shown: &mut Vec<Sql>) -> Result<(), Error> {
        self.filled().show(context, shown)
    }

    fn statement<'s>(
        &'s self,
        context: CompileContext<'s>,
        shape: ReadShape,
    ) -> Result<Statement<'s>, Error> {
        if self.changed.is_none() {
            let Kept { query, texts } = self.kept;
            let (select, values) = (query.select(), self.values.iter());
            let values: SmallVec<[&BindValue; 4]> = values.collect();
            let prepared = || Cow::Borrowed(select);
            let at = select.asked_at;
            let wanted = Wanted { context, columns: &[], stands_nowhere: false, at };
            let known = texts.statement(select, &values, prepared, Verb::Read(shape), &wanted)?;
            if let Some(statement) = known {
                return Ok(statement);
            }
        }
        self.filled().statement(context, shape)
    }

    fn unfilled(&self) -> Option<Unfilled<'_>> {
        let Kept { query, texts } = self.kept;
        let unfilled = Unfilled { select: query.select(), texts, values: &self.values };
        self.changed.is_none().then_some(unfilled)
    }

    fn asked_at(&self) -> Origin {
        self.kept.query.asked_at()
    }

    fn table_name(&self) -> &'static str {
        self.kept.query.table_name()
    }

    fn key_sought(&self) -> Option<String> {
        self.filled().key_sought()
    }
}
