//! The assignments that an update takes.

use crate::build::expr::unfit::{EmptyUpdate, Operands};
use crate::tree::Assignment;

/// The assignments of an update: an [`Assignment`], an `Option` of one, a tuple or a `Vec` of them.
#[diagnostic::on_unimplemented(
    message = "`{Self}` is not an assignment",
    label = "expected `column.set(value)`, or a tuple of assignments"
)]
pub trait IntoAssignments {
    #[doc(hidden)]
    fn each(self, take: &mut dyn FnMut(Assignment));
}

impl IntoAssignments for ()
where
    for<'none> Operands: EmptyUpdate,
{
    fn each(self, _: &mut dyn FnMut(Assignment)) {}
}

impl IntoAssignments for Assignment {
    fn each(self, take: &mut dyn FnMut(Assignment)) {
        take(self);
    }
}

impl<A: IntoAssignments> IntoAssignments for Option<A> {
    fn each(self, take: &mut dyn FnMut(Assignment)) {
        if let Some(assignments) = self {
            assignments.each(take);
        }
    }
}

impl<A: IntoAssignments> IntoAssignments for Vec<A> {
    fn each(self, take: &mut dyn FnMut(Assignment)) {
        self.into_iter()
            .for_each(|assignments| assignments.each(take));
    }
}

macro_rules! assignments {
    ($($name:ident)+) => {
        impl<$($name: IntoAssignments),+> IntoAssignments for ($($name,)+) {
            #[allow(non_snake_case, reason = "one name serves for the type and the value")]
            fn each(self, take: &mut dyn FnMut(Assignment)) {
                let ($($name,)+) = self;
                $($name.each(take);)+
            }
        }
    };
}

for_each_tuple!(assignments, up_to_16);
