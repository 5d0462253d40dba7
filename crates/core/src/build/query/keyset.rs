//! Keyset pagination: the condition that a row comes after another in the order of a query.

use std::sync::Arc;

use super::Selects;
use crate::build::compile;
use crate::build::prepared::{Derived, Unfilled};
use crate::dialect::Grammar;
use crate::model::{BindValue, Error, SqlType, TableInfo, function};
use crate::plan::{CompileContext, ReadShape};
use crate::sql::Statement;
use crate::tree::{Comparison, Located, Node, OrderTerm, Path, RawColumn, Select};

/// A query for the rows after a position in its order, or before it, which are then read backwards.
#[doc(hidden)]
#[derive(Debug)]
pub struct Keyset {
    select: Select,
    /// The number of key cells that describe the position of a row.
    width: usize,
    /// Its values, if it is a page of a prepared query.
    derived: Option<Derived>,
}

const LIMITED: &str = "a page has its own limit and no offset; remove those of the query";
const NOT_ROWS: &str = "keyset pagination reads rows or groups, not `distinct`, `limit_each` or subtotals; use a numbered page";
const WINDOWS: &str =
    "keyset pagination cannot order by a window function; order `from(query)` by it";
const WITHOUT_KEY: &str =
    "keyset pagination needs a key that separates rows with equal order, and the struct has none";

impl Keyset {
    /// Returns the query in its order, with its key appended so that no two rows have the same position.
    pub fn of<Q: Selects>(query: &Q, backwards: bool) -> Result<Keyset, Error> {
        let unfilled = query.unfilled();
        let mut select = unfilled
            .map_or_else(|| query.select(), Unfilled::select)
            .clone();
        let unfit = |reason| Err(Error::invalid_query(reason).asked_at(query.asked_at()));
        if select.is_limited() {
            return unfit(LIMITED);
        }
        let unlike_rows = select
            .grouping
            .as_ref()
            .map(|grouping| grouping.distinct.is_some() || grouping.of_each.is_some());
        match unlike_rows {
            Some(true) => return unfit(NOT_ROWS),
            Some(false) if !select.order_by_group_keys() => return unfit(NOT_ROWS),
            None if !select.at_most_one && !select.order_by_keys() => return unfit(WITHOUT_KEY),
            Some(false) | None => {}
        }
        if select
            .orders
            .iter()
            .any(|order| order.what.by.summary().windows())
        {
            return unfit(WINDOWS);
        }
        if backwards {
            for order in &mut select.orders {
                order.what.descending ^= true;
                order.what.nulls_first ^= true;
            }
        }
        let places = select.orders.iter().map(|order| order.what.by.clone());
        let places: Vec<Node> = places.collect();
        let width = places.len();
        select.keys.splice(0..0, places);
        let derived = unfilled.map(|unfilled| unfilled.derived(backwards));
        Ok(Keyset { select, width, derived })
    }

    /// Returns the types of the values of a position, and whether each is nullable.
    pub fn types(&self) -> impl ExactSizeIterator<Item = (SqlType, bool)> {
        let orders = self.select.orders.iter();
        orders.map(|order| (order.what.by.sql_type(), order.what.nullable))
    }

    pub fn width(&self) -> usize {
        self.width
    }

    /// Returns the tables and the order of the query as text, without selected values and filters. A position
    /// is valid in every query with the same text.
    pub fn structure<Q: Selects>(
        &self,
        query: &Q,
        grammar: &'static dyn Grammar,
    ) -> Result<Arc<str>, Error> {
        let mut order = self.select.clone();
        order.filters.clear();
        if let Some(grouping) = &mut order.grouping {
            grouping.having.clear();
        }
        order.limit = None;
        order.beside.clear();
        order.keys.clear();
        order.values = Some(Located {
            what: order
                .orders
                .iter()
                .map(|order| order.what.by.clone())
                .collect(),
            at: self.select.asked_at,
        });
        let mut has_values = false;
        order.each_bind(&mut |_| has_values = true);
        if has_values && let Some(derived) = &self.derived {
            derived.fill(&mut order);
        }
        let text = || compile::text_of(&order, grammar);
        match query.unfilled().filter(|_| !has_values) {
            Some(unfilled) => unfilled.order_text(grammar.name(), text),
            None => Ok(text()?.into()),
        }
    }

    /// Keeps only the rows after this position.
    pub fn after(mut self, place: Vec<BindValue>) -> Keyset {
        let place = match &mut self.derived {
            Some(derived) => derived.after(place),
            None => place,
        };
        let orders: Vec<&OrderTerm> = self.select.orders.iter().map(|order| &order.what).collect();
        let terms = orders.into_iter().zip(place).collect::<Vec<_>>();
        let condition = beyond(&terms);
        let condition = Located { what: condition, at: self.select.asked_at };
        match &mut self.select.grouping {
            // The position of a group is known after grouping.
            Some(grouping) => grouping.having.push(condition),
            None => self.select.filters.push(condition),
        }
        self
    }

    /// Limits the number of rows.
    pub fn limited(mut self, rows: u64) -> Keyset {
        let rows = i64::try_from(rows).unwrap_or(i64::MAX);
        let at = self.select.asked_at;
        let mut limit = BindValue::Int(rows);
        if let Some(derived) = &mut self.derived {
            limit = derived.parameter(limit);
        }
        self.select.limit = Some(Located { what: limit, at });
        self
    }

    pub fn statement<'s>(&'s self, context: CompileContext<'s>) -> Result<Statement<'s>, Error> {
        match &self.derived {
            Some(derived) => derived.statement(&self.select, context),
            None => compile::to_run(&self.select, context, ReadShape::Rows),
        }
    }
}

impl Select {
    /// Appends the keys of all its tables to the order, and returns whether each has one.
    fn order_by_keys(&mut self) -> bool {
        let mut complete = true;
        for source in self.rows.clone() {
            let Some(table) = self.table_at(source) else { return false };
            let optional = source.path != Path::HERE || self.may_be_missing(source);
            let mut keys = TableInfo::key(table).peekable();
            complete &= keys.peek().is_some();
            for info in keys {
                let by = Node::Column(RawColumn { source, info });
                if self.orders.iter().all(|order| order.what.by != by) {
                    let what = OrderTerm {
                        by,
                        nullable: optional,
                        descending: false,
                        nulls_first: false,
                        as_stored: true,
                        selected: false,
                    };
                    self.orders.push(Located { what, at: self.asked_at });
                }
            }
        }
        complete
    }
}

impl Select {
    /// Appends the group keys to the order, which identify a group, and returns whether they do: a subtotal has the same
    /// keys as a group with NULL.
    fn order_by_group_keys(&mut self) -> bool {
        fn add(node: &Node, keys: &mut Vec<Node>) {
            match node {
                Node::Key(_, key) if !key.decided_by.is_empty() => {
                    key.decided_by.iter().for_each(|key| add(key, keys));
                }
                key @ Node::Key(..) if !keys.contains(key) => keys.push(key.clone()),
                Node::Key(..) => {}
                other => other.children(&mut |child| add(child, keys)),
            }
        }
        let mut keys = Vec::new();
        let values = self.values.iter().flat_map(|values| &values.what);
        let others = self
            .grouping
            .iter()
            .flat_map(|grouping| &grouping.group_keys);
        values.for_each(|value| add(value, &mut keys));
        others.for_each(|key| add(&key.what, &mut keys));
        if keys.iter().any(Node::is_rolled_up) {
            return false;
        }
        for by in keys {
            if self.orders.iter().all(|order| order.what.by != by) {
                // A key does not say here if it is nullable.
                let what = OrderTerm {
                    by,
                    nullable: true,
                    descending: false,
                    nulls_first: false,
                    as_stored: false,
                    selected: false,
                };
                self.orders.push(Located { what, at: self.asked_at });
            }
        }
        true
    }
}

/// Returns the condition that a row comes after the one with these values: beyond it in the first term, or
/// equal there and beyond it in the others. The first term alone is a range of an index.
fn beyond(terms: &[(&OrderTerm, BindValue)]) -> Node {
    let Some(((order, value), others)) = terms.split_first() else { return Node::constant(false) };
    let strictly = strictly_beyond(order, value);
    if others.is_empty() {
        return strictly;
    }
    at_or_beyond(order, value).and(strictly.or(beyond(others)))
}

fn strictly_beyond(order: &OrderTerm, value: &BindValue) -> Node {
    match (value, order.nulls_first) {
        (BindValue::Null(_), true) => order.by.clone().is_null().negated(),
        (BindValue::Null(_), false) => Node::constant(false),
        (value, nulls_first) => {
            let comparison = if order.descending { Comparison::Less } else { Comparison::Greater };
            or_null(order, nulls_first, compare(order, comparison, value))
        }
    }
}

fn at_or_beyond(order: &OrderTerm, value: &BindValue) -> Node {
    match (value, order.nulls_first) {
        (BindValue::Null(_), true) => Node::constant(true),
        (BindValue::Null(_), false) => order.by.clone().is_null(),
        (value, nulls_first) => {
            let comparison = match order.descending {
                true => Comparison::LessOrEqual,
                false => Comparison::GreaterOrEqual,
            };
            or_null(order, nulls_first, compare(order, comparison, value))
        }
    }
}

fn compare(order: &OrderTerm, comparison: Comparison, value: &BindValue) -> Node {
    let by = order.by.clone();
    let by = match by {
        // MariaDB sorts most UUIDs by their last digits.
        by if order.as_stored && by.sql_type() == SqlType::Uuid => {
            Node::call(&function::AS_STORED, SqlType::Bytes, [by])
        }
        by => by,
    };
    Node::compare(comparison, by, Node::Bind(value.clone()))
}

/// Adds the NULLs, which come after every value where they are last.
fn or_null(order: &OrderTerm, nulls_first: bool, condition: Node) -> Node {
    match order.nullable && !nulls_first {
        true => condition.or(order.by.clone().is_null()),
        false => condition,
    }
}
