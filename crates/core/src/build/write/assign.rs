//! The assignments that an update takes.

use crate::build::expr::unfit::{EmptyUpdate, Operands};
use crate::build::table::Table;
use crate::model::{ColumnInfo, FieldValue};
use crate::tree::{Assignment, Node};

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

/// The struct of a partial update: every column that a program may set, each as an `Option`, where `None` leaves the column
/// as it is. `#[derive(Table)]` writes it for `#[nepheline(changes)]`: `SpecimenChanges` beside `Specimen`.
///
/// Keys, generated, carried and stamped columns, the version and the mark of retired rows are not in it. With
/// `changes(deserialize)` it is read from JSON and the like: an unknown field is an error, an absent one stays `None`, and
/// `null` is `Some(None)` of a nullable column.
pub trait ChangeValues: IntoAssignments {
    /// The table whose rows it changes.
    type Table: Table;

    /// Returns whether it changes nothing. Such an update is refused.
    fn is_empty(&self) -> bool;
}

/// Returns the assignment of a value to a column; a derive calls it.
#[doc(hidden)]
pub fn assignment(column: &'static ColumnInfo, value: &dyn FieldValue) -> Assignment {
    Assignment { column, value: Node::Bind(value.bind()) }
}
