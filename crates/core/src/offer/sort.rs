//! A sort that arrived as text.

use std::fmt;
use std::sync::Arc;

use super::list::{Item, check_once, items};
use super::names::{Entry, EntryKind, Names};
use super::predicate::own_value;
use super::term::Resolve as _;
use super::{Body, Offer, Over};
use crate::build::expr::Order;
use crate::build::query::Tables;
use crate::model::{Error, Mistake, MistakeKind};

/// A sort that arrived as text, checked by an [`Offer`]; made by [`Offer::sort_by`].
///
/// `Display` writes it as text again.
#[must_use = "a sort does nothing until a query is ordered by it"]
pub struct OfferedSort<T: Tables> {
    body: Arc<Body<T>>,
    terms: Arc<[SortTerm]>,
}

/// A name by which rows are sorted.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) struct SortTerm {
    pub(super) index: usize,
    pub(super) nullable: bool,
    pub(super) descending: bool,
}

/// Reads `-depth,label`.
pub(super) fn read(names: &Names, text: &str) -> Result<Vec<SortTerm>, Mistake> {
    let mut seen = Vec::new();
    let items = items(text, "a name")?;
    let terms = items.into_iter().map(|item| {
        let (descending, name) = match item.text.as_bytes().first() {
            Some(b'-') => (true, item.after(1)),
            Some(b'+') => (false, item.after(1)),
            _ => (false, item),
        };
        check_once(&mut seen, name)?;
        let (index, entry) = own_value(names, name.text, name.at)?;
        let nullable = check_sorted(entry, name)?;
        Ok(SortTerm { index, nullable, descending })
    });
    terms.collect()
}

/// Refuses a name that is not offered for sorts; returns whether it is nullable.
fn check_sorted(entry: &Entry, name: Item<'_>) -> Result<bool, Mistake> {
    match &entry.kind {
        EntryKind::Value(value) if entry.sorted && value.is_comparable() => Ok(value.nullable),
        _ => {
            let message = format!("`{}` is not offered for sorting", name.text);
            Err(Mistake::new(MistakeKind::NotOffered, name.at, message))
        }
    }
}

impl<T: Tables> Offer<T> {
    /// Reads a sort as OGC API writes it: names with commas between, each with `-` before it to sort in descending order, or
    /// with `+`. A space stands for `+`, because a URL decodes to it.
    ///
    /// NULLs come last in either direction.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use nepheline::Offer;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, label: String, top_m: f64 }
    ///
    /// let offer = Offer::of::<Specimen>()
    ///     .value("label", |s| s.label)
    ///     .value("depth", |s| s.top_m)
    ///     .build()?;
    /// let query = Specimen::rows().order_by(offer.sort_by("-depth,label")?.orders());
    /// assert!(query.sql(Dialect::Sqlite)?.text().ends_with(
    ///     r#"ORDER BY "specimen"."top_m" DESC, "specimen"."label" COLLATE BINARY"#
    /// ));
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](crate::ErrorKind::InvalidRequest) for a name that is not offered, not offered for sorts, or listed
    /// twice.
    pub fn sort_by(&self, text: &str) -> Result<OfferedSort<T>, Error> {
        let terms = read(&self.body.names, text).map_err(|mistake| mistake.within(text))?;
        Ok(OfferedSort { body: self.body.clone(), terms: terms.into() })
    }
}

impl<T: Tables> OfferedSort<T> {
    /// Returns the orders for [`order_by`](crate::Query::order_by).
    pub fn orders(&self) -> impl Fn(T::Columns) -> Vec<Order> + Clone + Send + Sync + 'static
    where
        T::Columns: 'static,
    {
        let (body, terms) = (self.body.clone(), self.terms.clone());
        move |columns| {
            let over = Over { body: &body, columns };
            let orders = terms
                .iter()
                .map(|term| Order::new(over.value(term.index), term.nullable, term.descending));
            orders.collect()
        }
    }
}

impl<T: Tables> Clone for OfferedSort<T> {
    fn clone(&self) -> Self {
        OfferedSort { body: self.body.clone(), terms: self.terms.clone() }
    }
}

impl<T: Tables> fmt::Debug for OfferedSort<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "OfferedSort({self})")
    }
}

/// Writes the sort as text.
impl<T: Tables> fmt::Display for OfferedSort<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (number, term) in self.terms.iter().enumerate() {
            let comma = if number > 0 { "," } else { "" };
            let sign = if term.descending { "-" } else { "" };
            let name = self.body.names.entries.get_index(term.index);
            write!(f, "{comma}{sign}{}", name.map_or("", |(name, _)| name))?;
        }
        Ok(())
    }
}
