//! A filter that an offer has checked.

use std::fmt;
use std::sync::Arc;

use serde::ser::{Serialize, Serializer};

use super::term::Term;
use super::{Body, Over};
use crate::build::expr::Condition;
use crate::build::query::Tables;
use crate::cql2::Cql2;

/// A filter that arrived as data, checked by an [`Offer`](crate::Offer).
///
/// [`scope`](OfferedFilter::scope) is its condition. `Display` writes it as CQL2 Text, for a link, and it serialises as CQL2
/// JSON, for a saved search that [`cql2_json`](crate::Offer::cql2_json) reads back.
///
/// ```
/// use nepheline::prelude::*;
/// use nepheline::Offer;
/// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, top_m: f64 }
///
/// let offer = Offer::of::<Specimen>().value("depth", |s| s.top_m).build()?;
/// let filter = offer.cql2_text("depth>100")?;
/// assert_eq!(filter.to_string(), "depth > 100");
///
/// let saved = serde_json::to_string(&filter)?;
/// assert_eq!(saved, r#"{"op":">","args":[{"property":"depth"},100]}"#);
/// assert_eq!(offer.cql2_json(&saved)?, filter);
/// # Ok::<(), Box<dyn std::error::Error>>(())
/// ```
#[must_use = "a filter does nothing until a query is filtered by its scope"]
pub struct OfferedFilter<T: Tables> {
    body: Arc<Body<T>>,
    expression: Cql2,
    term: Arc<Term>,
}

impl<T: Tables> OfferedFilter<T> {
    pub(super) fn new(body: Arc<Body<T>>, expression: Cql2, term: Term) -> Self {
        OfferedFilter { body, expression, term: Arc::new(term) }
    }

    /// Returns the filter as a scope: `Specimen::rows().filter(filter.scope())`.
    pub fn scope(&self) -> impl Fn(T::Columns) -> Condition + Clone + Send + Sync + 'static
    where
        T::Columns: 'static,
    {
        let (body, term) = (self.body.clone(), self.term.clone());
        move |columns| Condition::from_node(term.node(&[&Over { body: &body, columns }]))
    }

    /// Returns the filter as an expression of CQL2, to combine it with others and check the result by
    /// [`filter_of`](crate::Offer::filter_of).
    pub fn expression(&self) -> &Cql2 {
        &self.expression
    }
}

impl<T: Tables> Clone for OfferedFilter<T> {
    fn clone(&self) -> Self {
        OfferedFilter {
            body: self.body.clone(),
            expression: self.expression.clone(),
            term: self.term.clone(),
        }
    }
}

/// Two filters are equal if they have the same tree.
impl<T: Tables> PartialEq for OfferedFilter<T> {
    fn eq(&self, other: &Self) -> bool {
        self.expression == other.expression
    }
}

impl<T: Tables> fmt::Debug for OfferedFilter<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("OfferedFilter")
            .field(&self.expression)
            .finish()
    }
}

/// Writes CQL2 Text.
impl<T: Tables> fmt::Display for OfferedFilter<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.expression.fmt(f)
    }
}

/// Writes CQL2 JSON.
impl<T: Tables> Serialize for OfferedFilter<T> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        self.expression.serialize(serializer)
    }
}
