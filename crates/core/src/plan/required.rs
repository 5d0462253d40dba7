//! Handles that require policies: they refuse tables without one, and hand-written text that may read any table.

use std::any::TypeId;

use crate::model::{Carried, Error, Origin, PolicyInfo, RequiredValue, TableInfo};
use crate::tree::{FromSource, Inner, Node, PolicyCondition, Select, Source};

const FRAGMENT: &str = "declare with `of_arguments_only()` that it does not";
const STATEMENT: &str = "declare with `outside_policies()` that this is intended";

/// Refuses a query that reads a table outside the required policies, or text that may.
pub(super) fn check_query(select: &Select, carried: &Carried) -> Result<(), Error> {
    for required in carried.required() {
        let mut refused = None;
        select.each_read_table(&mut |table| {
            if refused.is_none() && !is_under(table, required) {
                refused = Some(Error::policies_required(table.name(), required.type_name()));
            }
        });
        let declaration = match select.holds_statement() {
            true => STATEMENT,
            false => FRAGMENT,
        };
        if select.any_text() {
            let err = || Error::text_outside_policies(required.type_name(), declaration);
            refused.get_or_insert_with(err);
        }
        if let Some(err) = refused {
            return Err(err.asked_at(select.asked_at));
        }
    }
    Ok(())
}

/// Refuses a value or a condition for the same reasons.
pub(super) fn check_node(node: &Node, carried: &Carried, at: Origin) -> Result<(), Error> {
    let mut inner = Vec::new();
    node.each_inner(&mut |query| inner.push(query));
    for query in inner {
        match query {
            Inner::Query(select) => check_query(select, carried)?,
            Inner::Cte(cte) => check_query(&cte.select, carried)?,
        }
    }
    match carried.required().first() {
        Some(required) if node.is_text() => {
            Err(Error::text_outside_policies(required.type_name(), FRAGMENT).asked_at(at))
        }
        _ => Ok(()),
    }
}

/// Refuses writes to a table outside the required policies.
pub(super) fn check_table(
    table: &'static TableInfo,
    carried: &Carried,
    at: Origin,
) -> Result<(), Error> {
    let mut required = carried.required().iter();
    match required.find(|required| !is_under(table, required)) {
        Some(required) => {
            Err(Error::policies_required(table.name(), required.type_name()).asked_at(at))
        }
        None => Ok(()),
    }
}

fn is_under(table: &'static TableInfo, required: &RequiredValue) -> bool {
    let needs = |policy| needs_carried(policy, table, Some(required.id()), &mut Vec::new());
    table.is_open_to_all() || table.policies().iter().any(needs)
}

/// Returns whether a policy depends on a carried value, or on the one of this type: itself, or through the tables
/// that it asks.
pub(super) fn needs_carried(
    policy: &'static PolicyInfo,
    table: &'static TableInfo,
    value: Option<TypeId>,
    seen: &mut Vec<TypeId>,
) -> bool {
    if seen.contains(&policy.id()) {
        return false;
    }
    seen.push(policy.id());
    let own = Source::fresh();
    // Without any carried value, a policy that needs one has no condition.
    let condition = match PolicyCondition::of(policy, own, &Carried::new()) {
        Ok(condition) => condition,
        Err(missing) => return value.is_none_or(|value| value == missing.id()),
    };
    let mut tables = Vec::new();
    condition.each_asked_table(table, own, &mut |table| tables.push(table));
    let mut policies = tables
        .into_iter()
        .flat_map(|table| table.policies().iter().map(move |policy| (table, policy)));
    policies.any(|(table, policy)| needs_carried(policy, table, value, seen))
}

impl Node {
    /// Returns whether it contains hand-written text that may name tables itself, not counting subqueries.
    fn is_text(&self) -> bool {
        let mut is_text = match self {
            Node::RawSql(text) => !text.closed && !text.reads_arguments_only,
            Node::Call(_, call) => call.may_read_tables(),
            Node::Aggregate(_, aggregate) => aggregate.call.may_read_tables(),
            Node::Window(_, window) => window.of.call.may_read_tables(),
            _ => false,
        };
        self.children(&mut |child| is_text = is_text || child.is_text());
        is_text
    }

    /// Visits the tables that a condition of a row of `table` asks: by references, and in subqueries.
    fn each_asked_table(
        &self,
        table: &'static TableInfo,
        own: Source,
        see: &mut dyn FnMut(&'static TableInfo),
    ) {
        let mut node = self.clone();
        node.each_column(&mut |column| {
            if column.source.id != own.id {
                return;
            }
            let (mut table, mut path) = (table, column.source.path);
            while let Some((step, rest)) = path.first() {
                let Some(reference) = table.references().get(step) else { return };
                (table, path) = (reference.target(), rest);
                see(table);
            }
        });
        node.each_query(&mut |select| select.each_read_table(see));
    }
}

impl Select {
    /// Visits the tables that it reads, also in derived tables and subqueries.
    fn each_read_table(&self, see: &mut dyn FnMut(&'static TableInfo)) {
        if matches!(self.body, FromSource::Table) {
            see(self.table);
        }
        for join in self
            .joins
            .iter()
            .filter(|join| matches!(join.body, FromSource::Table))
        {
            see(join.table);
        }
        let followed = self
            .followed(true)
            .into_iter()
            .map(|followed| followed.what);
        for source in followed.chain(self.beside.iter().copied()) {
            self.table_at(source).into_iter().for_each(&mut *see);
        }
        self.each_inner(&mut |inner| match inner {
            Inner::Query(select) => select.each_read_table(see),
            Inner::Cte(cte) => cte.select.each_read_table(see),
        });
    }

    /// Returns whether it reads a whole statement of hand-written text.
    fn holds_statement(&self) -> bool {
        let is_text =
            |body: &FromSource| matches!(body, FromSource::Text(_) | FromSource::Function(_));
        is_text(&self.body) || self.joins.iter().any(|join| is_text(&join.body))
    }

    fn any_text(&self) -> bool {
        let is_text = |body: &FromSource| match body {
            FromSource::Text(text) | FromSource::Function(text) => text.is_text(),
            _ => false,
        };
        let mut found = self.any_node(Node::is_text)
            || is_text(&self.body)
            || self.joins.iter().any(|join| is_text(&join.body));
        self.each_inner(&mut |inner| {
            found = found
                || match inner {
                    Inner::Query(select) => select.any_text(),
                    Inner::Cte(cte) => cte.select.any_text(),
                };
        });
        found
    }
}
