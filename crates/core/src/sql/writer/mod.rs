//! The writer: reads the tree once and writes the text, the binds and the origins.
//!
//! `clauses` writes SELECT, `limits` LIMIT and OFFSET, `sources` FROM, `groups` GROUP BY and aggregates,
//! `windows` window functions and limits for each group, `subqueries` subqueries, `nodes` values and
//! conditions, `lookup` IN, `changes` INSERT, UPDATE and DELETE.

mod changes;
mod clauses;
mod groups;
mod limits;
mod lookup;
mod nodes;
mod sources;
mod subqueries;
mod windows;

use std::borrow::Cow;
use std::sync::Arc;

use smallvec::SmallVec;

pub(crate) use changes::NewValues;
pub(super) use changes::{
    copy, insert, insert_before, insert_computed, on_conflict, return_inserted,
};

use super::binds::Binds;
use super::identifiers::push_identifier;
use super::names::Names;
use super::operation::Operation;
use super::shown::Mark;
use super::statement::{Purpose, Statement, Tables};
use crate::dialect::{Grammar, Placeholder, Quotes, TruthForm};
use crate::model::{BindValue, Error, Origin, SqlType};
use crate::plan::{Plan, ReadShape};
use crate::tree::{CteQuery, Located, Node, Path, RawColumn, RelationName, Select, Source, Window};

pub(super) struct Writer<'q> {
    select: &'q Select,
    grammar: &'static dyn Grammar,
    quotes: Quotes,
    placeholder: Placeholder,
    /// True if the dialect has no boolean type, so that a condition is not a value.
    has_no_truth: bool,
    text: String,
    binds: SmallVec<[Cow<'q, BindValue>; 6]>,
    /// The start of each clause, if the statement is written for people.
    marks: Option<Vec<Mark>>,
    /// The nesting depth of the current query. Clauses of nested queries have no marks.
    depth: usize,
    /// The line that asked for the current clause.
    asked_at: Origin,
    /// The tables in scope, with their names.
    names: Names,
    /// The derived table that computes the keys of the current query, if there is one.
    inside: Option<groups::PrecomputedKeys<'q>>,
    /// The windows of the current query that must not be sorted together.
    windows: Vec<&'q Window>,
    /// The keys that are rolled up in the current query.
    of_all: Vec<&'q Node>,
    /// The common table expressions of the statement, each after those that it uses.
    named: Vec<&'q CteQuery>,
    /// An expression that is used before its definition, and the place where it must be defined.
    misplaced: Option<(usize, &'q CteQuery)>,
    /// The number of common table expressions that the current text may use.
    defined: usize,
    /// True if they are written inline where they are used.
    inlines: bool,
    /// The policies of the outermost query, which stand before its filters.
    policies: &'q [Located<Node>],
    /// True if the query may follow a parent or contain a subquery.
    asks_others: bool,
    tables: Tables,
    /// True if the current node stands below NOT or OR, or inside an expression.
    in_expression: bool,
    /// True if a subquery depends on text of a row around it, which a column's collation may treat as equal to other text.
    depends_on_text: bool,
    /// The length that all lists count as; 0 before the first list.
    list_length: usize,
    /// True if an earlier list was written for a smaller length than a later one has.
    lists_differ: bool,
    /// True if the statement is planned for its values each time it runs.
    plans_for_values: bool,
    /// True if the text depends on the value of a bind parameter.
    depends_on_values: bool,
    /// True if hand-written text may change a session setting.
    alters_session: bool,
    /// The schema of the tables that name none.
    schema: Option<&'q Arc<str>>,
    /// True if hand-written text stands in the statement that does not write the schema itself.
    needs_search_path: bool,
    purpose: Purpose,
}

/// Turns a finished writer into a statement. A macro, because writers and statements are large to move.
macro_rules! written {
    ($writer:expr, $operation:expr, $most_rows:expr, $key_cells:expr) => {{
        $writer.open_forgetful();
        let parts = $crate::sql::statement::Parts {
            grammar: $writer.grammar,
            text: $writer.text,
            marks: $writer.marks.unwrap_or_default(),
            most_rows: $most_rows,
            key_cells: $key_cells,
            operation: $operation,
            tables: $writer.tables,
            once: false,
            plans_for_values: $writer.plans_for_values,
            depends_on_values: $writer.depends_on_values,
            alters_session: $writer.alters_session,
            copying: None,
            wanted: None,
            commits: false,
            search_path: $writer
                .schema
                .filter(|_| $writer.needs_search_path)
                .cloned(),
        };
        Statement {
            parts: $crate::sql::statement::Held::Own(Box::new(parts)),
            binds: Binds::Each($writer.binds),
            origin: $writer.select.asked_at,
        }
    }};
}
use written;

impl<'q> Writer<'q> {
    pub(super) fn new(
        plan: Plan<'q>,
        grammar: &'static dyn Grammar,
        purpose: Purpose,
    ) -> Writer<'q> {
        let select = plan.select();
        let list = select
            .table
            .select_list()
            .first()
            .map_or(0, |list| list.len());
        let clauses = 4 + select.filters.len() + select.orders.len();
        Writer {
            select,
            grammar,
            quotes: grammar.quotes(),
            placeholder: grammar.placeholder(),
            has_no_truth: !matches!(grammar.truth(), TruthForm::Value),
            // This capacity suits most queries, so that the buffer does not move while it grows.
            text: String::with_capacity(list + select.room()),
            binds: SmallVec::new(),
            marks: (purpose == Purpose::Show).then(|| Vec::with_capacity(clauses)),
            depth: 0,
            asked_at: select.asked_at,
            names: Names::default(),
            inside: None,
            windows: Vec::new(),
            of_all: Vec::new(),
            named: Vec::new(),
            misplaced: None,
            defined: 0,
            inlines: false,
            policies: plan.before_filters(),
            asks_others: plan.asks_others(),
            tables: Tables::new(),
            in_expression: false,
            depends_on_text: false,
            list_length: 0,
            lists_differ: false,
            plans_for_values: select.custom_plan,
            depends_on_values: false,
            alters_session: false,
            schema: plan.schema(),
            needs_search_path: false,
            purpose,
        }
    }

    /// Returns the conditions of a query, policies before filters.
    fn conditions(&self, select: &'q Select) -> impl Iterator<Item = &'q Located<Node>> + use<'q> {
        let is_outermost = std::ptr::eq(select, self.select);
        let policies = if is_outermost { self.policies } else { &[] };
        policies.iter().chain(select.conditions())
    }

    pub(super) fn write(mut self, shape: ReadShape) -> Result<Statement<'q>, Error> {
        let mut written = self.write_wanted(shape);
        // The order of common table expressions is only known when their uses have been written.
        while let (Ok(()), Some((place, named))) = (&written, self.misplaced.take()) {
            self.named.retain(|other| other.id != named.id);
            self.named.insert(place.min(self.named.len()), named);
            self.begin_again();
            written = self.write_named().and_then(|()| self.write_wanted(shape));
        }
        if written.is_ok() && self.begins_again_for_lists() {
            written = match self.named.is_empty() {
                true => self.write_wanted(shape),
                false => self.write_named().and_then(|()| self.write_wanted(shape)),
            };
        }
        let select = self.select;
        match written.and_then(|()| self.check_names()) {
            Ok(()) => {
                let key_cells = match select.keys.is_empty() {
                    true => SmallVec::new(),
                    false => self.key_cells(select).collect(),
                };
                let most_rows = match shape {
                    ReadShape::Rows | ReadShape::Page { .. } => usize::MAX,
                    ReadShape::AtMost(_) if select.at_most_one => 1,
                    ReadShape::AtMost(rows) => usize::from(rows),
                    ReadShape::Count | ReadShape::Presence => 1,
                };
                Ok(written!(self, Operation::Read, most_rows, key_cells))
            }
            Err(err) => Err(err.asked_at(self.asked_at)),
        }
    }

    fn begin_again(&mut self) {
        self.text.clear();
        self.binds.clear();
        self.marks.iter_mut().for_each(Vec::clear);
        self.names = Names::default();
    }

    fn check_comparable(&self, sql_type: SqlType, doing: &str) -> Result<(), Error> {
        match self.grammar.can_compare(sql_type) {
            true => Ok(()),
            false => Err(Error::unsupported(
                &format!("{doing} values of type {sql_type}"),
                self.grammar.name(),
                "read the rows and compare in Rust, or store the value in a column of another type",
            )),
        }
    }

    #[inline]
    fn check_ordered(&self, sql_type: SqlType) -> Result<(), Error> {
        match sql_type {
            SqlType::Native(_) if !self.grammar.can_order(sql_type) => Err(Error::unsupported(
                &format!("ordering values of type {sql_type}"),
                self.grammar.name(),
                "order the rows in Rust",
            )),
            _ => Ok(()),
        }
    }

    #[inline]
    fn check_bind(&self, value: &BindValue) -> Result<(), Error> {
        if value.is_ordinary() {
            return Ok(());
        }
        match self.grammar.refusal(value) {
            // The value is given later and checked then.
            Some(_) if self.purpose != Purpose::Run && value.is_unsettled() => Ok(()),
            Some(reason) => Err(Error::refused_value(value, reason)),
            None => Ok(()),
        }
    }

    fn push_bind(&mut self, value: Cow<'q, BindValue>) -> Result<(), Error> {
        self.check_bind(&value)?;
        self.binds.push(value);
        push_placeholder(&mut self.text, self.placeholder, self.binds.len());
        Ok(())
    }

    #[inline]
    fn push(&mut self, text: &str) {
        if !text.is_empty() {
            self.text.push_str(text);
        }
    }

    #[inline]
    fn push_name(&mut self, name: &str) {
        push_identifier(&mut self.text, name, self.quotes);
    }

    /// Keeps the engine from remembering the results of subqueries by text that only looks equal to it.
    fn open_forgetful(&mut self) {
        if !self.depends_on_text {
            return;
        }
        if let Some(opening) = self.grammar.forgetful() {
            self.text.insert_str(0, opening);
            for mark in self.marks.iter_mut().flatten().skip(1) {
                mark.at += opening.len();
            }
        }
    }

    /// Begins a clause that `origin` asked for.
    fn clause(&mut self, opening: &str, origin: Origin) {
        self.mark(origin);
        self.push(opening);
    }

    fn mark(&mut self, origin: Origin) {
        self.asked_at = origin;
        if let Some(marks) = &mut self.marks
            && self.depth == 0
        {
            marks.push(Mark { at: self.text.len(), origin, relations: SmallVec::new() });
        }
    }

    /// Adds a relation to the origin of the current clause.
    fn mark_relation(&mut self, relation: RelationName) {
        if let Some(mark) = self.marks.as_mut().and_then(|marks| marks.last_mut())
            && !mark.relations.contains(&relation)
        {
            mark.relations.push(relation);
        }
    }
}

impl Node {
    /// Returns the parent whose row the condition tests, if it only compares a column that is NOT NULL in its
    /// table with NULL. An INNER JOIN has the same effect.
    fn required_parent(&self) -> Option<Source> {
        match self {
            Node::IsNotNull(_, operand) => match &**operand {
                Node::Column(RawColumn { source, info })
                    if source.path != Path::HERE && !info.is_nullable() =>
                {
                    Some(*source)
                }
                _ => None,
            },
            _ => None,
        }
    }

    /// Returns whether nothing is computed for it.
    fn is_plain(&self) -> bool {
        matches!(self, Node::Column(_) | Node::Bind(_))
    }
}

impl Select {
    /// Returns whether a filter requires the row of a parent.
    pub(super) fn requires(&self, parent: Source) -> bool {
        let terms = self.filters.iter().flat_map(|filter| filter.what.terms());
        let mut required = terms.filter_map(Node::required_parent);
        required.any(|required| required == parent)
    }

    /// Returns the conditions of WHERE: the filters, and the ON conditions of joined tables that follow their
    /// own parents.
    fn conditions(&self) -> impl Iterator<Item = &Located<Node>> {
        let of_joins = self.joins.iter().flat_map(|join| &join.on);
        self.filters
            .iter()
            .chain(of_joins.filter(|on| on.what.summary().follows()))
    }

    /// Returns roughly the length of the text of its clauses.
    fn room(&self) -> usize {
        let inner = self.filters.iter().map(|filter| match &filter.what {
            Node::InQuery(_, in_query) => in_query.select.room(),
            _ => 0,
        });
        96 + 64 * (self.filters.len() + self.orders.len()) + inner.sum::<usize>()
    }
}

#[inline]
fn push_placeholder(text: &mut String, placeholder: Placeholder, number: usize) {
    match placeholder {
        Placeholder::QuestionMark => text.push('?'),
        Placeholder::Numbered(mark) => {
            // Pushing a single byte is faster than copying a slice.
            match mark.as_bytes() {
                [letter] => text.push(char::from(*letter)),
                _ => text.push_str(mark),
            }
            push_number(text, number);
        }
    }
}

/// Writes digits without `format!`, which would take a tenth of the time to compile a small query.
fn push_number(text: &mut String, number: usize) {
    text.push_str(itoa::Buffer::new().format(number));
}
