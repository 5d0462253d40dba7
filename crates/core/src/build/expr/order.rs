//! ORDER BY terms.

use std::fmt;
use std::marker::PhantomData;

use super::level::{HoldsAggregates, HoldsColumns, PerGroup, PerRow};
use crate::tree::{Node, OrderTerm};

/// A term of ORDER BY: an expression, its direction, and the place of NULLs, which is last by default.
#[must_use = "an order does nothing until it is passed to `order_by`"]
pub struct Order<L = PerRow> {
    term: OrderTerm,
    level: PhantomData<fn() -> L>,
}

impl<L> Order<L> {
    pub(crate) fn new(by: Node, nullable: bool, descending: bool) -> Order<L> {
        let term = OrderTerm {
            by,
            nullable,
            descending,
            nulls_first: false,
            as_stored: false,
            selected: false,
        };
        Order { term, level: PhantomData }
    }

    /// Orders NULLs before all other values. It changes nothing for an expression that is never NULL.
    pub fn nulls_first(mut self) -> Order<L> {
        self.term.nulls_first = true;
        self
    }
}

// Written by hand, because the derives would require `L: Clone` and `L: Debug`.
impl<L> Clone for Order<L> {
    fn clone(&self) -> Self {
        Order { term: self.term.clone(), level: PhantomData }
    }
}

impl<L> fmt::Debug for Order<L> {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_tuple("Order").field(&self.term).finish()
    }
}

/// The arguments of `order_by`: an [`Order`], a tuple or `Vec` of them (the first counts most), or an
/// `Option`, where `None` adds no order.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not an order",
    label = "expected `asc()` or `desc()` of a column, or a tuple of such orders"
)]
pub trait IntoOrders<L = PerRow> {
    #[doc(hidden)]
    fn each(self, add: &mut dyn FnMut(OrderTerm));
}

impl<L: HoldsColumns> IntoOrders<L> for Order<PerRow> {
    fn each(self, add: &mut dyn FnMut(OrderTerm)) {
        add(self.term);
    }
}

impl<L: HoldsAggregates> IntoOrders<L> for Order<PerGroup> {
    fn each(self, add: &mut dyn FnMut(OrderTerm)) {
        add(self.term);
    }
}

impl<L, O: IntoOrders<L>> IntoOrders<L> for Option<O> {
    fn each(self, add: &mut dyn FnMut(OrderTerm)) {
        if let Some(order) = self {
            order.each(add);
        }
    }
}

impl<L, O: IntoOrders<L>> IntoOrders<L> for Vec<O> {
    fn each(self, add: &mut dyn FnMut(OrderTerm)) {
        for order in self {
            order.each(add);
        }
    }
}

macro_rules! tuples {
    ($($name:ident)+) => {
        impl<L, $($name: IntoOrders<L>),+> IntoOrders<L> for ($($name,)+) {
            fn each(self, add: &mut dyn FnMut(OrderTerm)) {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($($name,)+) = self;
                $($name.each(add);)+
            }
        }
    };
}

for_each_tuple!(tuples, up_to_8);
