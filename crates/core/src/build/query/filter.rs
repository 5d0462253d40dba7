//! Filters of a query, and what its message says of the row that a key names.

use std::panic::Location;

use crate::model::Origin;
use crate::tree::{Asked, Node, Select};

const WINDOW_IN_FILTER: &str = "a function of a window stands in a filter, but is known only after \
     it; filter `from(query)`, or ask for so many of each with `limit_each`";

impl Select {
    pub(super) fn filter(&mut self, condition: Node, at: &'static Location<'static>) {
        let condition = match condition.facts().windows() {
            false => condition,
            true => Node::Unfit(WINDOW_IN_FILTER),
        };
        // A condition that every row passes, such as an empty list of them, is no filter.
        if !condition.is_constant(true) {
            self.filters
                .push(Asked { what: condition, at: Origin::of(at) });
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
    /// "`id` = 7" for each column that is compared with a value here.
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
