//! A checked filter: every name is resolved, every value has its type. It becomes a condition of a query when the columns
//! are there.

use crate::build::expr::{Expr, NumberExt as _};
use crate::cql2::Arithmetic;
use crate::model::{BindValue, List, SqlType, function};
use crate::tree::{Comparison, Node};
use rust_decimal::Decimal;

use super::class::Class;

/// A condition.
#[derive(Debug, Clone)]
pub(crate) enum Term {
    Constant(bool),
    /// True, or false, but NULL where the value is NULL.
    Known(bool, Value),
    All(Vec<Term>),
    Any(Vec<Term>),
    Not(Box<Term>),
    /// A value that is a condition already.
    Holds(Value),
    Compare(Comparison, Value, Value),
    Between(Box<[Value; 3]>),
    OneOf(Value, List),
    Like {
        text: Value,
        pattern: Box<str>,
        any_case: bool,
    },
    IsNull(Value),
    /// There is such a child, by the number of the children among the names.
    Child(usize, Box<Term>),
}

/// A value.
#[derive(Debug, Clone)]
pub(crate) enum Value {
    /// A name, by its number, of the offer at this level: 0 is the outermost, and each child is one further in.
    Name {
        level: u16,
        index: u16,
    },
    Bind(BindValue),
    Lower(Box<Value>),
    /// A number of the first class, as one of the second.
    Cast(Box<(Class, Class, Value)>),
    Arithmetic(Arithmetic, Box<(Class, [Value; 2])>),
    /// A function of the outermost offer.
    Call(usize, Vec<Value>),
}

/// The nodes of the names of an offer, over the columns of one query.
pub(crate) trait Resolve {
    fn value(&self, index: usize) -> Node;

    /// Returns the condition that one of the children satisfies `condition`.
    fn child(&self, index: usize, condition: &mut dyn FnMut(&dyn Resolve) -> Node) -> Node;

    fn call(&self, index: usize, arguments: Vec<Node>) -> Node;
}

impl Term {
    /// Returns the condition; `levels` has the names of each level.
    pub(crate) fn node(&self, levels: &[&dyn Resolve]) -> Node {
        match self {
            Term::Constant(holds) => Node::constant(*holds),
            Term::Known(holds, value) => {
                let node = value.node(levels);
                let comparison = if *holds { Comparison::Equal } else { Comparison::NotEqual };
                Node::compare(comparison, node.clone(), node)
            }
            Term::All(terms) => joined(terms, levels, Node::and, true),
            Term::Any(terms) => joined(terms, levels, Node::or, false),
            Term::Not(term) => term.node(levels).negated(),
            Term::Holds(value) => value.node(levels),
            Term::Compare(comparison, left, right) => {
                compare(*comparison, left.node(levels), right.node(levels))
            }
            Term::Between(parts) => {
                let [value, low, high] = [0, 1, 2].map(|part| parts[part].node(levels));
                value.between(low, high)
            }
            Term::OneOf(value, list) => value.node(levels).one_of(list.clone(), None, false),
            Term::Like { text, pattern, any_case } => {
                text.node(levels).like(pattern.clone(), *any_case)
            }
            Term::IsNull(value) => value.node(levels).is_null(),
            Term::Child(index, term) => match levels.last() {
                Some(innermost) => innermost.child(*index, &mut |child| {
                    let mut inner = levels.to_vec();
                    inner.push(child);
                    term.node(&inner)
                }),
                None => Node::constant(false),
            },
        }
    }
}

fn joined(
    terms: &[Term],
    levels: &[&dyn Resolve],
    join: impl Fn(Node, Node) -> Node,
    empty: bool,
) -> Node {
    let nodes = terms.iter().map(|term| term.node(levels));
    nodes.reduce(join).unwrap_or_else(|| Node::constant(empty))
}

/// Compares two values. A condition that is compared with a boolean is the condition itself, or its opposite: engines plan
/// EXISTS better than `EXISTS (..) = TRUE`.
fn compare(comparison: Comparison, left: Node, right: Node) -> Node {
    let holds = match (&left, &right) {
        (condition, Node::Bind(BindValue::Bool(value))) if condition.is_condition() => *value,
        _ => return Node::compare(comparison, left, right),
    };
    match (comparison, holds) {
        (Comparison::Equal, true) | (Comparison::NotEqual, false) => left,
        (Comparison::Equal, false) | (Comparison::NotEqual, true) => left.negated(),
        _ => Node::compare(comparison, left, right),
    }
}

impl Value {
    pub(crate) fn node(&self, levels: &[&dyn Resolve]) -> Node {
        match self {
            Value::Name { level, index } => match levels.get(usize::from(*level)) {
                Some(names) => names.value(usize::from(*index)),
                None => Node::constant(false),
            },
            Value::Bind(bind) => Node::Bind(bind.clone()),
            Value::Lower(text) => Node::call(&function::LOWER, SqlType::Text, [text.node(levels)]),
            Value::Cast(cast) => {
                let (from, to, value) = &**cast;
                from.cast(*to, value.node(levels))
            }
            Value::Arithmetic(operator, computed_as) => {
                let (class, sides) = &**computed_as;
                computed(*operator, *class, [sides[0].node(levels), sides[1].node(levels)])
            }
            Value::Call(index, arguments) => match levels.first() {
                Some(names) => {
                    let nodes = arguments.iter().map(|argument| argument.node(levels));
                    names.call(*index, nodes.collect())
                }
                None => Node::constant(false),
            },
        }
    }
}

/// Computes with two numbers of one class, by the operators that programs use too.
fn computed(operator: Arithmetic, class: Class, [left, right]: [Node; 2]) -> Node {
    macro_rules! with {
        ($number:ty, $($named:ident => $operator:tt),*) => {{
            let left = Expr::<Option<$number>>::from_node(left);
            let right = Expr::<Option<$number>>::from_node(right);
            match operator {
                $(Arithmetic::$named => Some((left $operator right).into_node()),)*
                _ => None,
            }
        }};
    }
    use crate::build::expr::ExprExt as _;
    let computed = match class {
        Class::Whole => {
            with!(i64, Add => +, Subtract => -, Multiply => *, DivideWhole => /, Remainder => %)
        }
        Class::Decimal => with!(Decimal, Add => +, Subtract => -, Multiply => *),
        _ if operator == Arithmetic::Power => {
            let base = Expr::<Option<f64>>::from_node(left);
            Some(
                base.power(Expr::<Option<f64>>::from_node(right))
                    .into_node(),
            )
        }
        _ => with!(f64, Add => +, Subtract => -, Multiply => *, Divide => /),
    };
    // The check lets no other operator through.
    computed.unwrap_or(Node::Unfit("this operator does not compute with such numbers"))
}
