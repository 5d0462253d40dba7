//! Groups and totals that arrived as text.

use std::fmt;
use std::sync::Arc;

use jiff::Timestamp;
use jiff::civil::{Date, DateTime, Time};
use rust_decimal::Decimal;
use uuid::Uuid;

use super::check::check;
use super::class::Class;
use super::list::{Item, check_once, items};
use super::names::{EntryKind, Names, Offered, OfferedUse, ValueType};
use super::predicate::own_value;
use super::properties::NamedRows;
use super::row::Columns;
use super::sort::{self, SortTerm};
use super::term::{Resolve, Term};
use super::{Body, Offer, Over};
use crate::build::expr::{
    Expr, ExprExt as _, Order, PerGroup, avg, count, count_distinct, count_of, max, min, sum,
};
use crate::build::query::{Query, Tables};
use crate::model::{Error, Mistake, MistakeKind};
use crate::tree::Node;

/// A function over the rows of a group.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum TotalFunction {
    Count,
    CountDistinct,
    Sum,
    Avg,
    Min,
    Max,
}

impl TotalFunction {
    const ALL: [(&'static str, TotalFunction); 6] = [
        ("count", TotalFunction::Count),
        ("count_distinct", TotalFunction::CountDistinct),
        ("sum", TotalFunction::Sum),
        ("avg", TotalFunction::Avg),
        ("min", TotalFunction::Min),
        ("max", TotalFunction::Max),
    ];

    fn named(name: &str) -> Option<TotalFunction> {
        let mut all = TotalFunction::ALL.into_iter();
        all.find(|(known, _)| known.eq_ignore_ascii_case(name))
            .map(|(_, function)| function)
    }
}

/// A total: the function, and the value that it is of.
#[derive(Debug, Clone, Copy)]
struct Total {
    function: TotalFunction,
    of: Option<(usize, ValueType)>,
}

/// Groups and totals that arrived as text, checked by an [`Offer`]; made by [`Offer::totals`].
#[must_use = "totals do nothing until they are read"]
pub struct OfferedTotals<T: Tables> {
    body: Arc<Body<T>>,
    keys: Vec<usize>,
    totals: Vec<Total>,
    columns: Columns,
    /// The names of the keys and the totals, for conditions and sorts.
    names: Names,
    having: Option<Term>,
    sort: Vec<SortTerm>,
}

impl<T: Tables> Offer<T> {
    /// Reads group keys and totals: names with commas between, and for each group `count`, `count(name)`,
    /// `count_distinct(name)`, `sum(name)`, `avg(name)`, `min(name)` and `max(name)`, each with `as` and a name of its own if
    /// it is to have one. Without it, `sum(depth)` is `sum_depth`. Without keys, all rows are one group.
    ///
    /// ```
    /// use nepheline::prelude::*;
    /// use nepheline::Offer;
    /// # #[derive(Debug, Table)] struct Specimen { #[nepheline(key)] id: i64, #[nepheline(by_code_point)] rock: String, top_m: f64 }
    ///
    /// let offer = Offer::of::<Specimen>()
    ///     .value("rock", |s| s.rock)
    ///     .value("depth", |s| s.top_m)
    ///     .build()?;
    /// let totals = offer
    ///     .totals("rock", "count, sum(depth) as metres")?
    ///     .having("metres > 100 AND count >= 3")?
    ///     .sort_by("-metres")?;
    /// let query = totals.rows_of(Specimen::rows());
    /// assert_eq!(
    ///     query.sql(Dialect::Postgres)?.text(),
    ///     r#"SELECT "specimen"."rock", count(*), sum("specimen"."top_m") FROM "specimen" GROUP BY 1 HAVING sum("specimen"."top_m") > $1 AND count(*) >= $2 ORDER BY sum("specimen"."top_m") DESC NULLS LAST"#,
    /// );
    /// # Ok::<(), Error>(())
    /// ```
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](crate::ErrorKind::InvalidRequest) for a name that is not offered, a total that its type does not have,
    /// or a name that stands for two of them.
    pub fn totals(&self, keys: &str, totals: &str) -> Result<OfferedTotals<T>, Error> {
        let names = &self.body.names;
        let mut read = Reader { names, columns: Vec::new(), seen: Vec::new() };
        let keys = read.keys(keys).map_err(|mistake| mistake.within(keys))?;
        let totals = read
            .totals(totals)
            .map_err(|mistake| mistake.within(totals))?;
        let mut of_groups = Names::default();
        of_groups.bounds = names.bounds;
        for (name, value_type) in &read.columns {
            of_groups.add(Offered::name(name.as_ref()), EntryKind::Value(*value_type));
        }
        Ok(OfferedTotals {
            body: self.body.clone(),
            keys,
            totals,
            columns: Columns::of(read.columns),
            names: of_groups,
            having: None,
            sort: Vec::new(),
        })
    }
}

struct Reader<'n, 't> {
    names: &'n Names,
    /// The keys and totals so far.
    columns: Vec<(Box<str>, ValueType)>,
    seen: Vec<&'t str>,
}

impl<'t> Reader<'_, 't> {
    fn keys(&mut self, text: &'t str) -> Result<Vec<usize>, Mistake> {
        if text.trim().is_empty() {
            return Ok(Vec::new());
        }
        let mut keys = Vec::new();
        for item in items(text, "a name")? {
            check_once(&mut self.seen, item)?;
            let (index, value_type) = self.value(item, true)?;
            keys.push(index);
            self.columns.push((item.text.into(), value_type));
        }
        Ok(keys)
    }

    /// Looks up a value that may be grouped or totalled.
    fn value(&self, name: Item<'_>, has_order: bool) -> Result<(usize, ValueType), Mistake> {
        let (index, entry) = own_value(self.names, name.text, name.at)?;
        match &entry.kind {
            EntryKind::Value(value)
                if entry.uses.allows(OfferedUse::Totals)
                    && (value.is_comparable() || !has_order) =>
            {
                Ok((index, *value))
            }
            _ => {
                let message = format!("`{}` is not offered for groups and totals", name.text);
                Err(Mistake::new(MistakeKind::NotOffered, name.at, message))
            }
        }
    }

    fn totals(&mut self, text: &'t str) -> Result<Vec<Total>, Mistake> {
        let mut totals = Vec::new();
        for item in items(text, "a total")? {
            let (written, alias) = match split_alias(item) {
                Some((written, alias)) => (written, Some(alias)),
                None => (item, None),
            };
            let (total, value_type) = self.total(written)?;
            let name: Box<str> = match alias {
                Some(alias) if is_alias(alias.text) => alias.text.into(),
                Some(alias) => {
                    let message = "expected a name of letters, digits and `_` after AS";
                    return Err(Mistake::new(MistakeKind::Syntax, alias.at, message));
                }
                None => default_name(written.text),
            };
            if self.columns.iter().any(|(known, _)| *known == name) {
                let message =
                    format!("two of the keys and totals are called `{name}`; name one with AS");
                return Err(Mistake::new(MistakeKind::Syntax, item.at, message));
            }
            totals.push(total);
            self.columns.push((name, value_type));
        }
        Ok(totals)
    }

    /// Reads `sum(depth)`.
    fn total(&self, item: Item<'_>) -> Result<(Total, ValueType), Mistake> {
        let open = item.text.find('(');
        let function = item.before(open.unwrap_or(item.text.len()));
        let Some(known) = TotalFunction::named(function.text) else {
            let listed = TotalFunction::ALL.map(|(name, _)| name).join(", ");
            let message = format!("expected a total: {listed}");
            return Err(Mistake::new(MistakeKind::Syntax, function.at, message));
        };
        let Some(open) = open else {
            return match known {
                TotalFunction::Count => {
                    Ok((Total { function: known, of: None }, ValueType::of::<i64>()))
                }
                _ => {
                    let message = format!("`{}` needs a name in brackets", function.text);
                    Err(Mistake::new(MistakeKind::Syntax, function.at, message))
                }
            };
        };
        let inside = item.after(open + 1);
        let Some(name) = inside.text.strip_suffix(')') else {
            return Err(Mistake::new(MistakeKind::Syntax, inside.at, "expected a name and `)`"));
        };
        let name = inside.before(name.len());
        if name.text.is_empty() {
            return Err(Mistake::new(MistakeKind::Syntax, name.at, "expected a name, found `)`"));
        }
        let (index, of) = self.value(name, known != TotalFunction::Count)?;
        let class = Class::of(of.sql_type);
        let not_of = |wanted: &str| {
            let message = format!(
                "`{}` is of {wanted}, and `{}` is {}",
                function.text,
                name.text,
                class.noun()
            );
            Err(Mistake::new(MistakeKind::WrongType, name.at, message))
        };
        let value_type = match known {
            TotalFunction::Count | TotalFunction::CountDistinct => ValueType::of::<i64>(),
            TotalFunction::Sum | TotalFunction::Avg if !class.is_number() => {
                return not_of("numbers");
            }
            TotalFunction::Avg => ValueType::of::<Option<f64>>(),
            TotalFunction::Sum => match class {
                Class::Whole => ValueType::of::<Option<i64>>(),
                Class::Decimal => ValueType::of::<Option<Decimal>>(),
                _ => ValueType::of::<Option<f64>>(),
            },
            TotalFunction::Min | TotalFunction::Max => match class.has_order() {
                true => ValueType { nullable: true, ..of },
                false => return not_of("values with an order"),
            },
        };
        Ok((Total { function: known, of: Some((index, of)) }, value_type))
    }
}

/// Splits `sum(depth) as metres`.
fn split_alias(item: Item<'_>) -> Option<(Item<'_>, Item<'_>)> {
    let (before, alias) = item.text.rsplit_once(char::is_whitespace)?;
    let (written, word) = before
        .trim_end()
        .split_at_checked(before.trim_end().len().checked_sub(2)?)?;
    let is_split = word.eq_ignore_ascii_case("as") && written.ends_with([' ', '\t', ')']);
    is_split.then(|| (item.before(written.len()), item.after(item.text.len() - alias.len())))
}

fn is_alias(name: &str) -> bool {
    let mut characters = name.chars();
    name.len() <= 63
        && characters
            .next()
            .is_some_and(|first| first.is_alphabetic() || first == '_')
        && characters.all(|c| c.is_alphanumeric() || c == '_')
}

/// Returns the name of a total that is given none: `sum_depth` of `sum(depth)`.
fn default_name(written: &str) -> Box<str> {
    let name: String = written
        .trim_end_matches(')')
        .chars()
        .filter(|c| !c.is_whitespace())
        .map(|c| if c == '(' || c == '.' { '_' } else { c })
        .collect();
    name.into()
}

impl<T: Tables> OfferedTotals<T> {
    /// Keeps the groups for which a condition holds: CQL2 Text over the names of the keys and totals. A second call adds a
    /// condition.
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](crate::ErrorKind::InvalidRequest), as [`Offer::cql2_text`].
    pub fn having(mut self, text: &str) -> Result<OfferedTotals<T>, Error> {
        let expression = crate::cql2::read_text(text, self.names.bounds)?;
        let term = check(&self.names, &expression).map_err(|mistake| mistake.within(text))?;
        self.having = Some(match self.having {
            Some(earlier) => Term::All(vec![earlier, term]),
            None => term,
        });
        Ok(self)
    }

    /// Sorts the groups by keys and totals, as [`Offer::sort_by`].
    ///
    /// # Errors
    ///
    /// [`InvalidRequest`](crate::ErrorKind::InvalidRequest), as [`Offer::sort_by`].
    pub fn sort_by(mut self, text: &str) -> Result<OfferedTotals<T>, Error> {
        self.sort = sort::read(&self.names, text).map_err(|mistake| mistake.within(text))?;
        Ok(self)
    }

    /// Returns the query for the groups of the rows of a query, in place of what it selects.
    pub fn rows_of<R>(&self, query: Query<T, R>) -> NamedRows<T, PerGroup> {
        let over = Over { body: &self.body, columns: query.columns() };
        let keys = self.keys.iter().map(|key| over.value(*key).key(false));
        let totals = self.totals.iter().map(|total| total.node(&over));
        let groups = Groups { nodes: keys.chain(totals).collect() };
        let mut query = query.selecting_groups(groups.nodes.iter().cloned().collect());
        // Each term of an AND is a condition of its own, as in a program.
        let having = match &self.having {
            Some(Term::All(terms)) => terms.as_slice(),
            Some(one) => std::slice::from_ref(one),
            None => &[],
        };
        for term in having {
            query = query.having(|_| Expr::<bool, PerGroup>::from_node(term.node(&[&groups])));
        }
        let orders = self.sort.iter().map(|term| {
            Order::<PerGroup>::new(groups.value(term.index), term.nullable, term.descending)
        });
        let query = query.order_by(|_| orders.collect::<Vec<_>>());
        NamedRows { query, columns: self.columns.clone() }
    }

    /// Returns the names of the keys and totals in their order.
    pub fn names(&self) -> impl ExactSizeIterator<Item = &str> {
        self.columns.names.iter().map(AsRef::as_ref)
    }
}

impl<T: Tables> fmt::Debug for OfferedTotals<T> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("OfferedTotals")
            .field(&self.columns.names)
            .finish()
    }
}

/// The keys and totals of a query, which conditions and sorts name.
struct Groups {
    nodes: Vec<Node>,
}

impl Resolve for Groups {
    fn value(&self, index: usize) -> Node {
        self.nodes
            .get(index)
            .cloned()
            .unwrap_or_else(|| Node::constant(false))
    }

    fn child(&self, _: usize, _: &mut dyn FnMut(&dyn Resolve) -> Node) -> Node {
        Node::constant(false)
    }

    fn call(&self, _: usize, _: Vec<Node>) -> Node {
        Node::constant(false)
    }
}

/// Calls an aggregate with a value of the type that its class has in Rust.
macro_rules! by_class {
    ($function:ident, $class:expr, $node:expr, [$($variant:pat => $rust:ty),*]) => {
        match $class {
            $($variant => $function(Expr::<Option<$rust>>::from_node($node)).into_node(),)*
            _ => Node::Unfit("this total does not compute with such values"),
        }
    };
}

impl Total {
    fn node(self, over: &dyn Resolve) -> Node {
        let Some((index, value_type)) = self.of else { return count().into_node() };
        let (node, class) = (over.value(index), Class::of(value_type.sql_type));
        match self.function {
            TotalFunction::Count => count_of(Expr::<Option<i64>>::from_node(node)).into_node(),
            TotalFunction::CountDistinct => {
                count_distinct(Expr::<Option<i64>>::from_node(node)).into_node()
            }
            TotalFunction::Sum => by_class!(sum, class, node, [
                Class::Whole => i64, Class::Decimal => Decimal, Class::Float => f64
            ]),
            TotalFunction::Avg => by_class!(avg, class, node, [
                Class::Whole => i64, Class::Decimal => Decimal, Class::Float => f64
            ]),
            TotalFunction::Min => by_class!(min, class, node, [
                Class::Whole => i64, Class::Decimal => Decimal, Class::Float => f64, Class::Text => String,
                Class::Date => Date, Class::Time => Time, Class::DateTime => DateTime,
                Class::Timestamp => Timestamp, Class::Uuid => Uuid
            ]),
            TotalFunction::Max => by_class!(max, class, node, [
                Class::Whole => i64, Class::Decimal => Decimal, Class::Float => f64, Class::Text => String,
                Class::Date => Date, Class::Time => Time, Class::DateTime => DateTime,
                Class::Timestamp => Timestamp, Class::Uuid => Uuid
            ]),
        }
    }
}
