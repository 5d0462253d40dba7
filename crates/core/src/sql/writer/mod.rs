//! The one walker: it reads the tree and writes the text, the binds and the origins in one pass.
//!
//! `clauses` writes queries, `limits` LIMIT and OFFSET, `sources` FROM, `groups` and `windows` queries of groups and of so
//! many rows of each kind, `subqueries` queries inside; `nodes` writes values and conditions, and `lookup` IN.

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

use smallvec::SmallVec;

pub(super) use changes::{copy, insert, insert_before, on_conflict, return_inserted};

use super::binds::Binds;
use super::identifiers::push_identifier;
use super::names::Names;
use super::operation::Operation;
use super::shown::Mark;
use super::statement::{Purpose, Statement, Tables};
use crate::dialect::{Grammar, Placeholder, Quotes, TruthForm};
use crate::model::{BindValue, Error, Origin, SqlType};
use crate::plan::{Plan, Wanted};
use crate::tree::{Asked, Named, Node, Path, RawColumn, RelationName, Select, Source};

pub(super) struct Writer<'q> {
    select: &'q Select,
    grammar: &'static dyn Grammar,
    quotes: Quotes,
    placeholder: Placeholder,
    /// True if the dialect has no type of truth values, so that a condition is no value.
    has_no_truth: bool,
    text: String,
    binds: SmallVec<[Cow<'q, BindValue>; 6]>,
    /// Where each clause begins, if somebody will look.
    marks: Option<Vec<Mark>>,
    /// In how many queries inside the query what is being written stands; their clauses have no marks.
    depth: usize,
    /// Who asked for the clause that is being written.
    asked_at: Origin,
    /// The tables that columns can be of where the text is being written, and what they are called.
    names: Names,
    /// The query inside that computes the keys of the one that is being written, if there is one.
    inside: Option<groups::Inside<'q>>,
    /// The keys of which all values together are one group where the text is being written.
    of_all: Vec<&'q Node>,
    /// The queries that have a name in the statement, each after those that it uses.
    named: Vec<&'q Named>,
    /// One that is used before its turn, and where it has to go.
    misplaced: Option<(usize, &'q Named)>,
    /// How many of the named ones can be used where the text is being written.
    defined: usize,
    /// True if they are written where they are used all the same.
    inlines: bool,
    /// What the rows of the outermost query have to fulfil besides its filters.
    policies: &'q [Asked<Node>],
    /// True if a parent may be followed, or a query may stand in it.
    asks_others: bool,
    tables: Tables,
    /// True if what is being written stands below NOT or OR, or inside an expression.
    guarded: bool,
    /// True if hand-written text may change a setting of the session.
    alters_session: bool,
    purpose: Purpose,
}

/// What a writer has written, as a statement. No function, because writers and statements are large to move.
macro_rules! written {
    ($writer:expr, $operation:expr, $most_rows:expr, $key_cells:expr) => {
        Statement {
            grammar: $writer.grammar,
            text: $writer.text,
            binds: Binds::Each($writer.binds),
            marks: $writer.marks.unwrap_or_default(),
            origin: $writer.select.asked_at,
            most_rows: $most_rows,
            key_cells: $key_cells,
            operation: $operation,
            tables: $writer.tables,
            once: false,
            alters_session: $writer.alters_session,
            copying: None,
        }
    };
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
            // Enough for the everyday query, so that the buffer is not moved while it grows.
            text: String::with_capacity(list + select.room()),
            binds: SmallVec::new(),
            marks: (purpose == Purpose::Show).then(|| Vec::with_capacity(clauses)),
            depth: 0,
            asked_at: select.asked_at,
            names: Names::default(),
            inside: None,
            of_all: Vec::new(),
            named: Vec::new(),
            misplaced: None,
            defined: 0,
            inlines: false,
            policies: plan.before_filters(),
            asks_others: plan.asks_others(),
            tables: Tables::new(),
            guarded: false,
            alters_session: false,
            purpose,
        }
    }

    /// What the rows of a query have to fulfil, policies before filters.
    fn conditions(&self, select: &'q Select) -> impl Iterator<Item = &'q Asked<Node>> + use<'q> {
        let is_outermost = std::ptr::eq(select, self.select);
        let policies = if is_outermost { self.policies } else { &[] };
        policies.iter().chain(select.conditions())
    }

    pub(super) fn write(mut self, wanted: Wanted) -> Result<Statement<'q>, Error> {
        let mut written = self.write_wanted(wanted);
        // Which queries have to be named first is known when the others have been written.
        while let (Ok(()), Some((place, named))) = (&written, self.misplaced.take()) {
            self.named.retain(|other| other.id != named.id);
            self.named.insert(place.min(self.named.len()), named);
            self.text.clear();
            self.binds.clear();
            self.marks.iter_mut().for_each(Vec::clear);
            self.names = Names::default();
            written = self.write_named().and_then(|()| self.write_wanted(wanted));
        }
        let select = self.select;
        match written {
            Ok(()) => {
                let key_cells = match select.keys.is_empty() {
                    true => SmallVec::new(),
                    false => self.key_cells(select).collect(),
                };
                let most_rows = match wanted {
                    Wanted::Rows | Wanted::Page { .. } => usize::MAX,
                    Wanted::AtMost(_) if select.at_most_one => 1,
                    Wanted::AtMost(rows) => usize::from(rows),
                    Wanted::Count | Wanted::Presence => 1,
                };
                Ok(written!(self, Operation::Read, most_rows, key_cells))
            }
            Err(err) => Err(err.asked_at(self.asked_at)),
        }
    }

    fn check_comparable(&self, sql_type: SqlType, doing: &str) -> Result<(), Error> {
        match self.grammar.can_compare(sql_type) {
            true => Ok(()),
            false => Err(Error::unsupported(
                &format!("{doing} values of type {sql_type}"),
                self.grammar.name(),
                "read the rows and compare in Rust, or keep the value in a column of another type",
            )),
        }
    }

    #[inline]
    fn check_bind(&self, value: &BindValue) -> Result<(), Error> {
        if value.is_ordinary() {
            return Ok(());
        }
        match self.grammar.refusal(value) {
            // Its value is given and checked later.
            Some(_)
                if self.purpose != Purpose::Run && matches!(value, BindValue::Parameter(..)) =>
            {
                Ok(())
            }
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

    /// Begins a clause: what follows was asked for by `origin`.
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

    /// Notes for which relation it is that the clause is written.
    fn mark_relation(&mut self, relation: RelationName) {
        if let Some(mark) = self.marks.as_mut().and_then(|marks| marks.last_mut())
            && !mark.relations.contains(&relation)
        {
            mark.relations.push(relation);
        }
    }
}

impl Node {
    /// The parent whose row is there, if that is all that the condition asks: that a column of it which is never NULL in
    /// its table is not NULL. An INNER JOIN asks it too.
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

    /// The terms of a conjunction, or the one condition that this is.
    fn terms(&self) -> &[Node] {
        match self {
            Node::All(_, terms) => terms,
            other => std::slice::from_ref(other),
        }
    }
}

impl Select {
    /// Returns whether a filter asks that there is a row of a parent that is followed.
    pub(super) fn requires(&self, parent: Source) -> bool {
        let terms = self.filters.iter().flat_map(|filter| filter.what.terms());
        let mut required = terms.filter_map(Node::required_parent);
        required.any(|required| required == parent)
    }

    /// What rows have to fulfil: the filters, and what tables beside are joined by if it follows
    /// their own parents.
    fn conditions(&self) -> impl Iterator<Item = &Asked<Node>> {
        let of_joins = self.joins.iter().flat_map(|join| &join.on);
        self.filters
            .iter()
            .chain(of_joins.filter(|on| on.what.facts().follows()))
    }

    /// About how long the text of its clauses is.
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
            // One letter is pushed faster than copied.
            match mark.as_bytes() {
                [letter] => text.push(char::from(*letter)),
                _ => text.push_str(mark),
            }
            push_number(text, number);
        }
    }
}

/// Writes digits without the machinery of `format!`, which would be a tenth of compiling a small query.
fn push_number(text: &mut String, number: usize) {
    text.push_str(itoa::Buffer::new().format(number));
}
