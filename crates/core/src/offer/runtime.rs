//! Offers over tables that are only known at run time: the names are columns and relations of a catalog.

use std::collections::HashMap;
use std::panic::Location;
use std::sync::Arc;

use indexmap::IndexMap;

use super::names::{EntryKind, Names, Offered, ValueType};
use super::row::RawRow;
use super::{Body, Maker, Offer, Over};
use crate::build::expr::{Condition, ExprExt as _, PerRow};
use crate::build::query::{Places, Query, Tables};
use crate::build::write::{Insert, Inserted};
use crate::model::{BindValue, ColumnInfo, TableInfo};
use crate::plan::write::RowsOfValues;
use crate::tree::{Comparison, Node, RawColumn, Source};

/// A table that is only known at run time. Its query has the descriptor.
#[doc(hidden)]
#[derive(Debug)]
pub struct RuntimeTable;

impl Tables for RuntimeTable {
    type Columns = Source;

    fn columns(places: &mut Places<'_>) -> Source {
        places.next()
    }
}

impl Inserted for RuntimeTable {
    type Read = RawRow;
}

impl Insert<RuntimeTable> {
    /// Returns the insert of rows into a table: their values one after the other, as many for each row as the table has
    /// columns that the program gives.
    #[doc(hidden)]
    #[track_caller]
    pub fn of_values(table: &'static TableInfo, values: Vec<BindValue>) -> Insert<RuntimeTable> {
        Insert::of_list(table, Arc::new(RowsOfValues::of(table, values)))
    }
}

/// A relation by its name.
#[derive(Debug, Clone, Copy)]
enum Relation {
    /// The reference with this number.
    Parent(u8),
    /// The rows of the table with this number whose reference with that number leads here.
    Children { table: usize, reference: usize },
}

/// The tables of a catalog with the names of their relations.
#[doc(hidden)]
#[derive(Debug)]
pub struct RuntimeTables {
    tables: Vec<RuntimeEntry>,
}

#[derive(Debug)]
struct RuntimeEntry {
    info: &'static TableInfo,
    relations: IndexMap<String, Relation>,
}

/// The names of one level that are used: values, and children with a level of their own.
#[derive(Default)]
struct Level {
    values: IndexMap<String, (Vec<u8>, &'static ColumnInfo, bool)>,
    children: IndexMap<String, (Vec<u8>, usize, usize, Level)>,
}

/// The deepest path of relations. Tables may refer to each other in circles.
const DEEPEST: usize = 8;

impl RuntimeTables {
    /// Returns these tables. `children` has for each table the names of the tables that refer to it, with the numbers of the
    /// table and of its reference.
    pub fn new(
        tables: &[&'static TableInfo],
        mut children: HashMap<usize, Vec<(String, usize, usize)>>,
    ) -> RuntimeTables {
        let entries = tables.iter().enumerate().map(|(number, info)| {
            let mut relations = IndexMap::new();
            for (reference, number) in info.references().iter().zip(0..u8::MAX) {
                relations.insert(reference.name().to_owned(), Relation::Parent(number));
            }
            for (name, table, reference) in children.remove(&number).unwrap_or_default() {
                relations
                    .entry(name)
                    .or_insert(Relation::Children { table, reference });
            }
            RuntimeEntry { info, relations }
        });
        RuntimeTables { tables: entries.collect() }
    }

    /// Returns the query for all rows of a table.
    #[track_caller]
    pub fn rows(&self, table: usize) -> Option<Query<RuntimeTable, RawRow>> {
        let info = self.tables.get(table)?.info;
        Some(Query::over_runtime(info, Location::caller()))
    }

    /// Returns the names of the columns of a table.
    pub fn columns(&self, table: usize) -> impl Iterator<Item = &'static str> {
        let columns = self.tables.get(table).map(|entry| entry.info.columns());
        columns.unwrap_or_default().iter().map(ColumnInfo::name)
    }

    /// Returns the table that a relation leads to, and whether it leads to children.
    fn target(&self, table: usize, relation: &str) -> Option<(usize, bool)> {
        let entry = self.tables.get(table)?;
        match entry.relations.get(relation)? {
            Relation::Parent(number) => Some((self.parent(entry.info, *number)?, false)),
            Relation::Children { table, .. } => Some((*table, true)),
        }
    }

    /// Returns the offer of those names that are there. The others are unknown to it, and it suggests similar ones.
    pub fn offer<'n>(
        &self,
        table: usize,
        names: impl IntoIterator<Item = &'n str>,
    ) -> Offer<RuntimeTable> {
        let (mut level, mut others) = (Level::default(), Vec::new());
        self.suggest(table, "", &mut others);
        for name in names {
            let steps: Vec<&str> = name.split('.').collect();
            if steps.len() <= DEEPEST {
                self.add(table, &steps, &mut level, &mut others);
            }
        }
        let mut body = self.body(level);
        if let Some(names) = Arc::get_mut(&mut body.names) {
            names.others = others;
        }
        Offer { body: Arc::new(body) }
    }

    /// Returns the number of the table that a reference leads to.
    fn parent(&self, table: &'static TableInfo, reference: u8) -> Option<usize> {
        let target = table.references().get(usize::from(reference))?.target();
        self.tables
            .iter()
            .position(|entry| std::ptr::eq(entry.info, target))
    }

    /// Adds a name by its steps from a table.
    fn add(&self, table: usize, steps: &[&str], level: &mut Level, others: &mut Vec<String>) {
        let (mut table, mut path, mut optional) = (table, Vec::new(), false);
        for (number, step) in steps.iter().enumerate() {
            let Some(entry) = self.tables.get(table) else { return };
            let is_last = number + 1 == steps.len();
            if is_last {
                let mut columns = entry.info.columns().iter();
                if let Some(column) = columns.find(|column| column.name() == *step) {
                    level
                        .values
                        .insert(steps.join("."), (path, column, optional));
                    return;
                }
            }
            let so_far = steps.get(..number).unwrap_or_default().join(".");
            match entry.relations.get(*step) {
                Some(Relation::Parent(reference)) => {
                    let Some(target) = self.parent(entry.info, *reference) else { return };
                    let references = entry.info.references().get(usize::from(*reference));
                    optional |= references.is_none_or(|reference| reference.is_optional());
                    path.push(*reference);
                    table = target;
                }
                Some(Relation::Children { table: child, reference }) => {
                    let name = steps.get(..=number).unwrap_or_default().join(".");
                    let rest = steps.get(number + 1..).unwrap_or_default();
                    let (_, _, _, inner) = level
                        .children
                        .entry(name)
                        .or_insert_with(|| (path, *child, *reference, Level::default()));
                    return self.add(*child, rest, inner, &mut Vec::new());
                }
                None => return self.suggest(table, &so_far, others),
            }
        }
    }

    /// Adds the names of a table's columns and relations, for suggestions.
    fn suggest(&self, table: usize, prefix: &str, others: &mut Vec<String>) {
        let Some(entry) = self.tables.get(table) else { return };
        let under = |name: &str| match prefix {
            "" => name.to_owned(),
            prefix => format!("{prefix}.{name}"),
        };
        others.extend(
            entry
                .info
                .columns()
                .iter()
                .map(|column| under(column.name())),
        );
        for relation in entry.relations.keys() {
            let target = self
                .target(table, relation)
                .and_then(|(target, _)| self.tables.get(target));
            let columns = target
                .map(|target| target.info.columns())
                .unwrap_or_default();
            others.extend(
                columns
                    .iter()
                    .map(|column| under(&format!("{relation}.{}", column.name()))),
            );
        }
    }

    fn body(&self, level: Level) -> Body<RuntimeTable> {
        let (mut names, mut makers) = (Names::default(), Vec::new());
        for (name, (path, column, optional)) in level.values {
            let value = ValueType::of_sql_type(column.sql_type(), column.is_nullable() || optional);
            names.add(Offered::name(name), EntryKind::Value(value));
            makers.push(Maker::Value(Box::new(move |source| {
                Node::Column(RawColumn { source: followed(source, &path), info: column })
            })));
        }
        for (name, (path, child, reference, inner)) in level.children {
            let Some(entry) = self.tables.get(child) else { continue };
            let (info, body) = (entry.info, Arc::new(self.body(inner)));
            let kind = EntryKind::Children { names: body.names.clone(), apart: false };
            names.add(Offered::name(name), kind);
            makers.push(Maker::Child(Box::new(move |source, condition| {
                let query: Query<RuntimeTable, RawRow> =
                    Query::over_runtime(info, Location::caller());
                let parent = followed(source, &path);
                let related = query.filter(|child| related(info, reference, child, parent));
                let related = related.filter(|columns| {
                    Condition::<PerRow>::from_node(condition(&Over { body: &body, columns }))
                });
                related.exists().into_node()
            })));
        }
        Body { names: Arc::new(names), makers, functions: Vec::new() }
    }
}

fn followed(source: Source, path: &[u8]) -> Source {
    path.iter()
        .fold(source, |source, reference| source.followed(*reference))
}

/// Returns the condition that a child refers to a row.
fn related(child: &'static TableInfo, reference: usize, own: Source, parent: Source) -> Condition {
    let reference = child.references().get(reference);
    let pairs = reference
        .into_iter()
        .flat_map(|reference| reference.pairs_at(own, parent));
    let equal = pairs.map(|[own, parent]| {
        Node::compare(Comparison::Equal, Node::Column(own), Node::Column(parent))
    });
    let all = equal.reduce(Node::and);
    Condition::from_node(all.unwrap_or_else(|| Node::constant(false)))
}
