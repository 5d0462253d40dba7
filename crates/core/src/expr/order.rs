//! What rows are ordered by.

use crate::tree::{Node, OrderTerm};

/// An expression to order by, its direction, and where its NULLs go: last, unless said otherwise.
#[derive(Debug, Clone)]
#[must_use = "an order does nothing until it is given to `order_by`"]
pub struct Order {
    term: OrderTerm,
}

impl Order {
    pub(crate) fn new(by: Node, nullable: bool, descending: bool) -> Order {
        Order { term: OrderTerm { by, nullable, descending, nulls_first: false } }
    }

    /// Puts the rows whose value is NULL before all others. Without any NULL it changes nothing.
    pub fn nulls_first(mut self) -> Order {
        self.term.nulls_first = true;
        self
    }
}

/// What `order_by` accepts: an [`Order`], a tuple or `Vec` of them (the first counts most), or an
/// `Option`, where `None` adds no order.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not an order",
    label = "expected `asc()` or `desc()` of a column, or a tuple of such orders"
)]
pub trait IntoOrders {
    #[doc(hidden)]
    fn each(self, add: &mut dyn FnMut(OrderTerm));
}

impl IntoOrders for Order {
    fn each(self, add: &mut dyn FnMut(OrderTerm)) {
        add(self.term);
    }
}

impl<O: IntoOrders> IntoOrders for Option<O> {
    fn each(self, add: &mut dyn FnMut(OrderTerm)) {
        if let Some(order) = self {
            order.each(add);
        }
    }
}

impl<O: IntoOrders> IntoOrders for Vec<O> {
    fn each(self, add: &mut dyn FnMut(OrderTerm)) {
        for order in self {
            order.each(add);
        }
    }
}

macro_rules! tuples {
    ($($name:ident)+) => {
        impl<$($name: IntoOrders),+> IntoOrders for ($($name,)+) {
            fn each(self, add: &mut dyn FnMut(OrderTerm)) {
                #[allow(non_snake_case, reason = "one name serves for the type and the value")]
                let ($($name,)+) = self;
                $($name.each(add);)+
            }
        }
    };
}

tuples! { A }
tuples! { A B }
tuples! { A B C }
tuples! { A B C D }
tuples! { A B C D E }
tuples! { A B C D E F }
tuples! { A B C D E F G }
tuples! { A B C D E F G H }
