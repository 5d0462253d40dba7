//! Filters of a query, and the key that a "not found" message names.

use std::panic::Location;

use crate::model::Origin;
use crate::tree::{Located, Node, Select};

const WINDOW_IN_FILTER: &str = "a window function cannot stand in a filter, because it is computed later; filter \
     `from(query)`, or use `limit_each`";

impl Select {
    pub(super) fn filter(&mut self, condition: Node, at: &'static Location<'static>) {
        let condition = match condition.summary().windows() {
            false => condition,
            true => Node::Unfit(WINDOW_IN_FILTER),
        };
        // A condition that is always true, such as an empty list, is no filter.
        if !condition.is_constant(true) {
            self.filters
                .push(Located { what: condition, at: Origin::of(at) });
        }
    }

    pub(super) fn key_sought(&self) -> Option<String> {
        let mut parts = Vec::new();
        if self.at_most_one {
            self.filters.first()?.what.describe_equalities(&mut parts);
        }
        (!parts.is_empty()).then(|| parts.join(" and "))
    }
}

impl Node {
    /// Adds "`id` = 7" for each column that is compared with a value.
    fn describe_equalities(&self, parts: &mut Vec<String>) {
        match self {
            Node::All(_, terms) => terms
                .iter()
                .for_each(|term| term.describe_equalities(parts)),
            Node::Compare(_, _, sides) => {
                if let [Node::Column(column), Node::Bind(value)] = &**sides {
                    parts.push(format!("`{}` = {value}", column.info.name()));
                }
            }
            _ => {}
        }
    }
}
