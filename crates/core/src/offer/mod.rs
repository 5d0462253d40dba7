//! Offers: the names of a query that outsiders may use in filters, sorts, fields and totals that arrive as text.

mod check;
mod class;
mod filter;
mod functions;
mod list;
mod names;
mod operand;
mod predicate;
mod properties;
mod route;
mod row;
mod runtime;
mod schema;
mod sort;
mod temporal;
mod term;
mod totals;

use std::fmt;
use std::sync::Arc;

use crate::build::expr::{Condition, ExprExt, Level, PerRow};
use crate::build::query::{Query, Tables};
use crate::build::table::Table;
use crate::cql2::Cql2;
use crate::model::{Error, Mistake};
use crate::tree::Node;

pub use filter::OfferedFilter;
pub use functions::FunctionArguments;
pub(crate) use names::{EntryKind, Names};
pub use names::{Offered, OfferedUse, ValueType};
pub use properties::{NamedRows, OfferedProperties};
pub use row::{NamedValues, RawRow};
pub use runtime::{RuntimeTable, RuntimeTables};
pub use sort::OfferedSort;
pub(crate) use term::Resolve;
pub use totals::OfferedTotals;

/// The names of a query that outsiders may use: in filters, sorts, lists of properties and totals that arrive as text or
/// JSON.
///
/// Each name has a closure: a column, a column of a parent, a computed or counted value, a condition, or children with an
/// offer of their own. Nothing else can be named. Values are binds, and policies hold as everywhere. Build an offer once, in
/// a `LazyLock`, and use it for each request.
///
/// | call | reads |
/// |---|---|
/// | [`cql2_text`](Offer::cql2_text), [`cql2_json`](Offer::cql2_json) | a filter in CQL2 (OGC 21-065r2) |
/// | [`filter_of`](Offer::filter_of) | a filter that was built in Rust |
/// | [`sort_by`](Offer::sort_by) | `-depth,label`, as in OGC API |
/// | [`properties`](Offer::properties) | `label,depth`: the values of each row, as JSON objects |
/// | [`totals`](Offer::totals) | groups and their totals |
/// | [`json_schema`](Offer::json_schema) | nothing: it describes these parameters |
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::Offer;
///
/// #[derive(Debug, Table)]
/// #[nepheline(children(assays: Assay by specimen_id))]
/// struct Specimen {
///     #[nepheline(key)]
///     id: i64,
///     label: String,
///     top_m: f64,
/// }
///
/// #[derive(Debug, Table)]
/// struct Assay {
///     #[nepheline(key)]
///     id: i64,
///     #[nepheline(references = Specimen)]
///     specimen_id: i64,
///     element: String,
///     ppm: f64,
/// }
///
/// let assays = Offer::of::<Assay>().value("element", |a| a.element).value("ppm", |a| a.ppm).build()?;
/// let offer = Offer::of::<Specimen>()
///     .value("label", |s| s.label)
///     .value("depth", |s| s.top_m)
///     .value("results", |s| s.assays().count())
///     .children("assays", |s| s.assays(), &assays)
///     .build()?;
///
/// let filter = offer.cql2_text("depth > 100 AND assays.element = 'Nd' AND assays.ppm > 400")?;
/// let sort = offer.sort_by("-depth,label")?;
/// let query = Specimen::rows().filter(filter.scope()).order_by(sort.orders());
/// assert!(query.sql(Dialect::Postgres)?.text().ends_with(
///     r#"WHERE "specimen"."top_m" > $1 AND EXISTS (SELECT 1 FROM "assay" WHERE "assay"."specimen_id" = "specimen"."id" AND "assay"."element" = $2 AND "assay"."ppm" > $3) ORDER BY "specimen"."top_m" DESC, "specimen"."label" COLLATE "C""#
/// ));
///
/// let err = offer.cql2_text("dept > 100").unwrap_err();
/// assert_eq!(
///     err.to_string(),
///     "unknown name `dept`; did you mean `depth`? (position 0)\n  dept > 100\n  ^^^^",
/// );
/// # Ok::<(), Error>(())
/// ```
///
/// # Children
///
/// A term on children is true for a row that has such a child. Terms that one AND joins are about the same child, also
/// through OR inside the AND; [`each_apart`](Offered::each_apart) makes each stand for itself. NOT is outside:
/// `NOT assays.ppm > 400`, and `assays.element NOT IN ('Nd')` as well, are true for rows that have no such child. A child
/// with another element is `assays.element <> 'Nd'`.
pub struct Offer<T: Tables> {
    body: Arc<Body<T>>,
}

/// A closure that makes a value out of the columns.
type MakesValue<T> = Box<dyn Fn(<T as Tables>::Columns) -> Node + Send + Sync>;

/// A closure that makes the condition that one of the children satisfies a condition.
type MakesChild<T> =
    Box<dyn Fn(<T as Tables>::Columns, &mut dyn FnMut(&dyn Resolve) -> Node) -> Node + Send + Sync>;

type MakesCall = Box<dyn Fn(Vec<Node>) -> Node + Send + Sync>;

/// The closure of a name.
enum Maker<T: Tables> {
    Value(MakesValue<T>),
    Child(MakesChild<T>),
}

struct Body<T: Tables> {
    names: Arc<Names>,
    /// The closures, in the order of the names.
    makers: Vec<Maker<T>>,
    functions: Vec<MakesCall>,
}

/// The names of an offer over the columns of one query.
struct Over<'o, T: Tables> {
    body: &'o Body<T>,
    columns: T::Columns,
}

impl<T: Tables> Resolve for Over<'_, T> {
    fn value(&self, index: usize) -> Node {
        match self.body.makers.get(index) {
            Some(Maker::Value(make)) => make(self.columns),
            _ => Node::constant(false),
        }
    }

    fn child(&self, index: usize, condition: &mut dyn FnMut(&dyn Resolve) -> Node) -> Node {
        match self.body.makers.get(index) {
            Some(Maker::Child(make)) => make(self.columns, condition),
            _ => Node::constant(false),
        }
    }

    fn call(&self, index: usize, arguments: Vec<Node>) -> Node {
        match self.body.functions.get(index) {
            Some(make) => make(arguments),
            None => Node::constant(false),
        }
    }
}

impl Offer<()> {
    /// Begins an offer of a table, or of a tuple of joined tables.
    // An offer of no table is only the place of this function, so that its callers name the table once.
    pub fn of<T: Tables>() -> OfferBuilder<T> {
        OfferBuilder { names: Names::default(), makers: Vec::new(), functions: Vec::new() }
    }
}

impl<T: Tables> Offer<T> {
    /// Reads a filter in CQL2 Text.
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](crate::ErrorKind::InvalidRequest), with the place in [`Error::mistake`].
    pub fn cql2_text(&self, text: &str) -> Result<OfferedFilter<T>, Error> {
        let expression = crate::cql2::read_text(text, self.body.names.bounds)?;
        self.checked(expression)
            .map_err(|mistake| mistake.within(text).into())
    }

    /// Reads a filter in CQL2 JSON, such as one that was saved: an [`OfferedFilter`] serialises as it.
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](crate::ErrorKind::InvalidRequest), with the place in [`Error::mistake`]. If the offer has changed
    /// since the filter was saved, it says which name is gone.
    pub fn cql2_json(&self, json: &str) -> Result<OfferedFilter<T>, Error> {
        let expression = crate::cql2::read_json(json, self.body.names.bounds)?;
        self.checked(expression)
            .map_err(|mistake| mistake.within(json).into())
    }

    /// Checks a filter that was built in Rust from the names of the offer. Its `Display` is CQL2 Text, for a link.
    ///
    /// ```
    /// use nepheline::cql2::property;
    /// use nepheline::prelude::*;
    /// use nepheline::Offer;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
    ///
    /// let offer = Offer::of::<Specimen>().value("depth", |s| s.top_m).build()?;
    /// let filter = offer.filter_of(property("depth").between(50, 60))?;
    /// assert_eq!(filter.to_string(), "depth BETWEEN 50 AND 60");
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](crate::ErrorKind::InvalidRequest), whose place is in the CQL2 Text of the filter.
    pub fn filter_of(&self, filter: Cql2) -> Result<OfferedFilter<T>, Error> {
        match self.checked(filter.clone()) {
            Ok(checked) => Ok(checked),
            // The same filter as text has places.
            Err(without_place) => match self.cql2_text(&filter.to_string()) {
                Err(err) => Err(err),
                Ok(_) => Err(without_place.into()),
            },
        }
    }

    fn checked(&self, expression: Cql2) -> Result<OfferedFilter<T>, Mistake> {
        let term = check::check(&self.body.names, &expression)?;
        Ok(OfferedFilter::new(self.body.clone(), expression, term))
    }
}

impl<T: Tables> Clone for Offer<T> {
    fn clone(&self) -> Self {
        Offer { body: self.body.clone() }
    }
}

impl<T: Tables> fmt::Debug for Offer<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Offer").field(&self.body.names).finish()
    }
}

/// An offer that is being built; made by [`Offer::of`].
#[must_use = "an offer is complete when it is built"]
pub struct OfferBuilder<T: Tables> {
    names: Names,
    makers: Vec<Maker<T>>,
    functions: Vec<MakesCall>,
}

impl<T: Tables> OfferBuilder<T> {
    /// Offers a value: a column, that of a followed parent, a computed or counted value, or a condition, which is a boolean.
    ///
    /// ```
    /// # use nepheline::prelude::*;
    /// # use nepheline::Offer;
    /// # #[derive(Debug, Table)] struct Site { #[nepheline(key)] id: i64, region: String }
    /// # #[derive(Debug, Table)] struct Borehole { #[nepheline(key)] id: i64, #[nepheline(references = Site)] site_id: i64, depth_m: f64 }
    /// let offer = Offer::of::<Borehole>()
    ///     .value("region", |b| b.site().region)
    ///     .value("deep", |b| b.depth_m.gt(500))
    ///     .build()?;
    /// let filter = offer.cql2_text("deep = TRUE AND region LIKE 'Upper%'")?;
    /// # assert!(Borehole::rows().filter(filter.scope()).sql(Dialect::Sqlite)?.text().contains(r#""borehole"."depth_m" > ?"#));
    /// # Ok::<(), Error>(())
    /// ```
    pub fn value<E>(
        mut self,
        name: impl Into<Offered>,
        value: impl Fn(T::Columns) -> E + Send + Sync + 'static,
    ) -> OfferBuilder<T>
    where
        E: ExprExt<Level = PerRow>,
    {
        self.names
            .add(name.into(), EntryKind::Value(ValueType::of::<E::Type>()));
        self.makers
            .push(Maker::Value(Box::new(move |columns| value(columns).into_node())));
        self
    }

    /// Offers child rows, with the names of their own offer after a dot: `assays.ppm`. See [`Offer`] for the meaning of
    /// terms on children.
    pub fn children<U: Table, R, L: Level>(
        mut self,
        name: impl Into<Offered>,
        rows: impl Fn(T::Columns) -> Query<U, R, L> + Send + Sync + 'static,
        offer: &Offer<U>,
    ) -> OfferBuilder<T> {
        let (name, body) = (name.into(), offer.body.clone());
        let kind = EntryKind::Children { names: body.names.clone(), apart: name.apart };
        self.names.add(name, kind);
        self.makers
            .push(Maker::Child(Box::new(move |columns, condition| {
                let rows = rows(columns).filter(|columns| {
                    Condition::<PerRow>::from_node(condition(&Over { body: &body, columns }))
                });
                rows.exists().into_node()
            })));
        self
    }

    /// Offers a function of values, which filters call by its name.
    ///
    /// Its parameters may be NULL, so the closure takes a tuple of `Expr<Option<..>>`.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use nepheline::Offer;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64 }
    ///
    /// let offer = Offer::of::<Specimen>()
    ///     .value("label", |s| s.label)
    ///     .function("length", |(text,): (Expr<Option<String>>,)| text.length())
    ///     .build()?;
    /// let filter = offer.cql2_text("length(label) > 6")?;
    /// # assert!(Specimen::rows().filter(filter.scope()).sql(Dialect::Sqlite)?.text().ends_with(r#"WHERE length("specimen"."label") > ?"#));
    /// # Ok::<(), Error>(())
    /// ```
    pub fn function<A, E>(
        mut self,
        name: &str,
        function: impl Fn(A) -> E + Send + Sync + 'static,
    ) -> OfferBuilder<T>
    where
        A: FunctionArguments,
        E: ExprExt<Level = PerRow>,
    {
        self.names
            .add_function(name, functions::type_of::<A, E::Type>());
        self.functions
            .push(Box::new(move |nodes| function(A::of(nodes)).into_node()));
        self
    }

    /// Bounds the text of a filter, in bytes. The default is 65,536.
    pub fn most_bytes(mut self, bytes: usize) -> OfferBuilder<T> {
        self.names.bounds.bytes = bytes;
        self
    }

    /// Bounds the number of names and values in a filter. The default is 1,000.
    pub fn most_terms(mut self, terms: usize) -> OfferBuilder<T> {
        self.names.bounds.terms = terms;
        self
    }

    /// Checks the names and completes the offer.
    ///
    /// # Errors
    ///
    /// [`InvalidOffer`](crate::ErrorKind::InvalidOffer) for a name that is offered twice, that is no name, or that reads like
    /// one of children.
    pub fn build(self) -> Result<Offer<T>, Error> {
        let OfferBuilder { names, makers, functions } = self;
        names.check()?;
        Ok(Offer { body: Arc::new(Body { names: Arc::new(names), makers, functions }) })
    }
}

impl<T: Tables> fmt::Debug for OfferBuilder<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("OfferBuilder").field(&self.names).finish()
    }
}
